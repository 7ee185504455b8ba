package remote_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"net/http"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/tree"
	"bridgespan/tree/remote"
)

const long = 3 << 20 // bytes of a file that is granted in several steps

var zeroDigest = base64.StdEncoding.EncodeToString(make([]byte, len(chunk.Digest{})))

// talking is a mover that answers an upload with lines, and then waits for its caller to end.
func talking(t *testing.T, timeout time.Duration, lines ...string) *remote.Tree {
	t.Helper()
	target := answering(t, func(w http.ResponseWriter, r *http.Request) {
		if welcomed(w, r) {
			return
		}
		if path.Base(r.URL.Path) == "upload" {
			_, _ = io.WriteString(w, strings.Join(lines, "\n")+"\n")
			_ = http.NewResponseController(w).Flush()
		}
		_, _ = io.Copy(io.Discard, r.Body)
	})
	target.IdleTimeout = timeout
	return openAt(t, target, func() {})
}

func longUpload(pace func(context.Context, int) error) *tree.Upload {
	return &tree.Upload{Name: "fern", To: "leaf", Expected: tree.Entry{Size: long}, Pace: pace}
}

// A mover gets no more than the file is long, and only step by step. What it says of what it wrote is checked.
func TestUploadAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		lines []string
		want  error
	}{
		"written":           {[]string{`{"begun":true}`, `{"wanted":2097152}`, `{"wanted":3145728}`, `{"entry":{"name":"leaf"},"digest":"` + zeroDigest + `"}`}, nil},
		"beyond the file":   {[]string{`{"wanted":2097152}`, `{"wanted":3145729}`}, tree.ErrUntrusted},
		"all at once":       {[]string{`{"wanted":3145728}`}, tree.ErrUntrusted},
		"another name":      {[]string{`{"entry":{"name":"fern"},"digest":"` + zeroDigest + `"}`}, tree.ErrUntrusted},
		"a short hash":      {[]string{`{"entry":{"name":"leaf"},"digest":"AAAA"}`}, tree.ErrUntrusted},
		"refused":           {[]string{`{"begun":true}`, `{"error":{"kind":"version","text":"another"}}`}, tree.ErrVersion},
		"nothing more":      {[]string{`{"begun":true}`}, tree.ErrUnreachable},
		"no answer at once": {[]string{""}, tree.ErrUnreachable},
	} {
		timeout := time.Minute
		if c.want == tree.ErrUnreachable {
			timeout = 200 * time.Millisecond
		}
		tr := talking(t, timeout, c.lines...)
		var paced []int
		_, err := tr.Upload(t.Context(), longUpload(func(_ context.Context, n int) error { paced = append(paced, n); return nil }))
		if !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
		if slices.Max(paced) > 1<<20 {
			t.Errorf("%s: paced %d", name, paced)
		}
	}
	tr := talking(t, time.Minute, `{"away":{"text":"the bucket is away"}}`)
	if done, err := tr.Upload(t.Context(), longUpload(nil)); err != nil || !errors.Is(done.Failed, tree.ErrUnreachable) || !strings.Contains(done.Failed.Error(), "bucket is away") {
		t.Errorf("the bucket is away: %v, %v", done.Failed, err)
	}
}

// A mover that waits for us is not idle.
func TestUploadWaits(t *testing.T) {
	const timeout = 500 * time.Millisecond
	idle := talking(t, timeout, `{"begun":true}`)
	tr := talking(t, timeout, `{"wanted":2097152}`, `{"entry":{"name":"leaf"},"digest":"`+zeroDigest+`"}`)
	// While it waits for us, another one is given up that answers nothing for as long.
	asked := 0
	_, err := tr.Upload(t.Context(), longUpload(func(ctx context.Context, _ int) error {
		if asked++; asked == 1 { // with the call
			return nil
		}
		if _, err := idle.Upload(ctx, longUpload(nil)); !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("an idle mover: %v", err)
		}
		return nil
	}))
	if err != nil || asked != 2 {
		t.Errorf("paced %d times, %v", asked, err)
	}
	stop := errors.New("the lane is closed")
	if _, err := tr.Upload(t.Context(), longUpload(func(context.Context, int) error { return stop })); !errors.Is(err, stop) {
		t.Errorf("a lane that closes: %v", err)
	}
}

// A caller grants what was asked for, in order.
func TestUploadGrants(t *testing.T) {
	grants := func(totals ...uint64) (all []byte) {
		for _, n := range totals {
			all = binary.BigEndian.AppendUint64(all, n)
		}
		return all
	}
	for name, c := range map[string]struct {
		grants []byte
		ok     bool
	}{
		"in steps":          {grants(1<<20, 2<<20, long), true},
		"more than asked":   {grants(1<<20, 1<<62), false},
		"less than before":  {grants(2<<20, 1<<20), false},
		"a negative number": {grants(1 << 63), false},
		"too few":           {grants(1 << 20), false},
		"half a number":     {grants(1 << 20)[:5], false},
	} {
		m := serve(t, map[string]tree.Tree{"herbarium": localFolder(t)})
		m.Folders[0].Upload = func(ctx context.Context, _ string, _ tree.Tree, u *tree.Upload) (done tree.Uploaded, err error) {
			for range long / (256 << 10) {
				if err := u.Pace(ctx, 256<<10); err != nil {
					return done, err
				}
			}
			done.Entry.Name = u.To
			return done, nil
		}
		body := append([]byte(`{"name":"fern","other":"leaf","expected":{"name":"fern","size":3145728}}`+"\n"), c.grants...)
		response := m.called(t, "folders/herbarium/upload", body, "")
		answer, err := io.ReadAll(response.Body)
		if err := errors.Join(err, response.Body.Close()); err != nil {
			t.Fatal(err)
		}
		if ok := bytes.Contains(answer, []byte(`"entry"`)); ok != c.ok || !c.ok && !bytes.Contains(answer, []byte(`"error"`)) {
			t.Errorf("%s: %s", name, answer)
		}
	}
}
