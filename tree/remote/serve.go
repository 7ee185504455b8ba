package remote

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/tree"
)

// Handler serves folders to whoever knows the secret.
type Handler struct {
	Name    string // of the host
	Secret  string
	Version string // of the mover
	Build   string // SHA-256 of its program
	Folders []Served
	// Fronts and Edges answer what is about those; nil where none are kept. Updates receives another program.
	Fronts, Edges, Updates http.Handler
	// UpdateStatus is what the mover reports about updates; nil reports nothing.
	UpdateStatus func() (unable, reverted string)

	once  sync.Once
	mux   *http.ServeMux
	files files
}

// Served is a folder that is served.
type Served struct {
	Name, Path string
	Tree       tree.Tree
	// Sub opens a folder within it as a tree of its own.
	Sub func(ctx context.Context, name string) (tree.Tree, error)
	// Upload writes a file of t, which is the folder or one within it, to a tree that the host opens: see [tree.Uploader]. nil opens none.
	Upload func(ctx context.Context, sub string, t tree.Tree, u *tree.Upload) (tree.Uploaded, error)
}

// ServeHTTP answers calls.
func (h *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !h.knows(r) {
		w.Header().Set("WWW-Authenticate", "Bearer")
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	h.once.Do(func() {
		h.mux = http.NewServeMux()
		h.mux.HandleFunc("GET /v1/host", h.info)
		h.mux.HandleFunc("POST /v1/folders/{folder}/{call}", h.call)
		if h.Fronts != nil {
			h.mux.Handle("POST /v1/fronts/", h.Fronts)
		}
		if h.Edges != nil {
			h.mux.Handle("POST /v1/edges/", h.Edges)
		}
		if h.Updates != nil {
			h.mux.Handle("POST /v1/update", h.Updates)
		}
	})
	h.mux.ServeHTTP(w, r)
}

// knows compares secrets so that the time it takes tells nothing about them.
func (h *Handler) knows(r *http.Request) bool {
	shown, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	a, b := sha256.Sum256([]byte(shown)), sha256.Sum256([]byte(h.Secret))
	return ok && h.Secret != "" && subtle.ConstantTimeCompare(a[:], b[:]) == 1
}

func (h *Handler) info(w http.ResponseWriter, r *http.Request) {
	info := Info{Name: h.Name, Time: time.Now(), Version: h.Version, Build: h.Build, Folders: []Folder{}}
	for _, f := range h.Folders {
		told := Folder{Name: f.Name, Path: f.Path, Capabilities: f.Tree.Capabilities()}
		var err error
		if told.Space, err = f.Tree.Space(r.Context()); err != nil {
			told.Trouble = plainText(err)
		}
		info.Folders = append(info.Folders, told)
	}
	if h.UpdateStatus != nil {
		info.Unable, info.Reverted = h.UpdateStatus()
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(info)
}

// served is a call that is answered.
type served struct {
	*Handler
	ctx     context.Context
	folder  *Served
	tree    tree.Tree
	call    call
	content io.Reader
	w       http.ResponseWriter
	packs   bool // the caller can unpack
}

// answers are what answers calls. One that has an error to tell has not answered yet.
var answers = map[string]func(*served) error{
	"open-folder": (*served).openFolder, "stat": (*served).stat, "list": (*served).list, "put": (*served).put, "stage": (*served).stage, "flush": (*served).flush, "protect": (*served).protect,
	"stage-stub": (*served).stageStub, "offload": (*served).offload, "fetch": (*served).fetch, "mark": (*served).mark, "upload": (*served).upload,
	"assemble": (*served).assemble, "exchange": (*served).exchange, "mkdir": (*served).mkdir, "rename": (*served).rename, "remove": (*served).remove,
	"descriptor": (*served).descriptor, "apply": (*served).apply, "space": (*served).space, "may-write": (*served).mayWrite, "watch": (*served).watch,
	"open": (*served).open, "read": (*served).read, "current": (*served).current, "sum": (*served).sum, "chunks": (*served).chunks, "close": (*served).close,
}

func (h *Handler) call(w http.ResponseWriter, r *http.Request) {
	answer := answers[r.PathValue("call")]
	i := slices.IndexFunc(h.Folders, func(f Served) bool { return f.Name == r.PathValue("folder") })
	switch {
	case answer == nil:
		Fail(w, fmt.Errorf("%w: no call %q", tree.ErrUnsupported, r.PathValue("call")))
		return
	case i < 0:
		Fail(w, ErrNoFolder)
		return
	}
	s := &served{Handler: h, ctx: r.Context(), w: w, packs: strings.Contains(r.Header.Get("Accept-Encoding"), encoding)}
	end, err := s.begin(h.Folders[i], r)
	if err == nil {
		defer end()
		err = answer(s)
	}
	if err != nil {
		if f, _ := toFailure(err); f.Kind == "" && r.Context().Err() == nil {
			slog.Warn("a call failed", "folder", r.PathValue("folder"), "call", r.PathValue("call"), "error", err)
		}
		Fail(w, err)
	}
}

// begin reads the line of a call, and opens the tree that it is about.
func (s *served) begin(f Served, r *http.Request) (end func(), err error) {
	var body io.Reader = r.Body
	end = func() {}
	if r.Header.Get("Content-Encoding") == encoding {
		if body, end, err = unpack(body); err != nil {
			return nil, err
		}
	}
	reader := newReader(&unbroken{body, r})
	unpacked := end
	end = func() { dropReader(reader); unpacked() }
	most := mostAnswer
	if r.PathValue("call") == "assemble" {
		most = mostCall
	}
	line, err := readBounded(reader, most)
	if err == nil {
		err = json.Unmarshal(line, &s.call)
	}
	if err == nil {
		err = s.call.check()
	}
	if err != nil {
		end()
		return nil, fmt.Errorf("%w: the call cannot be read: %w", errCall, err)
	}
	s.content, s.folder, s.tree = reader, &f, f.Tree
	if s.call.Sub == "" || s.call.Sub == "." {
		return end, nil
	}
	if s.tree, err = f.Sub(s.ctx, s.call.Sub); err != nil {
		end()
		return nil, err
	}
	whole := end
	return func() { s.tree.Close(); whole() }, nil
}

// unbroken is the body of a request, which ends with an error when its sender says
// that it is not all.
type unbroken struct {
	body    io.Reader
	request *http.Request
}

func (u *unbroken) Read(p []byte) (int, error) {
	n, err := u.body.Read(p)
	if err == io.EOF && u.request.Trailer.Get(brokenOff) != "" {
		err = fmt.Errorf("%w: its sender broke off", tree.ErrTorn)
	}
	return n, err
}

var errCall = errors.New("bad call")

// check returns an error when a call asks for what cannot be.
func (c *call) check() error {
	o := c.Put.options()
	switch {
	case c.At < 0 || c.Length < 0 || o.At < 0 || o.Size < 0 || o.Size > mostSize:
		return fmt.Errorf("%w: a negative place or length", fs.ErrInvalid)
	case c.Sizes != nil && c.Sizes.Check() != nil:
		return fmt.Errorf("%w: %w", fs.ErrInvalid, c.Sizes.Check())
	case c.Meta != nil && !c.Meta.Modified.IsZero() && c.Meta.Modified.Year() > 9999:
		return fmt.Errorf("%w: a time in the year %d", fs.ErrInvalid, c.Meta.Modified.Year())
	}
	if c.Expected != nil && (c.Expected.Size < 0 || c.Expected.Size > mostSize) {
		return fmt.Errorf("%w: a file of %d bytes", fs.ErrInvalid, c.Expected.Size)
	}
	if c.Mark != nil && c.Mark.Path != "" {
		if err := tree.CheckName("mark", c.Mark.Path); err != nil {
			return err
		}
	}
	whole := int64(0)
	for _, p := range c.Parts {
		if p.At != whole || p.Length <= 0 || p.Length > mostSize-whole || p.From < -1 || p.From > mostSize {
			return fmt.Errorf("%w: a part of %d bytes at %d, from %d", fs.ErrInvalid, p.Length, p.At, p.From)
		}
		whole += p.Length
	}
	return nil
}

// Decode reads the JSON body of a call that is not about a tree, of at most so many bytes. See [Handler].Fronts and Edges.
func Decode(r *http.Request, most int64, into any) error {
	if err := json.NewDecoder(io.LimitReader(r.Body, most)).Decode(into); err != nil {
		return fmt.Errorf("%w: the call cannot be read: %w", fs.ErrInvalid, err)
	}
	return nil
}

// Reply answers such a call in JSON, or tells the error, which is logged.
func Reply(w http.ResponseWriter, r *http.Request, answer any, err error) {
	if err != nil {
		slog.Warn("a call failed", "call", r.URL.Path, "error", err)
		Fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(answer)
}

// Fail tells an error, as Host reads it.
func Fail(w http.ResponseWriter, err error) {
	f, status := toFailure(err)
	if errors.Is(err, errCall) {
		status = http.StatusBadRequest
	}
	w.Header().Del("Content-Encoding") // a listing has announced it already
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(answer{Error: f})
}

// reply answers with a line, and content behind it.
func (s *served) reply(a answer, content []byte) error {
	body, err := json.Marshal(a)
	if err != nil {
		return err
	}
	s.send(append(append(body, '\n'), content...))
	return nil
}

// send sends a body, compressed if that makes it shorter. That it does not arrive
// is the caller's to see.
func (s *served) send(body []byte) {
	if s.packs {
		if short, ok := shorter(body); ok {
			s.w.Header().Set("Content-Encoding", encoding)
			body = short
		}
	}
	_, _ = s.w.Write(body)
}

// answered answers with an entry, unless there is an error.
func (s *served) answered(e tree.Entry, err error) error {
	if err != nil {
		return err
	}
	return s.reply(answer{Entry: toWire(e)}, nil)
}

// done answers that something is done, unless there is an error.
func (s *served) done(err error) error {
	if err != nil {
		return err
	}
	return s.reply(answer{Last: true}, nil)
}
