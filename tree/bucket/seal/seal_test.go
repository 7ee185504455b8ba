package seal_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"filippo.io/age"
	"github.com/zeebo/blake3"

	"bridgespan/tree/bucket/seal"
)

func newKey(t testing.TB) *seal.Key {
	t.Helper()
	k, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func sealed(t testing.TB, k *seal.Key, content io.Reader) []byte {
	t.Helper()
	f, err := k.NewFile()
	if err != nil {
		t.Fatal(err)
	}
	out, err := io.ReadAll(f.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func random(size int) []byte {
	p := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(size)}).Read(p)
	return p
}

// Files are those of the age library, in both directions, at every length around a chunk.
func TestFilesAreAge(t *testing.T) {
	k := newKey(t)
	identity, err := age.ParseX25519Identity(k.Identity())
	if err != nil {
		t.Fatal(err)
	}
	for _, size := range []int{0, 1, seal.ChunkSize - 1, seal.ChunkSize, seal.ChunkSize + 1, 3 * seal.ChunkSize, 3*seal.ChunkSize + 77} {
		content := random(size)
		ours := sealed(t, k, iotest.HalfReader(bytes.NewReader(content)))
		if n, ok := seal.ContentSize(int64(len(ours))); int64(len(ours)) != seal.Size(int64(size)) || !ok || n != int64(size) {
			t.Errorf("%d bytes became %d, which stand for %d, %v; want %d", size, len(ours), n, ok, seal.Size(int64(size)))
		}
		plain, err := age.Decrypt(bytes.NewReader(ours), identity)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(plain); err != nil || !bytes.Equal(got, content) {
			t.Errorf("age reads %d of %d bytes of ours, %v", len(got), size, err)
		}
		var theirs bytes.Buffer
		w, err := age.Encrypt(&theirs, identity.Recipient())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(content); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(io.NewSectionReader(k.Content(bytes.NewReader(theirs.Bytes()), int64(size)), 0, int64(size)))
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("we read %d of %d bytes of age, %v", len(got), size, err)
		}
	}
}

// The hash is that of the content, and an error of the content ends the file.
func TestReader(t *testing.T) {
	k := newKey(t)
	f, err := k.NewFile()
	if err != nil {
		t.Fatal(err)
	}
	content := random(200_000)
	r := f.NewReader(bytes.NewReader(content))
	if _, err := io.Copy(io.Discard, r); err != nil || r.Digest() != blake3.Sum256(content) {
		t.Errorf("the hash is %x, %v", r.Digest(), err)
	}
	for _, cut := range []int{0, 100, seal.ChunkSize, 2 * seal.ChunkSize} {
		broken := io.MultiReader(bytes.NewReader(content[:cut]), iotest.ErrReader(io.ErrClosedPipe))
		if out, err := io.ReadAll(f.NewReader(broken)); err != io.ErrClosedPipe {
			t.Errorf("cut at %d: %d bytes, %v", cut, len(out), err)
		}
	}
}

// A file that was begun goes on with the same bytes, whoever has the key.
func TestSameFileAgain(t *testing.T) {
	k := newKey(t)
	f, err := k.NewFile()
	if err != nil {
		t.Fatal(err)
	}
	again, err := k.OpenFile(f.Head[:])
	if err != nil {
		t.Fatal(err)
	}
	content := random(100_000)
	one, err1 := io.ReadAll(f.NewReader(bytes.NewReader(content)))
	two, err2 := io.ReadAll(again.NewReader(bytes.NewReader(content)))
	if err1 != nil || err2 != nil || !bytes.Equal(one, two) {
		t.Errorf("%d and %d bytes, %v, %v", len(one), len(two), err1, err2)
	}
	if _, err := newKey(t).OpenFile(f.Head[:]); !errors.Is(err, seal.ErrDamaged) {
		t.Errorf("another key opens it: %v", err)
	}
}

// counting counts reads.
type counting struct {
	io.ReaderAt
	reads int
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	c.reads++
	return c.ReaderAt.ReadAt(p, off)
}

// Ranges of any kind are the bytes of the content. The beginning takes one read of the file, and reads in order none twice.
func TestRanges(t *testing.T) {
	k := newKey(t)
	const size = 40*seal.ChunkSize + 1234
	want := random(size)
	file := sealed(t, k, bytes.NewReader(want))
	c := k.Content(bytes.NewReader(file), size)
	draw := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		off := draw.Int64N(size + 10)
		p := make([]byte, draw.IntN(5*seal.ChunkSize))
		n, err := c.ReadAt(p, off)
		if end := min(off+int64(len(p)), size); off < size && (int64(n) != end-off || !bytes.Equal(p[:n], want[off:end]) || (err == io.EOF) != (n < len(p))) || off >= size && (n != 0 || err != io.EOF) {
			t.Fatalf("%d bytes at %d: %d, %v", len(p), off, n, err)
		}
	}
	counter := &counting{ReaderAt: bytes.NewReader(file)}
	c = k.Content(counter, size)
	if got, err := io.ReadAll(io.NewSectionReader(c, 0, 1000)); err != nil || !bytes.Equal(got, want[:1000]) || counter.reads != 1 {
		t.Errorf("the beginning took %d reads, %v", counter.reads, err)
	}
	for at := int64(1000); at < size; at += 1000 {
		p := make([]byte, min(1000, size-at))
		if _, err := c.ReadAt(p, at); err != nil || !bytes.Equal(p, want[at:at+int64(len(p))]) {
			t.Fatalf("at %d: %v", at, err)
		}
	}
	if counter.reads > 45 {
		t.Errorf("reading on took %d reads of 41 chunks", counter.reads)
	}
}

func TestNames(t *testing.T) {
	if plain := newKey(t); plain.Path("beds/fern") != "beds/fern" || plain.SealsNames() {
		t.Error("a key seals names that was not to")
	}
	k := newKey(t).WithNames()
	for _, path := range []string{".", "a", "beds/north/fern.txt", "Blätter/日本", strings.Repeat("x", 255), ".bspan", ".bspan/replica", ".bspan/attic/2026/fern.txt", "beds/.bspan-x"} {
		key := k.Path(path)
		if got, ok := k.Open(key); !ok || got != path {
			t.Errorf("%q became %q, and %q again, %v", path, key, got, ok)
		}
		if again := k.Path(path); again != key {
			t.Errorf("%q became %q and %q", path, key, again)
		}
		for element := range strings.SplitSeq(path, "/") {
			if len(element) > 5 && element != "replica" && element != ".bspan" && element != "attic" && strings.Contains(key, element) {
				t.Errorf("%q tells %q", key, element)
			}
		}
	}
	for _, foreign := range []string{"fern.txt", "", "AAAA", "beds/fern", newKey(t).WithNames().Path("fern.txt"), k.Path("beds") + "/fern", strings.ToUpper(k.Path("fern"))} {
		if got, ok := k.Open(foreign); ok {
			t.Errorf("%q is opened as %q", foreign, got)
		}
	}
	if !strings.HasPrefix(k.Path(".bspan/attic/x"), ".bspan/attic/") || strings.HasSuffix(k.Path(".bspan/attic/x"), "/x") {
		t.Errorf("what is kept in the attic is called %q", k.Path(".bspan/attic/x"))
	}
}

func TestPlain(t *testing.T) {
	for name, want := range map[string]bool{".bspan/key.age": true, ".bspan": false, "fern.txt": false, "beds/fern": false, ".bspan/attic/fern": false} {
		if got := seal.Plain(name); got != want {
			t.Errorf("Plain(%q) = %v", name, got)
		}
	}
}

func TestValues(t *testing.T) {
	k := newKey(t)
	one, two := k.SealValue("hash", []byte("value")), k.SealValue("hash", []byte("value"))
	if bytes.Equal(one, two) {
		t.Error("the same value twice is the same text")
	}
	if got, err := k.OpenValue("hash", one); err != nil || string(got) != "value" {
		t.Errorf("opened %q, %v", got, err)
	}
	if got, err := k.OpenValue("descriptor", one); !errors.Is(err, seal.ErrDamaged) {
		t.Errorf("for another purpose: %q, %v", got, err)
	}
	if bytes.Equal(k.Fingerprint([]byte("value")), newKey(t).Fingerprint([]byte("value"))) {
		t.Error("two keys have one fingerprint")
	}
}

// A key is read as age writes it, and is never told.
func TestParseKey(t *testing.T) {
	k := newKey(t)
	again, err := seal.ParseKey("# created: 2026-12-01\n# public key: " + k.Recipient() + "\n" + k.Identity() + "\n")
	if err != nil || again.Recipient() != k.Recipient() || again.WithNames().Path("fern") != k.WithNames().Path("fern") {
		t.Errorf("the key became %v, %v", again, err)
	}
	if text := fmt.Sprint(k) + fmt.Sprintf("%v %s", k, k); strings.Contains(text, "SECRET") {
		t.Errorf("it prints as %s", text)
	}
	other, cut := newKey(t), k.Identity()[:40]
	for _, bad := range []string{"", "#", "a word", k.Recipient(), cut, k.Identity() + "\n" + other.Identity(), strings.Repeat("#\n", 1<<20)} {
		if got, err := seal.ParseKey(bad); err == nil || strings.Contains(err.Error(), cut) {
			t.Errorf("%.20q is read as %v, %v", bad, got, err)
		}
	}
}

// Whatever a service sends, reading ends with the content or with an error.
func FuzzContent(f *testing.F) {
	k := newKey(f)
	whole := sealed(f, k, bytes.NewReader(random(100_000)))
	f.Add(whole, int64(100_000), int64(0), 1000)
	f.Add(whole[:seal.HeadSize], int64(1), int64(0), 1)
	f.Add([]byte("age-encryption.org/v1\n"), int64(1), int64(0), 1)
	want := random(100_000)
	f.Fuzz(func(t *testing.T, file []byte, size, off int64, length int) {
		size, length = max(0, min(size, 1<<40)), max(0, min(length, 1<<20))
		p := make([]byte, length)
		n, err := k.Content(bytes.NewReader(file), size).ReadAt(p, off)
		if err == nil && n != length || n > 0 && (size != 100_000 || !bytes.Equal(p[:n], want[off:off+int64(n)])) {
			t.Errorf("%d of %d bytes at %d, %v", n, length, off, err)
		}
	})
}
