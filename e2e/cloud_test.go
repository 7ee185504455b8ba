package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"

	"bridgespan/e2e/harness"
	"bridgespan/standin/cloud"
	"bridgespan/standin/process"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// haar is the simulated cloud as a program of its own.
type haar struct {
	*testing.T
	dir, listen, control string
	process              *process.Process
	key                  cloud.Key
}

func startCloud(t *testing.T) *haar {
	t.Helper()
	h := &haar{T: t, dir: t.TempDir()}
	for _, at := range []*string{&h.listen, &h.control} {
		port, err := process.FreePort("127.0.0.1")
		if err != nil {
			t.Fatal(err)
		}
		*at = fmt.Sprint("127.0.0.1:", port)
	}
	h.start()
	text, err := os.ReadFile(filepath.Join(h.dir, "cloud.toml"))
	var kept struct{ Keys []cloud.Key }
	if err == nil {
		err = toml.Unmarshal(text, &kept)
	}
	if err != nil || len(kept.Keys) != 1 {
		t.Fatalf("its settings: %d keys, %v", len(kept.Keys), err)
	}
	h.key = kept.Keys[0]
	return h
}

func (h *haar) start() {
	h.Helper()
	p, err := process.Start("cloud", exec.Command(harness.Program(h, "bspand"), "standin", "cloud", "--dir", h.dir, "--region", "coast-1="+h.listen, "--control", h.control), filepath.Join(h.dir, "log"))
	if err == nil {
		h.process = p
		h.Cleanup(func() { p.Stop(5 * time.Second) })
		err = p.Await(process.Dial(h.listen), 20*time.Second)
	}
	if err != nil {
		h.Fatal(err)
	}
}

// s3cmd runs a client that others wrote.
func (h *haar) s3cmd(args ...string) string {
	h.Helper()
	file := filepath.Join(h.dir, "s3cmd")
	text := fmt.Sprintf("[default]\naccess_key = %s\nsecret_key = %s\nhost_base = %s\nhost_bucket = %s\nuse_https = False\nbucket_location = coast-1\n", h.key.ID, h.key.Secret, h.listen, h.listen)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		h.Fatal(err)
	}
	said, err := exec.Command("s3cmd", append([]string{"-c", file, "--no-progress"}, args...)...).CombinedOutput()
	if err != nil {
		h.Fatalf("s3cmd %q: %v\n%s", args, err, said)
	}
	return string(said)
}

// aws runs another client that others wrote, which sends long files in parts.
func (h *haar) aws(args ...string) string {
	h.Helper()
	cmd := exec.Command("/usr/bin/aws", append([]string{"--endpoint-url", "http://" + h.listen, "--no-cli-pager"}, args...)...)
	cmd.Env = append(os.Environ(), "AWS_ACCESS_KEY_ID="+h.key.ID, "AWS_SECRET_ACCESS_KEY="+h.key.Secret, "AWS_DEFAULT_REGION=coast-1", "AWS_EC2_METADATA_DISABLED=true", "AWS_CONFIG_FILE="+os.DevNull, "AWS_SHARED_CREDENTIALS_FILE="+os.DevNull)
	said, err := cmd.CombinedOutput()
	if err != nil {
		h.Fatalf("aws %q: %v\n%s", args, err, said)
	}
	return string(said)
}

func (h *haar) open(name string) *bucket.Tree {
	h.Helper()
	b, err := bucket.Dial(h.Context(), bucket.Target{Endpoint: h.listen, Plain: true, Region: "coast-1", Bucket: name, PathStyle: true, Key: h.key.ID, Secret: h.key.Secret})
	if err != nil {
		h.Fatal(err)
	}
	h.Cleanup(func() { b.Close() })
	return b
}

// What we put into a bucket others read as the plain file, and what they put there we do.
func TestCloudWithOthers(t *testing.T) {
	h := startCloud(t)
	h.s3cmd("mb", "s3://trust-files")
	b := h.open("trust-files")
	long := make([]byte, 20<<20)
	_, _ = rand.Read(long)
	for name, content := range map[string][]byte{"herbarium/fern ü.txt": []byte("a fern"), "herbarium/long": long} {
		if _, err := b.Put(t.Context(), name, bytes.NewReader(content), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		to := filepath.Join(t.TempDir(), "read")
		h.s3cmd("get", "s3://trust-files/"+name, to)
		if got, err := os.ReadFile(to); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%s: others read %d bytes, %v", name, len(got), err)
		}
		h.s3cmd("put", to, "s3://trust-files/of others/"+name)
		if got, err := tree.ReadFile(t.Context(), b, "of others/"+name); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%s: of others we read %d bytes, %v", name, len(got), err)
		}
	}
	copied := t.TempDir()
	h.aws("s3", "sync", "s3://trust-files/herbarium", copied)
	if got, err := os.ReadFile(filepath.Join(copied, "long")); err != nil || !bytes.Equal(got, long) {
		t.Errorf("another client has %d bytes, %v", len(got), err)
	}
	h.aws("s3", "cp", filepath.Join(copied, "long"), "s3://trust-files/of others/in parts")
	if got, err := tree.ReadFile(t.Context(), b, "of others/in parts"); err != nil || !bytes.Equal(got, long) {
		t.Errorf("of another client we read %d bytes, %v", len(got), err)
	}
	if said := h.aws("s3api", "head-object", "--bucket", "trust-files", "--key", "herbarium/fern ü.txt"); !strings.Contains(strings.ToLower(said), "bspan-hash") {
		t.Errorf("the metadata is %s", said)
	}
	h.s3cmd("mv", "s3://trust-files/herbarium/long", "s3://trust-files/moved")
	var names []string
	for e, err := range tree.Walk(t.Context(), b, ".", tree.Plain) {
		if err != nil {
			t.Fatal(err)
		}
		if e.Kind == tree.File {
			names = append(names, e.Path)
		}
	}
	if got := strings.Join(names, "; "); !strings.Contains(got, "herbarium/fern ü.txt") || !strings.Contains(got, "moved") || len(names) != 5 {
		t.Errorf("the bucket holds %s", got)
	}
}

// A service that is killed in the middle of an upload has nothing of the file afterwards, and all else.
func TestCloudKilled(t *testing.T) {
	t.Parallel()
	h := startCloud(t)
	h.s3cmd("mb", "s3://trust-files")
	b := h.open("trust-files")
	if _, err := b.Put(t.Context(), "kept", strings.NewReader("kept"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	half := func() io.Reader { return io.LimitReader(zeroes{}, 40<<20) }
	source := io.MultiReader(half(), onRead(h.process.Kill), half())
	if _, err := b.Put(ctx, "long", source, tree.PutOptions{}); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("while it is killed: %v", err)
	}
	h.start()
	again := h.open("trust-files")
	if text, err := tree.ReadFile(t.Context(), again, "kept"); err != nil || string(text) != "kept" {
		t.Errorf("what was there: %q, %v", text, err)
	}
	if _, err := again.Stat(t.Context(), "long"); err == nil {
		t.Error("half a file is there")
	}
}

// onRead is an empty part of a source that does something when it is reached.
type onRead func()

func (f onRead) Read([]byte) (int, error) { f(); return 0, io.EOF }

// zeroes is an endless source.
type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) { clear(p); return len(p), nil }
