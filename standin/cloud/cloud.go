// Package cloud is a simulated cloud that ships with Bridge Span: one S3 object service for each of its
// regions, with accounts, keys and quotas. It is as strict as real services, so that a client that works
// with it works with them. Faults can be turned on: slow answers, errors, outages and stale listings.
//
// It follows the public API reference of S3. Stored data survives the end of the process.
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

// Right is an operation that a key is allowed to do.
type Right string

const (
	Lists   Right = "list"
	Reads   Right = "read"
	Writes  Right = "write"
	Deletes Right = "delete"
	Manages Right = "manage" // create, configure and delete buckets
)

// AllRights is the list for a key without limits.
var AllRights = []Right{Lists, Reads, Writes, Deletes, Manages}

// Key is an access key of an account.
type Key struct {
	ID      string  `toml:"id"`
	Secret  string  `toml:"secret"`
	Account string  `toml:"account"`
	Rights  []Right `toml:"rights"`
}

// Region is the location of a set of buckets.
type Region struct {
	Name   string        `toml:"name"`
	Listen string        `toml:"listen"` // address and port
	Delay  time.Duration `toml:"delay"`  // added to each answer, to simulate distance
	// Prices per GB: stored for a month, and read.
	StoredPrice float64 `toml:"stored_price,omitempty"`
	OutPrice    float64 `toml:"out_price,omitempty"`
}

// Config describes a cloud.
type Config struct {
	Dir     string // of settings and data
	Keys    []Key
	Regions []Region
	Now     func() time.Time // nil: the system clock
}

// Cloud is a simulated cloud. [Cloud.Region] returns the handler of a region.
type Cloud struct {
	config Config
	mu     sync.Mutex
	keys   map[string]Key
	store  *store
	dials  Dials
	out    map[string]int64 // bytes read, by bucket; while mu is held
	// receivers of events, by bucket; while mu is held
	receivers map[string]*receiver
}

// Open opens the cloud in a folder, and creates it when there is none. The caller must call Close.
func Open(c Config) (*Cloud, error) {
	kept, err := openStore(c.Dir)
	if err != nil {
		return nil, err
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	cloud := &Cloud{config: c, keys: map[string]Key{}, store: kept, receivers: map[string]*receiver{}}
	for _, k := range c.Keys {
		cloud.keys[k.ID] = k
	}
	return cloud, nil
}

// AddKey adds a key to those that the cloud was opened with.
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

// Close closes the store. Requests in progress fail.
func (c *Cloud) Close() error {
	c.mu.Lock()
	c.endReceivers()
	c.mu.Unlock()
	return c.store.close()
}

// Dials returns the faults of the cloud.
func (c *Cloud) Dials() *Dials { return &c.dials }

// Region returns the handler of a region.
func (c *Cloud) Region(name string) http.Handler {
	var region Region
	for _, r := range c.config.Regions {
		if r.Name == name {
			region = r
		}
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := rand.Text()
		out := &closableWriter{ResponseWriter: w}
		w.Header().Set("X-Amz-Request-Id", id)
		var refused *Error
		err := guard.Do(func() {
			if refused = c.dials.applyFaults(out, r, region.Delay); refused == nil {
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
	if e.Status >= 500 || r.ContentLength > 0 { // unread content must not be parsed as the next request
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

// request is a request in progress.
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

// serve dispatches a request.
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

// authenticate returns the key that signed the request. Anonymous requests are refused.
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

// may returns an error unless the key has a right.
func (q *request) may(right Right) *Error {
	for _, r := range q.key.Rights {
		if r == right {
			return nil
		}
	}
	return accessDenied("User is not authorized to perform: %s", right)
}

// read decodes the XML document of a request.
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
