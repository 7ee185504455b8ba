// Package cloud is a simulated cloud that ships with Bridge Span: object services that speak S3, one in each
// of its regions, with accounts, keys and quotas. It is strict where real services are, so that what works
// with it works with them, and can be told to be slow, to fail, and to lie about what it holds.
//
// It follows the public API reference of S3. What is stored survives the end of its process.
package cloud

import (
	"crypto/rand"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"bridgespan/guard"
)

// Right is something that a key may do.
type Right string

const (
	Lists   Right = "list"
	Reads   Right = "read"
	Writes  Right = "write"
	Deletes Right = "delete"
	Manages Right = "manage" // makes, sets up and removes buckets
)

// AllRights are those of a key without limits.
var AllRights = []Right{Lists, Reads, Writes, Deletes, Manages}

// Key is an access key of an account.
type Key struct {
	ID      string  `toml:"id"`
	Secret  string  `toml:"secret"`
	Account string  `toml:"account"`
	Rights  []Right `toml:"rights"`
}

// Region is where buckets are.
type Region struct {
	Name   string        `toml:"name"`
	Listen string        `toml:"listen"` // address and port of its service
	Delay  time.Duration `toml:"delay"`  // before each answer: it is far away
}

// Config is what a cloud is made of.
type Config struct {
	Dir     string // of what it holds
	Keys    []Key
	Regions []Region
	Now     func() time.Time // nil is the clock
}

// Cloud is a simulated cloud. [Cloud.Region] is what listens.
type Cloud struct {
	config Config
	mu     sync.Mutex
	keys   map[string]Key
	store  *store
	dials  Dials
}

// Open opens the cloud that is kept in a folder, and makes it when there is none. Close it.
func Open(c Config) (*Cloud, error) {
	kept, err := openStore(c.Dir)
	if err != nil {
		return nil, err
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	cloud := &Cloud{config: c, keys: map[string]Key{}, store: kept}
	for _, k := range c.Keys {
		cloud.keys[k.ID] = k
	}
	return cloud, nil
}

// AddKey lets a key in, beside those that it was opened with.
func (c *Cloud) AddKey(k Key) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.keys[k.ID] = k
}

func (c *Cloud) keyOf(id string) (Key, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k, known := c.keys[id]
	return k, known
}

// Close ends it; requests under way fail.
func (c *Cloud) Close() error { return c.store.close() }

// Dials are for making it fail.
func (c *Cloud) Dials() *Dials { return &c.dials }

// Region is the service of a region.
func (c *Cloud) Region(name string) http.Handler {
	var region Region
	for _, r := range c.config.Regions {
		if r.Name == name {
			region = r
		}
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := rand.Text()
		out := &outlet{ResponseWriter: w}
		w.Header().Set("X-Amz-Request-Id", id)
		var refused *Error
		err := guard.Do(func() {
			if refused = c.dials.meddle(out, r, region.Delay); refused == nil {
				refused = c.serve(out, r, name)
			}
		})
		if err != nil {
			refused = refuse(http.StatusInternalServerError, "InternalError", "We encountered an internal error. Please try again.")
		}
		if refused != nil && !out.gone {
			answerError(out, r, refused, id)
		}
	})
}

func answerError(w http.ResponseWriter, r *http.Request, e *Error, id string) {
	slog.Debug("a request to the cloud is refused", "method", r.Method, "path", r.URL.Path, "code", e.Code, "message", e.Message)
	e.RequestID = id
	if e.Resource == "" {
		e.Resource = r.URL.Path
	}
	if e.Status >= 500 || r.ContentLength > 0 { // what was not read of the content must not be taken for a request
		w.Header().Set("Connection", "close")
	}
	if e.Status == http.StatusNotModified || r.Method == http.MethodHead {
		w.WriteHeader(e.Status)
		return
	}
	answer(w, e.Status, e)
}

// answer sends a value as XML.
func answer(w http.ResponseWriter, status int, value any) {
	text, err := xml.Marshal(value)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/xml")
	w.Header().Set("Content-Length", fmt.Sprint(len(xml.Header)+len(text)))
	w.WriteHeader(status)
	_, _ = io.WriteString(w, xml.Header+string(text))
}

// request is one that is being served.
type request struct {
	*Cloud
	w       http.ResponseWriter
	r       *http.Request
	region  string
	key     Key
	secret  string
	signed  *signed
	name    string // of the bucket
	object  string // key of the object
	content io.Reader
	length  int64
}

// serve does what a request asks for.
func (c *Cloud) serve(w http.ResponseWriter, r *http.Request, region string) *Error {
	q := &request{Cloud: c, w: w, r: r, region: region}
	if err := q.authenticate(); err != nil {
		return err
	}
	q.name, q.object, _ = strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	var err *Error
	if q.content, q.length, err = payload(r, q.signed, q.secret); err != nil {
		return err
	}
	switch {
	case q.name == "":
		return q.listBuckets()
	case q.object == "":
		return q.serveBucket()
	}
	return q.serveObject()
}

// authenticate finds out who asks. There are no anonymous requests.
func (q *request) authenticate() *Error {
	s, err := parseSigned(q.r)
	if err != nil {
		return err
	}
	if s == nil {
		return accessDenied("Anonymous access is forbidden for this operation")
	}
	key, known := q.keyOf(s.key)
	if !known {
		return refuse(http.StatusForbidden, "InvalidAccessKeyId", "The AWS Access Key Id you provided does not exist in our records.")
	}
	if err := s.check(q.r, key.Secret, q.region, q.config.Now()); err != nil {
		return err
	}
	q.key, q.secret, q.signed = key, key.Secret, s
	return nil
}

// may refuses what the key has no right to.
func (q *request) may(right Right) *Error {
	for _, r := range q.key.Rights {
		if r == right {
			return nil
		}
	}
	return accessDenied("User is not authorized to perform: %s", right)
}

// read reads the whole content of a request that is a document.
func (q *request) read(into any) *Error {
	const most = 2 << 20
	text, err := io.ReadAll(io.LimitReader(q.content, most+1))
	if refused := asError(err); refused != nil {
		return refused
	}
	if len(text) > most || xml.Unmarshal(text, into) != nil {
		return refuse(http.StatusBadRequest, "MalformedXML", "The XML you provided was not well-formed or did not validate against our published schema.")
	}
	return nil
}
