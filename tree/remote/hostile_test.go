package remote_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"bridgespan/core/chunk"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/remote"
)

// hostile is a mover that answers each call with what it is given.
type hostile struct {
	body      atomic.Pointer[[]byte]
	packed    atomic.Bool
	distrusts atomic.Int64
	target    remote.Target
	tree      *remote.Tree
}

const (
	honestInfo = `{"name":"reed","time":"2026-01-01T00:00:00Z","folders":[{"name":"herbarium","path":"/srv/herbarium"}]}`
	honestTop  = `{"entry":{"name":".","kind":1},"capabilities":{}}` + "\n"
)

func newHostile(t testing.TB) *hostile {
	t.Helper()
	h := &hostile{}
	h.target = answering(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		if h.packed.Load() {
			w.Header().Set("Content-Encoding", "zstd")
		}
		_, _ = w.Write(*h.body.Load())
	})
	h.target.Untrusted = func(error) { h.distrusts.Add(1) }
	h.says([]byte(honestInfo))
	h.tree = openAt(t, h.target, func() { h.says([]byte(honestTop)) })
	return h
}

// answering is a mover that answers as a function does.
func answering(t testing.TB, answer http.HandlerFunc) remote.Target {
	t.Helper()
	server := httptest.NewUnstartedServer(answer)
	server.EnableHTTP2 = true
	server.StartTLS()
	t.Cleanup(server.Close)
	return remote.Target{Address: server.Listener.Addr().String(), Secret: secret, Fingerprint: remote.Fingerprint(server.Certificate().Raw), Timeout: 5 * time.Second}
}

// openAt opens the folder herbarium of a mover, after it was dialed and dialed was called.
func openAt(t testing.TB, target remote.Target, dialed func()) *remote.Tree {
	t.Helper()
	host, _, err := remote.Dial(t.Context(), target)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { host.Close() })
	dialed()
	opened, err := host.Tree(t.Context(), "herbarium", "")
	if err != nil {
		t.Fatal(err)
	}
	return opened
}

// welcomed answers what is asked first: what a mover serves, and what its folder is.
func welcomed(w http.ResponseWriter, r *http.Request) bool {
	switch path.Base(r.URL.Path) {
	case "host":
		_, _ = io.WriteString(w, honestInfo)
	case "open-folder":
		_, _ = io.WriteString(w, honestTop)
	default:
		return false
	}
	return true
}

func (h *hostile) says(body []byte) { h.body.Store(&body) }

// everything calls all that reads an answer, and returns the first error of distrust.
func (h *hostile) everything(ctx context.Context) error {
	var all []error
	note := func(err error) {
		if errors.Is(err, tree.ErrUntrusted) {
			all = append(all, err)
		}
	}
	_, err := h.tree.Stat(ctx, "leaf")
	note(err)
	for _, err := range h.tree.List(ctx, "folder", tree.Plain) {
		note(err)
	}
	for _, err := range h.tree.Watch(ctx) {
		note(err)
		break
	}
	_, err = h.tree.Descriptor(ctx, "leaf")
	note(err)
	_, err = h.tree.Space(ctx)
	note(err)
	_, err = h.tree.Upload(ctx, &tree.Upload{Name: "fern", To: "leaf"})
	note(err)
	c, err := h.tree.Open(ctx, "leaf")
	note(err)
	if err == nil {
		_, err = c.ReadAt(make([]byte, 100), 0)
		note(err)
		_, err = tree.Sum(ctx, c, tree.BLAKE3, nil)
		note(err)
		_, err = tree.Chunks(ctx, c, chunk.For(1<<20))
		note(err)
		note(c.Close())
	}
	return errors.Join(all...)
}

// allocated is how many bytes something allocates.
func allocated(do func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	do()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}

// Whatever a mover answers, nothing panics, nothing is reserved by what it says, and it is
// trusted no longer.
func TestHostileAnswers(t *testing.T) {
	open := `{"entry":{"name":"leaf","kind":0,"size":1048576},"file":"f"`
	for name, body := range map[string]string{
		"a negative size":          `{"entry":{"name":"leaf","size":-1}}`,
		"a size beyond all":        `{"entry":{"name":"leaf","size":9223372036854775807}}`,
		"much inline":              `{"entry":{"name":"leaf","size":1152921504606846976}}`,
		"no number":                `{"entry":{"name":"leaf","size":"many"}}`,
		"a long line":              `{"entry":{"name":"` + strings.Repeat("n", 2<<20) + `"}}`,
		"a long name":              `{"entry":{"name":"` + strings.Repeat("n", 2000) + `"}}`,
		"a name that leads out":    `{"entry":{"name":"../../etc/passwd"}}`,
		"another name":             `{"entry":{"name":"root"}}`,
		"no name":                  `{"entry":{}}`,
		"nothing":                  `{}`,
		"a strange kind":           `{"entry":{"name":"leaf","kind":77}}`,
		"an entry without a name":  `{"entry":{"name":"."}}`,
		"very many chunks":         open + `,"chunks":2147483647,"digest":"AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="}`,
		"chunks of nothing":        open + `,"chunks":3,"digest":"AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="}` + "\n" + strings.Repeat("\x00", 200),
		"a short hash":             open + `,"digest":"AAAA"}`,
		"a change somewhere else":  `{"folder":"../.."}`,
		"a descriptor of nonsense": `{"entry":{"name":"leaf","descriptor":"O:nonsense"}}`,
		"not JSON":                 "\x00\xff\xfe nothing of that kind",
		"JSON that is no answer":   `[1,2,3]`,
		"very deep JSON":           strings.Repeat(`{"entry":`, 100_000),
		"a time that cannot be":    `{"entry":{"name":"leaf","modified":"9999999-01-01T00:00:00Z"}}`,
		"a time that is none":      `{"entry":{"name":"leaf","modified":7}}`,
		"an allocation below zero": `{"entry":{"name":"leaf","allocated":-5}}`,
		"a name with a NUL":        `{"entry":{"name":"le\u0000af"}}`,
	} {
		t.Run(name, func(t *testing.T) {
			h := newHostile(t)
			h.says([]byte(body + "\n"))
			var err error
			most := uint64(32<<20 + 40*len(body))
			if n := allocated(func() { err = h.everything(t.Context()) }); n > most {
				t.Errorf("%d bytes were allocated for %d", n, len(body))
			}
			if err == nil || h.distrusts.Load() != 1 {
				t.Errorf("%v, told %d times", err, h.distrusts.Load())
			}
		})
	}
}

// A little that unpacks to very much is read no further than a line may be long.
func TestPackedBombs(t *testing.T) {
	var small bytes.Buffer
	w, err := zstd.NewWriter(&small, zstd.WithWindowSize(1<<20))
	if err != nil {
		t.Fatal(err)
	}
	zeros := bytes.Repeat([]byte{'0'}, 1<<20)
	for range 500 {
		if _, err := w.Write(zeros); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	h := newHostile(t)
	h.says(small.Bytes())
	h.packed.Store(true)
	var bad error
	if n := allocated(func() { _, bad = h.tree.Stat(t.Context(), "leaf") }); n > 64<<20 {
		t.Errorf("%d bytes were allocated for %d", n, small.Len())
	}
	if !errors.Is(bad, tree.ErrUntrusted) {
		t.Error(bad)
	}
	// And as a call, at the other end.
	m := serve(t, map[string]tree.Tree{"herbarium": &memory.Tree{}})
	var status int
	n := allocated(func() { status = m.post(t, "folders/herbarium/stat", small.Bytes(), "zstd") })
	if status != http.StatusBadRequest || n > 64<<20 {
		t.Errorf("a call: status %d, %d bytes allocated", status, n)
	}
}

// post calls a mover with a body of one's own.
func (m *mover) post(t testing.TB, path string, body []byte, encoding string) int {
	t.Helper()
	response := m.called(t, path, body, encoding)
	defer response.Body.Close()
	_, _ = io.Copy(io.Discard, response.Body)
	return response.StatusCode
}

// called is post with the answer, which the caller must close.
func (m *mover) called(t testing.TB, path string, body []byte, encoding string) *http.Response {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, m.server.URL+"/v1/"+path, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+secret)
	if encoding != "" {
		r.Header.Set("Content-Encoding", encoding)
	}
	response, err := m.server.Client().Do(r)
	if err != nil {
		t.Fatal(err)
	}
	return response
}

// A listing without an end is read until it is longer than any.
func TestListingsEnd(t *testing.T) {
	if testing.Short() {
		t.Skip("reads 512 MiB")
	}
	tr := openAt(t, answering(t, func(w http.ResponseWriter, r *http.Request) {
		if welcomed(w, r) {
			return
		}
		lines := []byte(strings.Repeat(`{"entry":{"name":"`+strings.Repeat("n", 1000)+`"}}`+"\n", 100))
		for r.Context().Err() == nil {
			if _, err := w.Write(lines); err != nil {
				return
			}
		}
	}), func() {})
	var err error
	listed := 0
	for _, bad := range tr.List(t.Context(), ".", tree.Plain) {
		listed++
		err = bad
	}
	if !errors.Is(err, tree.ErrUntrusted) || listed > 600_000 {
		t.Errorf("%d entries, then %v", listed, err)
	}
}

// What a mover says of itself is bounded, and can be shown.
func TestHostileInfo(t *testing.T) {
	folders := func(n int, one string) string {
		return `{"name":"reed","folders":[` + strings.TrimSuffix(strings.Repeat(one+",", n), ",") + `]}`
	}
	for name, body := range map[string]string{
		"many folders":          folders(1001, `{"name":"a","path":"/a"}`),
		"a folder that is none": folders(1, `{"name":"..","path":"/a"}`),
		"control characters":    folders(1, `{"name":"a\u001b[31m","path":"/a"}`),
		"a long answer":         `{"name":"` + strings.Repeat("n", 2<<20) + `"}`,
		"nothing":               ``,
	} {
		h := newHostile(t)
		h.says([]byte(body))
		_, _, err := remote.Dial(t.Context(), h.target)
		if !errors.Is(err, tree.ErrUntrusted) {
			t.Errorf("%s: %v", name, err)
		}
	}
	h := newHostile(t)
	h.says([]byte(`{"error":{"text":"red \u001b[31m` + strings.Repeat("x", 5000) + `"}}` + "\n"))
	if _, err := h.tree.Stat(t.Context(), "leaf"); err == nil || strings.ContainsRune(err.Error(), 0x1b) || len(err.Error()) > 1200 {
		t.Errorf("an error is shown as it came: %d bytes", len(fmt.Sprint(err)))
	}
}

// Nor does a mover believe whoever calls it.
func TestHostileCalls(t *testing.T) {
	m := serve(t, map[string]tree.Tree{"herbarium": localFolder(t)})
	for name, c := range map[string]struct{ call, line string }{
		"a negative place":      {"read", `{"name":"a","file":"f","at":-1,"length":10}`},
		"a negative length":     {"open", `{"name":"a","length":-1}`},
		"a negative size":       {"put", `{"name":"a","put":{"size":-1}}`},
		"a hole":                {"assemble", `{"name":"a","other":"b","parts":[{"At":5,"Length":5,"From":0}]}`},
		"parts of nothing":      {"assemble", `{"name":"a","other":"b","parts":[{"At":0,"Length":0,"From":0}]}`},
		"parts beyond all":      {"assemble", `{"name":"a","other":"b","parts":[{"At":0,"Length":9223372036854775807,"From":0}]}`},
		"sizes of nothing":      {"chunks", `{"name":"a","file":"f","sizes":{"Min":0,"Average":0,"Max":0}}`},
		"a name that is out":    {"stat", `{"name":"../a"}`},
		"a folder that is out":  {"stat", `{"name":"a","sub":"../.."}`},
		"a long line":           {"stat", `{"name":"` + strings.Repeat("n", 2<<20) + `"}`},
		"not JSON":              {"stat", "\x00\x01"},
		"an upload that is out": {"upload", `{"name":"a","other":"../b","length":10,"expected":{"name":"a","size":3}}`},
		"a file of nothing":     {"upload", `{"name":"a","other":"b","expected":{"name":"a","size":-1}}`},
		"a file beyond all":     {"upload", `{"name":"a","other":"b","expected":{"name":"a","size":9223372036854775807}}`},
		"a call of nobody":      {"burn", `{}`},
	} {
		if status := m.post(t, "folders/herbarium/"+c.call, []byte(c.line+"\n"), ""); status < 400 || status == http.StatusInternalServerError {
			t.Errorf("%s: status %d", name, status)
		}
	}
}

// A mover that takes calls and answers nothing, or only the beginning, is not waited for.
func TestIdleMover(t *testing.T) {
	end := make(chan struct{})
	target := answering(t, func(w http.ResponseWriter, r *http.Request) {
		if welcomed(w, r) {
			return
		}
		if path.Base(r.URL.Path) == "list" {
			_, _ = io.WriteString(w, `{"entry":{"name":"leaf"}}`+"\n")
			_ = http.NewResponseController(w).Flush()
		}
		<-end
	})
	t.Cleanup(func() { close(end) })
	target.IdleTimeout = 100 * time.Millisecond
	tr := openAt(t, target, func() {})
	var err error
	if _, err := tr.Stat(t.Context(), "leaf"); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("no answer: %v", err)
	}
	for _, err = range tr.List(t.Context(), ".", tree.Plain) {
	}
	if !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("half an answer: %v", err)
	}
	if _, err := tr.Put(t.Context(), "leaf", strings.NewReader("text"), tree.PutOptions{}); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("no answer to what was sent: %v", err)
	}
}

// FuzzAnswers lets a mover answer with anything.
func FuzzAnswers(f *testing.F) {
	for _, line := range []string{honestTop, `{"entry":{"name":"leaf","size":3}}` + "\nabc", `{"entry":{"name":"leaf","size":-1}}` + "\n", `{"entry":{"name":"leaf","size":9999},"file":"x","chunks":9,"digest":"AA=="}` + "\n", `{"last":true}` + "\n", `{"error":{"kind":"missing","text":"x"}}` + "\n", `{"space":{"total":-1}}` + "\n"} {
		f.Add([]byte(line))
	}
	h := newHostile(f)
	f.Fuzz(func(t *testing.T, body []byte) {
		h.says(body)
		if n := allocated(func() { _ = h.everything(t.Context()) }); n > uint64(32<<20+40*len(body)) {
			t.Errorf("%d bytes were allocated for %d", n, len(body))
		}
	})
}

// FuzzCalls lets anybody who knows the secret call a mover with anything.
func FuzzCalls(f *testing.F) {
	calls := []string{"open-folder", "stat", "list", "put", "stage", "assemble", "exchange", "mkdir", "rename", "remove", "descriptor", "apply", "space", "may-write", "open", "read", "current", "sum", "chunks", "close", "upload"}
	for i := range calls {
		line, _ := json.Marshal(map[string]any{"name": "a", "other": "b", "length": 10, "parts": []chunk.Part{{Length: 3, From: -1}}, "sizes": chunk.For(1)})
		f.Add(uint8(i), append(line, "\nabc"...))
	}
	m := serve(f, map[string]tree.Tree{"herbarium": &memory.Tree{}})
	f.Fuzz(func(t *testing.T, which uint8, body []byte) {
		n := allocated(func() {
			m.post(t, "folders/herbarium/"+calls[int(which)%len(calls)], body, "")
		})
		if n > uint64(32<<20+40*len(body)) {
			t.Errorf("%d bytes were allocated for %d", n, len(body))
		}
	})
}
