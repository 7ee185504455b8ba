package transfer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"bridgespan/core/chunk"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

func text(seed byte, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

// put writes a file, and returns it as a caller knows it.
func put(t *testing.T, tr tree.Tree, name string, content []byte) File {
	t.Helper()
	entry, err := tr.Put(t.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true})
	if err != nil {
		t.Fatal(err)
	}
	return File{Path: name, Entry: entry}
}

// known is a file of a destination, read.
func known(t *testing.T, tr tree.Tree, name string) Known {
	t.Helper()
	d, entry, err := Digest(t.Context(), tr, name, nil)
	if err != nil {
		t.Fatal(err)
	}
	return Known{Path: name, Entry: entry, Digest: d}
}

// want fails unless a file holds a content and nothing is left in the intake.
func want(t *testing.T, tr tree.Tree, name string, content []byte) {
	t.Helper()
	got, err := tree.ReadFile(t.Context(), tr, name)
	if err != nil || !bytes.Equal(got, content) {
		t.Errorf("%s has %d bytes of its own, %v", name, len(got), err)
	}
	if left := intake(t, tr); len(left) > 0 {
		t.Errorf("in the intake is %q", left)
	}
}

// intake lists the files in the intake.
func intake(t *testing.T, tr tree.Tree) (names []string) {
	t.Helper()
	for e, err := range tree.Walk(t.Context(), tr, IntakeFolder, tree.Plain) {
		if err == nil && e.Kind == tree.File {
			names = append(names, e.Path)
		} else if err != nil && !absent(err) {
			t.Fatal(err)
		}
	}
	return names
}

func inFolder(t *testing.T) tree.Tree {
	t.Helper()
	f, err := folder.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

// memoryJournal is a journal in memory.
type memoryJournal struct {
	mu       sync.Mutex
	lists    map[chunk.Digest]chunk.List
	partials map[string]chunk.Partial
}

func newJournal() *memoryJournal {
	return &memoryJournal{lists: map[chunk.Digest]chunk.List{}, partials: map[string]chunk.Partial{}}
}

func (j *memoryJournal) Chunks(_ context.Context, d chunk.Digest) (chunk.List, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.lists[d], nil
}

func (j *memoryJournal) KeepChunks(_ context.Context, l chunk.List) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.lists[l.Digest] = l
	return nil
}

func (j *memoryJournal) Partials(context.Context) (all []chunk.Partial, err error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, p := range j.partials {
		all = append(all, p)
	}
	return all, nil
}

func (j *memoryJournal) KeepPartial(_ context.Context, p chunk.Partial) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.partials[p.Key] = p
	return nil
}

func (j *memoryJournal) ForgetPartial(_ context.Context, key string) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.partials, key)
	return nil
}

// A file is copied between any two trees: where nothing is, in the place of an older version,
// as a copy of what is there, and never more of it than is needed.
func TestCopy(t *testing.T) {
	const size = 4 << 20
	far := func(*testing.T) tree.Tree { return &memory.Tree{Far: true} }
	near := func(*testing.T) tree.Tree { return &memory.Tree{} }
	for what, trees := range map[string][2]func(*testing.T) tree.Tree{"folders": {inFolder, inFolder}, "memory": {near, near}, "far away": {near, far}, "plain": {near, onlyTree}, "object store": {near, objects}, "bucket": {near, inBucket}} {
		t.Run(what, func(t *testing.T) {
			from, to := &Endpoint{Tree: trees[0](t)}, &Endpoint{Tree: trees[1](t), Journal: newJournal()}
			first, second := text(1, size), text(1, size)
			copy(second[1<<20:], "a few bytes")
			crossed := 0
			options := Options{Key: "large", Pace: func(_ context.Context, n int) error { crossed += n; return nil }}
			s, err := Copy(t.Context(), from, to, put(t, from.Tree, "large", first), "large", options)
			if err != nil || s.Digest != chunk.Digest(known(t, from.Tree, "large").Digest) || crossed < size {
				t.Fatalf("%+v, %d bytes crossed, %v", s, crossed, err)
			}
			want(t, to.Tree, "large", first)

			there, seen := known(t, to.Tree, "large"), put(t, from.Tree, "large", second)
			options.Older, crossed = &there, 0
			if s, err = Copy(t.Context(), from, to, seen, "large", options); err != nil {
				t.Fatal(err)
			}
			want(t, to.Tree, "large", second)
			if delta := to.Tree.Capabilities().Ranges && what != "plain"; delta != (crossed < size/4) || delta != (s.Saved > size/2) {
				t.Errorf("of the new version %d bytes crossed, %d were saved", crossed, s.Saved)
			}

			there = known(t, to.Tree, "large")
			options = Options{Alike: func(context.Context) ([]Known, error) { return []Known{there}, nil }, Pace: options.Pace}
			crossed = 0
			if s, err = Copy(t.Context(), from, to, File{Path: "large", Entry: seen.Entry, Digest: there.Digest}, "copy", options); err != nil {
				t.Fatal(err)
			}
			want(t, to.Tree, "copy", second)
			if copies := what != "plain"; copies != (crossed == 0) || copies != (s.Saved == size) {
				t.Errorf("of the copy %d bytes crossed, %d were saved", crossed, s.Saved)
			}
		})
	}
}

func objects(*testing.T) tree.Tree { return &memory.Tree{Objects: true} }

func inBucket(t *testing.T) tree.Tree {
	return standintest.OpenBucket(t, standintest.Cloud(t).Bucket(t))
}

// A stub is not copied by accident.
func TestCopyOfAStub(t *testing.T) {
	from := &memory.Tree{}
	for _, size := range []int{10, 2 << 20} {
		f := put(t, from, "stub", text(1, size))
		treetest.MakeStub(t, from, "stub")
		f.Entry.Residency = tree.Stub
		to := &Endpoint{Tree: &memory.Tree{}}
		if _, err := Copy(t.Context(), &Endpoint{Tree: from}, to, f, "copy", Options{}); !errors.Is(err, tree.ErrStub) {
			t.Errorf("%d bytes: %v", size, err)
		}
		if e, err := from.Stat(t.Context(), "stub"); err != nil || e.Residency != tree.Stub {
			t.Errorf("it was fetched: %+v, %v", e, err)
		}
		if _, err := Copy(t.Context(), &Endpoint{Tree: from}, to, f, "copy", Options{FetchStubs: true}); err != nil {
			t.Error(err)
		}
		want(t, to.Tree, "copy", text(1, size))
		if err := to.Tree.Remove(t.Context(), "copy"); err != nil {
			t.Fatal(err)
		}
	}
}

// onlyTree is a tree that can do no more than it must.
func onlyTree(*testing.T) tree.Tree { return struct{ tree.Tree }{&memory.Tree{}} }

// What is not as the caller knows it is left as it is, at both ends.
func TestCopyOfWhatChanged(t *testing.T) {
	changed := func(f File) File { f.Entry.Size++; return f }
	for what, c := range map[string]struct {
		file  func(f File) File
		older func(k *Known) *Known
		err   error
	}{
		"the source changed":            {file: changed, older: func(k *Known) *Known { return k }, err: tree.ErrChanged},
		"the source is gone":            {file: func(f File) File { f.Path = "gone"; return f }, err: tree.ErrChanged},
		"the source has other content":  {file: func(f File) File { f.Digest = chunk.Digest{1}; return f }, err: tree.ErrChanged},
		"a file is there":               {older: func(*Known) *Known { return nil }, err: fs.ErrExist},
		"another version is there":      {older: func(k *Known) *Known { k.Entry.ID, k.Entry.Version = k.Entry.ID+1, "older"; return k }, err: ErrOlderChanged},
		"the version there was removed": {older: func(k *Known) *Known { k.Path = "gone"; return k }, err: ErrOlderChanged},
	} {
		for _, size := range []int{10, 2 << 20, -10} { // below 0 to an object store
			t.Run(fmt.Sprint(what, " ", size), func(t *testing.T) {
				from, to := &Endpoint{Tree: &memory.Tree{}}, &Endpoint{Tree: &memory.Tree{Objects: size < 0}}
				size := max(size, -size)
				f := put(t, from.Tree, "a", text(1, size))
				put(t, to.Tree, "a", text(2, size))
				k := known(t, to.Tree, "a")
				o := Options{Older: &k}
				if c.older != nil {
					o.Older = c.older(&k)
				}
				name := "a"
				if o.Older != nil {
					name = o.Older.Path
				}
				if c.file != nil {
					f = c.file(f)
				}
				if _, err := Copy(t.Context(), from, to, f, name, o); !errors.Is(err, c.err) && !(what == "the version there was removed" && absent(err)) {
					t.Errorf("%v, want %v", err, c.err)
				}
				want(t, to.Tree, "a", text(2, size))
			})
		}
	}
}

// An interrupted transfer resumes, in another process, after what is durable.
func TestCopyResumes(t *testing.T) {
	const size, piece = 2 << 20, 256 << 10
	from, there, journal := &Endpoint{Tree: inFolder(t)}, inFolder(t), newJournal()
	content := text(3, size)
	f := put(t, from.Tree, "large", content)
	crossed := 0
	pace := func(_ context.Context, n int) error {
		if crossed += n; crossed > size/2+100 {
			return tree.ErrUnreachable
		}
		return nil
	}
	endpoint := func() *Endpoint {
		return &Endpoint{Tree: there, Journal: journal, Settings: Settings{DeltaFrom: 1 << 20, Piece: piece}}
	}
	if _, err := Copy(t.Context(), from, endpoint(), f, "large", Options{Key: "large", Pace: pace}); !errors.Is(err, tree.ErrUnreachable) {
		t.Fatal(err)
	}
	if left := intake(t, there); len(left) != 1 || journal.partials["large"].Bytes != size/2 {
		t.Fatalf("%q waits; the journal has %+v", left, journal.partials)
	}
	crossed = 0
	pace = func(_ context.Context, n int) error { crossed += n; return nil }
	again := endpoint()
	if err := again.Sweep(t.Context(), func(context.Context) ([]string, error) { return nil, nil }, func(_ string, err error) { t.Error(err) }); err != nil {
		t.Fatal(err)
	}
	if _, err := Copy(t.Context(), from, again, f, "large", Options{Key: "large", Pace: pace}); err != nil {
		t.Fatal(err)
	}
	want(t, there, "large", content)
	if crossed > size/2+proofs*sampleSize || len(journal.partials) > 0 {
		t.Errorf("%d bytes crossed, and the journal has %v", crossed, journal.partials)
	}
}

// Whatever fails, and wherever the process ends: under its name a file is as before, or
// complete, and the next process leaves nothing in the intake.
func TestCopyInterrupted(t *testing.T) {
	for at := 0; ; at++ {
		from, there := &Endpoint{Tree: &memory.Tree{}}, &memory.Tree{}
		old, content := text(1, 300_000), text(2, 300_000)
		f := put(t, from.Tree, "a", content)
		put(t, there, "a", old)
		k := known(t, there, "a")
		steps := 0
		there.Fault = func(string, string) error {
			if steps++; steps > at { // from here on nothing answers: as at the end of a process
				return tree.ErrUnreachable
			}
			return nil
		}
		_, err := Copy(t.Context(), from, &Endpoint{Tree: there}, f, "a", Options{Older: &k})
		there.Fault = nil
		got, bad := tree.ReadFile(t.Context(), there, "a")
		if bad != nil || !bytes.Equal(got, old) && !bytes.Equal(got, content) {
			t.Fatalf("after step %d %d bytes are there, %v", at, len(got), bad)
		}
		if bad := (&Endpoint{Tree: there}).Sweep(t.Context(), func(context.Context) ([]string, error) { return nil, nil }, func(_ string, err error) { t.Error(err) }); bad != nil {
			t.Fatal(bad)
		}
		if left := intake(t, there); len(left) > 0 {
			t.Fatalf("after step %d %q is left", at, left)
		}
		if err == nil {
			if at < 5 {
				t.Errorf("it took %d steps alone", at)
			}
			return
		}
	}
}

// A folder arrives whole, with what goes with it; what changed meanwhile is left out.
func TestCopyFolder(t *testing.T) {
	from, to := &Endpoint{Tree: &memory.Tree{}}, &Endpoint{Tree: &memory.Tree{}, Quota: 100}
	if err := from.Tree.Mkdir(t.Context(), "beds"); err != nil {
		t.Fatal(err)
	}
	f := Folder{Path: "beds", Name: "copy"}
	for i := range 20 {
		f.Files = append(f.Files, FolderFile{File: put(t, from.Tree, fmt.Sprint("beds/", i), text(byte(i), 100))})
	}
	put(t, from.Tree, "beds/7", text(77, 200))
	copied, err := CopyFolder(t.Context(), from, to, f, Options{})
	if err != nil || len(copied) != 19 {
		t.Fatalf("%d files, %v", len(copied), err)
	}
	for i := range 20 {
		name := fmt.Sprint("copy/", i)
		if _, err := to.Tree.Stat(t.Context(), name); (i == 7) != absent(err) {
			t.Errorf("%s: %v", name, err)
		}
		if i != 7 {
			want(t, to.Tree, name, text(byte(i), 100))
		}
	}
	if used, full := to.Intake(); used != 0 || !full.IsZero() {
		t.Errorf("%d bytes are on their way, since %v", used, full)
	}
	if _, err := CopyFolder(t.Context(), from, to, f, Options{}); !errors.Is(err, fs.ErrExist) {
		t.Errorf("over what is there: %v", err)
	}
	if left := intake(t, to.Tree); len(left) > 0 {
		t.Errorf("in the intake is %q", left)
	}
}

func ExampleCopy() {
	ctx := context.Background()
	fern, yarrow := &memory.Tree{}, &memory.Tree{}
	entry, _ := fern.Put(ctx, "ledger.csv", strings.NewReader("accession,bed\n"), tree.PutOptions{})
	s, err := Copy(ctx, &Endpoint{Tree: fern}, &Endpoint{Tree: yarrow}, File{Path: "ledger.csv", Entry: entry}, "ledger.csv", Options{})
	fmt.Println(s.Entry.Size, err)
	// Output: 14 <nil>
}
