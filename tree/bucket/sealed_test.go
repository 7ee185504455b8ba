package bucket_test

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	"bridgespan/core/acl"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
)

func newKey(t *testing.T) *seal.Key {
	t.Helper()
	key, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// sealed is a target whose files are sealed with a new key.
func sealed(t *testing.T, target bucket.Target, names bool) bucket.Target {
	t.Helper()
	target.Seal, target.Prefix = newKey(t), "kept"
	if names {
		target.Seal = target.Seal.WithNames()
	}
	return target
}

// decrypted opens a file with the age library, which knows nothing of Bridge Span.
func decrypted(t *testing.T, key *seal.Key, file io.Reader) io.Reader {
	t.Helper()
	identity, err := age.ParseX25519Identity(key.Identity())
	if err != nil {
		t.Fatal(err)
	}
	content, err := age.Decrypt(file, identity)
	if err != nil {
		t.Fatal(err)
	}
	return content
}

// Whoever has the bucket without the key reads times and lengths of files, and nothing else of them.
func TestSealedObjects(t *testing.T) {
	s := standintest.Cloud(t)
	for _, names := range []bool{false, true} {
		target := sealed(t, s.Bucket(t), names)
		b := standintest.OpenBucket(t, target)
		text := "the place of the rarest orchid"
		d := descriptor("O:BAG:BAD:PAI(A;;FA;;;S-1-5-21-7-7-7-1234)")
		long := "O:BAG:BAD:PAI" + strings.Repeat("(A;;FR;;;S-1-5-21-7-7-7-1234)(A;;FX;;;S-1-5-21-7-7-7-1234)", 60)
		for name, d := range map[string]acl.Descriptor{"beds/orchid.txt": d, "beds/rose.txt": descriptor(long), ".bspan/replica.txt": {}} {
			if _, err := b.Put(t.Context(), name, strings.NewReader(text), tree.PutOptions{Meta: tree.Meta{Descriptor: d}}); err != nil {
				t.Fatal(err)
			}
		}
		sum := blake3.Sum256([]byte(text))
		opened, hidden := 0, []string{"orchid", "beds", string(sum[:]), string(d.Binary()), "S-1-5-21-7-7-7-1234", text}
		for o := range s.Client.ListObjectsIter(t.Context(), target.Bucket, minio.ListObjectsOptions{Recursive: true}) {
			body, info, _, err := s.Client.GetObject(t.Context(), target.Bucket, o.Key, minio.GetObjectOptions{})
			if err != nil {
				t.Fatal(err)
			}
			raw, err := io.ReadAll(body)
			if err != nil {
				t.Fatal(err)
			}
			if o.Key == "kept/.bspan/replica.txt" {
				if string(raw) != text {
					t.Errorf("the mark is %q, which others cannot read", raw)
				}
				continue
			}
			all := o.Key + string(raw)
			for _, value := range info.UserMetadata {
				all += value
			}
			for i, secret := range hidden {
				if strings.Contains(all, secret) && (names || i > 1) {
					t.Errorf("%q with names sealed %v: it tells %q", o.Key, names, secret)
				}
			}
			if strings.HasPrefix(o.Key, "kept/.bspan/") { // a long descriptor
				continue
			}
			opened++
			if content, err := io.ReadAll(decrypted(t, target.Seal, bytes.NewReader(raw))); err != nil || string(content) != text {
				t.Errorf("%s: another client of age reads %q, %v", o.Key, content, err)
			}
		}
		if opened != 2 {
			t.Errorf("%d files were opened", opened)
		}
	}
}

// Objects of others in a bucket with sealed contents are taken as they are, also when they get other permissions. With sealed names they are
// not seen.
func TestSealedBesideOthers(t *testing.T) {
	s := standintest.Cloud(t)
	target := sealed(t, s.Bucket(t), false)
	content := strings.Repeat("an object of others, ", 100)
	for _, name := range []string{"kept/theirs.txt", "kept/short"} {
		if _, err := s.Client.Client.PutObject(t.Context(), target.Bucket, name, strings.NewReader(content), int64(len(content)), minio.PutObjectOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	b := standintest.OpenBucket(t, target)
	d := descriptor("O:BAG:BAD:PAI(A;;FA;;;BA)")
	for range 2 {
		e, err := b.Stat(t.Context(), "theirs.txt")
		if err != nil || e.Size != int64(len(content)) {
			t.Errorf("it is %+v, %v", e, err)
		}
		if got, err := tree.ReadFile(t.Context(), b, "theirs.txt"); err != nil || string(got) != content {
			t.Errorf("it reads as %.30q, %v", got, err)
		}
		if err := b.Apply(t.Context(), "theirs.txt", tree.Meta{Descriptor: d}); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := b.Descriptor(t.Context(), "theirs.txt"); err != nil || got.String() != d.String() {
		t.Errorf("its permissions are %v, %v", got, err)
	}
	if e, err := b.Stat(t.Context(), "theirs.txt"); err != nil { // from now on the listing tells its length
		t.Fatal(err)
	} else {
		for l, err := range b.List(t.Context(), ".", tree.Versions) {
			if l.Name == e.Name && (err != nil || l.Size != e.Size || l.Version != e.Version) {
				t.Errorf("listed as %+v, %v, not as %+v", l, err, e)
			}
		}
	}
	target.Seal = target.Seal.WithNames()
	for e, err := range standintest.OpenBucket(t, target).List(t.Context(), ".", tree.Plain) {
		if err != nil || e.Name != ".bspan" {
			t.Errorf("with names: %q is listed, %v", e.Name, err)
		}
	}
}

// What somebody has changed in the bucket is an error, and no content.
func TestSealedChangedByOthers(t *testing.T) {
	s := standintest.Cloud(t)
	target := sealed(t, s.Bucket(t), false)
	b := standintest.OpenBucket(t, target)
	content := bytes.Repeat([]byte("rose "), 40_000) // several chunks
	for name, change := range map[string]func([]byte) []byte{
		"a byte":   func(o []byte) []byte { o[len(o)/2] ^= 1; return o },
		"the head": func(o []byte) []byte { o[100] ^= 1; return o },
		"two parts": func(o []byte) []byte {
			head, one, two, rest := o[:seal.HeadSize], o[seal.HeadSize:seal.HeadSize+seal.SealedChunk], o[seal.HeadSize+seal.SealedChunk:seal.HeadSize+2*seal.SealedChunk], o[seal.HeadSize+2*seal.SealedChunk:]
			return slices.Concat(head, two, one, rest)
		},
		"its end":        func(o []byte) []byte { return o[:seal.HeadSize+2*seal.SealedChunk] },
		"its last bytes": func(o []byte) []byte { return o[:len(o)-1] },
		"nearly all":     func(o []byte) []byte { return o[:50] },
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := b.Put(t.Context(), "f", bytes.NewReader(content), tree.PutOptions{Replace: true}); err != nil {
				t.Fatal(err)
			}
			body, info, _, err := s.Client.GetObject(t.Context(), target.Bucket, "kept/f", minio.GetObjectOptions{})
			if err != nil {
				t.Fatal(err)
			}
			raw, err := io.ReadAll(body)
			if err != nil {
				t.Fatal(err)
			}
			raw = change(raw)
			meta := map[string]string{}
			for name, value := range info.UserMetadata {
				meta[name] = value
			}
			if _, err := s.Client.Client.PutObject(t.Context(), target.Bucket, "kept/f", bytes.NewReader(raw), int64(len(raw)), minio.PutObjectOptions{UserMetadata: meta}); err != nil {
				t.Fatal(err)
			}
			if got, err := tree.ReadFile(t.Context(), b, "f"); !errors.Is(err, tree.ErrAltered) {
				t.Errorf("%d bytes are read, %v", len(got), err)
			}
		})
	}
}

// A long content that ends early leaves nothing behind, though its upload was opened before.
func TestSealedEndsEarly(t *testing.T) {
	s := standintest.Cloud(t)
	target := sealed(t, s.Bucket(t), false)
	b := standintest.OpenBucket(t, target)
	for _, sent := range []int{0, 1 << 20, 18 << 20} {
		content := make([]byte, 30<<20)
		if _, err := b.Put(t.Context(), "f", bytes.NewReader(content[:sent]), asLong(content)); !errors.Is(err, tree.ErrTorn) {
			t.Errorf("after %d bytes: %v", sent, err)
		}
		if open := uploads(t, s, target.Bucket); open != 0 {
			t.Errorf("after %d bytes: %d uploads stay open", sent, open)
		}
	}
}

// With another key, nothing can be read.
func TestSealedForAnotherKey(t *testing.T) {
	s := standintest.Cloud(t)
	target := sealed(t, s.Bucket(t), false)
	if _, err := standintest.OpenBucket(t, target).Put(t.Context(), "f", strings.NewReader("fern"), tree.PutOptions{Meta: tree.Meta{Descriptor: descriptor("O:BAG:BAD:(A;;FA;;;BA)")}}); err != nil {
		t.Fatal(err)
	}
	target.Seal = newKey(t)
	b := standintest.OpenBucket(t, target)
	if got, err := tree.ReadFile(t.Context(), b, "f"); !errors.Is(err, tree.ErrAltered) {
		t.Errorf("it reads as %q, %v", got, err)
	}
	if d, err := b.Descriptor(t.Context(), "f"); !errors.Is(err, tree.ErrAltered) {
		t.Errorf("its permissions are %v, %v", d, err)
	}
}

func descriptor(text string) acl.Descriptor {
	d, err := acl.Parse(text)
	if err != nil {
		panic(err)
	}
	return d
}
