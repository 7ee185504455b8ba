package compare

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/verify"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

var at = time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)

// grow makes a tree of files by their paths.
func grow(t *testing.T, files map[string]string) *memory.Tree {
	t.Helper()
	m := &memory.Tree{}
	treetest.Files(t, m, at, files)
	return m
}

// sink notes what is found.
type sink struct {
	state    *State
	counts   verify.Counts
	found    []string
	read     []string
	fraction float64
	kept     []string // the paths of checkpoints
}

func (s *sink) Compared(first *verify.Item) { s.counts.Add(first, nil) }

func (s *sink) Found(found []verify.Difference) {
	s.counts.Differs(found...)
	for _, d := range found {
		s.found = append(s.found, d.Path+" "+string(d.Kind))
	}
}

func (s *sink) Read(path string, _ int64, _ [32]byte, ok bool) {
	s.read = append(s.read, fmt.Sprint(path, " ", ok))
}
func (s *sink) Progress(fraction float64) { s.fraction = fraction }
func (s *sink) Checkpoint(context.Context) error {
	s.kept = append(s.kept, s.state.After)
	return nil
}

func run(ctx context.Context, c *Comparison, state *State) (*sink, error) {
	s := &sink{state: state}
	c.Sink = s
	err := c.Run(ctx, state)
	slices.Sort(s.found)
	slices.Sort(s.read)
	return s, err
}

func failAt(step, name string, err error) func(string, string) error {
	return func(s, n string) error {
		if s == step && n == name {
			return tree.PathError(s, n, err)
		}
		return nil
	}
}

func TestComparison(t *testing.T) {
	same := map[string]string{"beds/rose": "thorns", "beds/tulip": "bulbs", "ledger": "1,2,3", "shed/rake": "teeth", "shed/spade": "blade"}
	change := func(changes map[string]string) map[string]string {
		all := maps.Clone(same)
		for name, text := range changes {
			if all[name] = text; text == "" {
				delete(all, name)
			}
		}
		return all
	}
	for what, c := range map[string]struct {
		second map[string]string
		level  Level
		first  func(string, string) error // faults
		other  func(string, string) error
		found  []string
		read   int
	}{
		"the same":            {second: same, level: Full, read: 5},
		"one lacks a folder":  {second: change(map[string]string{"shed/rake": "", "shed/spade": ""}), level: Names, found: []string{"shed missing", "shed/rake missing", "shed/spade missing"}},
		"one has more":        {second: change(map[string]string{"new": "x"}), level: Names, found: []string{"new extra"}},
		"other sizes":         {second: change(map[string]string{"ledger": "1,2"}), level: Full, found: []string{"ledger size"}, read: 4},
		"other contents":      {second: change(map[string]string{"ledger": "3,2,1"}), level: Full, found: []string{"ledger content"}, read: 5},
		"contents, by names":  {second: change(map[string]string{"ledger": "3,2,1"}), level: Names},
		"by a sample of all":  {second: change(map[string]string{"ledger": "3,2,1"}), level: Sample, found: []string{"ledger content"}, read: 5},
		"a file for a folder": {second: change(map[string]string{"shed/rake": "", "shed/spade": "", "shed": "x"}), level: Full, found: []string{"shed kind", "shed/rake missing", "shed/spade missing"}, read: 3},
		"a file is in use":    {second: same, level: Full, other: failAt("open", "ledger", tree.ErrInUse), found: []string{"ledger in-use"}, read: 5},
		"a file is closed":    {second: same, level: Full, first: failAt("open", "ledger", fs.ErrPermission), found: []string{"ledger unreadable"}, read: 5},
		"a folder is closed":  {second: change(map[string]string{"shed/rake": "other"}), level: Full, other: failAt("list", "shed", fs.ErrPermission), found: []string{"shed unreadable"}, read: 3},
	} {
		t.Run(what, func(t *testing.T) {
			first, second := grow(t, same), grow(t, c.second)
			first.Fault, second.Fault = c.first, c.other
			cmp := &Comparison{First: Side{Name: "fern", Tree: first}, Second: Side{Name: "sedge", Tree: second}, Level: c.level, Sample: 100, Random: rand.New(rand.NewPCG(1, 2))}
			s, err := run(t.Context(), cmp, &State{})
			if err != nil || !slices.Equal(s.found, c.found) || len(s.read) != c.read {
				t.Errorf("found %q, read %q, %v; want %q, %d read", s.found, s.read, err, c.found, c.read)
			}
			if s.fraction < 0.99 || s.counts.Unexplained()+s.counts.InUse != int64(len(c.found)) {
				t.Errorf("%v of all, %+v", s.fraction, s.counts)
			}
		})
	}
}

// A server that does not answer ends a comparison, which says of which side it is; it resumes
// after what was compared, and finds each difference once.
func TestComparisonResumes(t *testing.T) {
	files, others := map[string]string{}, map[string]string{}
	for i := range 30 {
		files[fmt.Sprintf("%c/%d", 'a'+i%5, i)] = "x"
		others[fmt.Sprintf("%c/%d", 'a'+i%5, i+1)] = "x"
	}
	first, second := grow(t, files), grow(t, others)
	below := func(e tree.Named) bool { return e.Path != "." }
	cmp := func() *Comparison {
		return &Comparison{First: Side{Name: "fern", Tree: first, Keep: below}, Second: Side{Name: "sedge", Tree: second, Keep: below}, Level: Names}
	}
	whole, err := run(t.Context(), cmp(), &State{})
	if err != nil || len(whole.found) < 10 {
		t.Fatalf("%d differences, %v", len(whole.found), err)
	}
	for _, at := range []string{".", "a", "c", "e"} {
		state := &State{}
		second.Fault = failAt("list", at, tree.ErrUnreachable)
		part, err := run(t.Context(), cmp(), state)
		var side *SideError
		if !errors.As(err, &side) || side.Side != 1 || side.Name != "sedge" || !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("%s: %v", at, err)
		}
		if at == "." && len(part.kept) > 0 {
			t.Errorf("nothing was compared, and %q is kept", part.kept)
		}
		if n := len(part.kept); at > "a" && (n == 0 || part.kept[n-1] != state.After || state.After == "") {
			t.Errorf("%s: kept at %q, state %+v", at, part.kept, state)
		}
		second.Fault = nil
		rest, err := run(t.Context(), cmp(), state)
		both := append(part.found, rest.found...)
		slices.Sort(both)
		if err != nil || !slices.Equal(both, whole.found) || part.counts.Compared+rest.counts.Compared != whole.counts.Compared {
			t.Errorf("%s: %d and %d differences, want %d; %v", at, len(part.found), len(rest.found), len(whole.found), err)
		}
	}
}

// Differences are explained in batches, before they count.
func TestExplained(t *testing.T) {
	files := map[string]string{}
	for i := range 2000 {
		files[fmt.Sprint(i%7, "/", i)] = "x"
	}
	batches, most := 0, 0
	c := &Comparison{First: Side{Tree: grow(t, files)}, Second: Side{Tree: &memory.Tree{}}, Level: Names,
		Explain: func(_ context.Context, found []verify.Difference) {
			batches, most = batches+1, max(most, len(found))
			for i := range found {
				found[i].Explained = true
			}
		}}
	s, err := run(t.Context(), c, &State{})
	if err != nil || s.counts.Unexplained() != 0 || s.counts.Explained != 2007 || batches > 10 || most > mostWaiting+1 {
		t.Errorf("%+v in %d batches of at most %d, %v", s.counts, batches, most, err)
	}
}

// Many files are read beside the walk, and each once.
func TestManyContents(t *testing.T) {
	files := map[string]string{}
	for i := range 500 {
		files[fmt.Sprint(i%7, "/", i)] = "x"
	}
	s, err := run(t.Context(), &Comparison{First: Side{Tree: grow(t, files)}, Second: Side{Tree: grow(t, files)}, Level: Full}, &State{})
	if err != nil || len(s.found) != 0 || len(slices.Compact(s.read)) != 500 {
		t.Errorf("found %q, read %d, %v", s.found, len(s.read), err)
	}
}

// A comparison that is stopped ends with that, whatever it does.
func TestComparisonStops(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	first := grow(t, map[string]string{"a": "x", "b": "y"})
	first.Fault = func(step, _ string) error {
		if step == "open" {
			stop()
		}
		return nil
	}
	if _, err := run(ctx, &Comparison{First: Side{Tree: first}, Second: Side{Tree: grow(t, map[string]string{"a": "x", "b": "y"})}, Level: Full}, &State{}); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// One path is compared once more as it is now.
func TestAgain(t *testing.T) {
	first, second := grow(t, map[string]string{"in/a": "1", "in/b": "2"}), grow(t, map[string]string{"a": "1", "b": "3", "c": ""})
	c := &Comparison{First: Side{Name: "fern", Tree: first, Top: "in"}, Second: Side{Name: "sedge", Tree: second}, Level: Names, Local: verify.Nobody}
	for path, want := range map[string]string{"a": "[]", "b": "[content]", "c": "[extra]", "gone": "[]"} {
		_, _, found, err := c.Again(t.Context(), path, true)
		kinds := []verify.Kind{}
		for _, d := range found {
			kinds = append(kinds, d.Kind)
		}
		if got := fmt.Sprint(kinds); err != nil || got != want {
			t.Errorf("%s: %s, %v; want %s", path, got, err, want)
		}
	}
}

// The content of a stub is that of its mark: nothing is fetched, and a mark of other content is a difference.
func TestStubs(t *testing.T) {
	files := map[string]string{"same": "thorns", "other": "bulbs!", "unread": "1,2,3"}
	first, second := grow(t, files), grow(t, files)
	for name, mark := range map[string]tree.Mark{"same": {Digest: blake3.Sum256([]byte("thorns"))}, "other": {Digest: blake3.Sum256([]byte("thorns"))}, "unread": {}} {
		e, err := second.Stat(t.Context(), name)
		if err == nil {
			_, err = second.Offload(t.Context(), name, e, mark)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	second.Fault = func(step, name string) error {
		if step == "fetch" {
			t.Errorf("%s was fetched", name)
		}
		return nil
	}
	keep := func(e tree.Named) bool { return true }
	for _, c := range []*Comparison{
		{First: Side{Name: "fern", Tree: first, Keep: keep}, Second: Side{Name: "sedge", Tree: second, Keep: keep}, Level: Full},
		{First: Side{Name: "sedge", Tree: second, Keep: keep}, Second: Side{Name: "fern", Tree: first, Keep: keep}, Level: Full},
	} {
		s, err := run(t.Context(), c, &State{})
		if want := []string{"other content", "unread unreadable"}; err != nil || !slices.Equal(s.found, want) {
			t.Errorf("%s first: found %q, %v; want %q", c.First.Name, s.found, err, want)
		}
	}
}

// A bucket keeps hashes beside most files: only a full comparison reads it, each file once.
func TestStubsOfBucket(t *testing.T) {
	bucket, edge := &memory.Tree{CaseSensitive: true, Objects: true}, &memory.Tree{CaseSensitive: true}
	files := map[string]string{"kept": "thorns", "other": "bulbs!", "no hash": "twenty bytes at most", "of it": "twenty bytes as well", "of another": "twenty bytes as ever"}
	treetest.Files(t, bucket, at, files)
	treetest.Files(t, edge, at, files)
	for name, text := range files {
		object, err := bucket.Stat(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		mark := map[string]tree.Mark{"other": {Digest: blake3.Sum256([]byte("thorns"))}, "of it": {Version: object.Version}, "of another": {Version: "v0"}}[name]
		if mark == (tree.Mark{}) {
			mark.Digest = blake3.Sum256([]byte(text))
		}
		e, err := edge.Stat(t.Context(), name)
		if err == nil {
			_, err = edge.Offload(t.Context(), name, e, mark)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for level, c := range map[Level]struct{ opened, listed []string }{
		Sample: {opened: []string{"no hash"}, listed: []string{"no hash"}},
		Full:   {opened: []string{"kept", "no hash", "of it", "other"}, listed: []string{"kept", "no hash", "of it"}},
	} {
		var mu sync.Mutex
		var opened []string
		bucket.Fault = func(step, name string) error {
			mu.Lock()
			defer mu.Unlock()
			if step == "open" {
				opened = append(opened, name)
			}
			return nil
		}
		s, err := run(t.Context(), &Comparison{First: Side{Name: "haar", Tree: bucket}, Second: Side{Name: "sedge", Tree: edge}, Level: level, Sample: 5, Random: rand.New(rand.NewPCG(1, 2))}, &State{})
		slices.Sort(opened)
		if want := []string{"of another unreadable", "other content"}; err != nil || !slices.Equal(s.found, want) || !slices.Equal(opened, c.opened) {
			t.Errorf("%s: found %q, opened %q, %v; want %q and %q", level, s.found, opened, err, want, c.opened)
		}
		listed := slices.DeleteFunc(s.read, func(line string) bool { return strings.HasSuffix(line, " false") })
		if want := strings.Join(c.listed, " true ") + " true"; strings.Join(listed, " ") != want {
			t.Errorf("%s: listed %q, want %q", level, listed, want)
		}
	}
}

func ExampleWalk() {
	ctx := context.Background()
	fern, yarrow := &memory.Tree{}, &memory.Tree{}
	for _, t := range []*memory.Tree{fern, yarrow} {
		_, _ = t.Put(ctx, "ledger.csv", strings.NewReader("accession,bed\n"), tree.PutOptions{})
	}
	_, _ = fern.Put(ctx, "index.txt", strings.NewReader("A to Z"), tree.PutOptions{})
	w := &Walk{First: Side{Name: "fern", Tree: fern}, Second: Side{Name: "yarrow", Tree: yarrow}}
	for p, err := range w.Pairs(ctx) {
		fmt.Println(p.Path, p.First != nil, p.Second != nil, err)
	}
	// Output:
	// . true true <nil>
	// index.txt true false <nil>
	// ledger.csv true true <nil>
}
