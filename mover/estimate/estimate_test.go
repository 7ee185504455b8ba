package estimate

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/core/dedup"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

// store keeps records in memory, as MariaDB does.
type store struct {
	mu      sync.Mutex
	records map[string]dedup.Record
	sums    map[string][16]byte
	saves   int
	failing error
}

func newStore() *store {
	return &store{records: map[string]dedup.Record{}, sums: map[string][16]byte{}}
}

func keyOf(place int, path string) string { return fmt.Sprint(place, ":", path) }

// list are the records that fit, in order of their keys.
func (s *store) list(fits func(r *dedup.Record) bool) (list []dedup.Record) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.records {
		if fits(&r) {
			list = append(list, r)
		}
	}
	slices.SortFunc(list, func(a, b dedup.Record) int {
		return strings.Compare(keyOf(a.Place, a.Path), keyOf(b.Place, b.Path))
	})
	return list
}

func (s *store) Children(_ context.Context, place int, folder string) ([]dedup.Record, error) {
	return s.list(func(r *dedup.Record) bool { return r.Place == place && path.Dir(r.Path) == folder }), s.failing
}

func (s *store) Sum(_ context.Context, place int, folder string) ([16]byte, error) {
	if len(s.list(func(r *dedup.Record) bool { return r.Place == place && path.Dir(r.Path) == folder && r.Unread != "" })) > 0 {
		return [16]byte{}, s.failing
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sums[keyOf(place, folder)], s.failing
}

func (s *store) KeepSum(_ context.Context, place int, folder string, sum [16]byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sums[keyOf(place, folder)] = sum
	return s.failing
}

func (s *store) Save(_ context.Context, records []dedup.Record) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range records {
		s.records[keyOf(r.Place, r.Path)] = r
		s.saves++
	}
	return s.failing
}

func (s *store) Forget(_ context.Context, place int, folder string, names []string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range names {
		at := path.Join(folder, name)
		for key, r := range s.records {
			if r.Place == place && (r.Path == at || strings.HasPrefix(r.Path, at+"/")) {
				delete(s.records, key)
			}
		}
	}
	return nil
}

func (s *store) Unread(_ context.Context, after *dedup.Record, limit int) ([]dedup.Record, error) {
	list := s.list(func(r *dedup.Record) bool {
		return r.Unread != "" && (after == nil || keyOf(r.Place, r.Path) > keyOf(after.Place, after.Path))
	})
	return list[:min(len(list), limit)], s.failing
}

func (s *store) Each(_ context.Context, do func(dedup.Record) error) error {
	return eachOf(s.list(func(r *dedup.Record) bool { return !r.Folder }), do)
}

func (s *store) Equals(_ context.Context, do func(dedup.Record) error) error {
	list := s.list(func(r *dedup.Record) bool { return !r.Folder && r.Unread == "" })
	slices.SortStableFunc(list, func(a, b dedup.Record) int { return bytes.Compare(a.Summary.Digest[:], b.Summary.Digest[:]) })
	return eachOf(list, do)
}

func eachOf(list []dedup.Record, each func(dedup.Record) error) error {
	for _, r := range list {
		if err := each(r); err != nil {
			return err
		}
	}
	return nil
}

func (s *store) Files(context.Context) (int64, error) {
	return int64(len(s.list(func(r *dedup.Record) bool { return !r.Folder }))), nil
}

func (s *store) Doubles(context.Context) ([]dedup.Record, error) {
	times := map[uint64]int{}
	for _, r := range s.list(func(r *dedup.Record) bool { return r.ID != 0 }) {
		times[r.ID]++
	}
	return s.list(func(r *dedup.Record) bool { return times[r.ID] > 1 }), nil
}

// watched counts what is read, and lets files be in use.
type watched struct {
	tree.Tree
	mu   sync.Mutex
	read map[string]int
	held map[string]int // how often more a file is in use
	gone bool
	open func(name string)
}

func (w *watched) Open(ctx context.Context, name string) (tree.Content, error) {
	w.mu.Lock()
	w.read[name]++
	held := w.held[name]
	w.held[name]--
	gone := w.gone
	w.mu.Unlock()
	if w.open != nil {
		w.open(name)
	}
	switch {
	case gone:
		return nil, tree.PathError("open", name, tree.ErrUnreachable)
	case held > 0:
		return nil, tree.PathError("open", name, tree.ErrInUse)
	}
	return w.Tree.Open(ctx, name)
}

type garden struct {
	*Work
	t     *testing.T
	tree  *memory.Tree
	at    *watched
	store *store
}

var written = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

func newGarden(t *testing.T) *garden {
	g := &garden{t: t, tree: &memory.Tree{}, store: newStore()}
	g.at = &watched{Tree: g.tree, read: map[string]int{}, held: map[string]int{}}
	g.again()
	return g
}

// again is a new look at the same volume.
func (g *garden) again() {
	g.at.read = map[string]int{}
	g.Work = &Work{Places: []Place{{Server: "fern", Name: "fern/herbarium", Tree: g.at}}, Store: g.store, Profile: dedup.Documents, Compression: dedup.OfAll, Budget: 16 << 20, Readers: 2, Tries: 3}
}

func noise(seed uint64, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)}).Read(b)
	return b
}

func (g *garden) put(name string, content []byte) {
	g.t.Helper()
	if err := tree.MkdirAll(g.t.Context(), g.tree, path.Dir(name)); err != nil {
		g.t.Fatal(err)
	}
	if _, err := g.tree.Put(g.t.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: written}}); err != nil {
		g.t.Fatal(err)
	}
}

// estimate looks, reads and counts.
func (g *garden) estimate() dedup.Found {
	g.t.Helper()
	if err := cmp.Or(g.Look(g.t.Context()), g.Read(g.t.Context())); err != nil {
		g.t.Fatal(err)
	}
	return g.analyse()
}

func (g *garden) analyse() dedup.Found {
	g.t.Helper()
	found, err := dedup.Analyse(g.t.Context(), g.store, []string{"fern/herbarium"}, []string{"fern"}, dedup.Policy{Profile: g.Profile, Compression: g.Compression}, dedup.Means{Budget: 16 << 20}, written.AddDate(0, 2, 0))
	if err != nil {
		g.t.Fatal(err)
	}
	return found
}

func TestEstimate(t *testing.T) {
	g := newGarden(t)
	scan := noise(1, 600_000)
	g.put("roses/canina.tif", scan)
	g.put("roses/copies/canina.tif", scan)
	g.put("small.txt", noise(2, 500))
	g.put(".bspan/intake/on its way", noise(3, 9000))
	found := g.estimate()
	if f := found.Totals; f.Files != 3 || f.InPolicy.Bytes != 1_200_500 || f.Unique.Bytes != 600_500 || found.WholeFiles != 600_000 || len(found.Twins) != 1 {
		t.Errorf("%+v", found)
	}
	if p := g.Progress(); p.Found != 3 || p.ToRead != 1_200_500 || p.Bytes != 1_200_500 || p.Files != 3 || p.Saved != 600_000 {
		t.Errorf("progress is %+v", p)
	}
	// Unchanged: nothing is read, and nothing kept anew.
	g.again()
	saves := g.store.saves
	if again := g.estimate(); len(g.at.read) != 0 || g.store.saves != saves || again.Totals.Unique != found.Totals.Unique {
		t.Errorf("the second time, %v were read and %d records kept", g.at.read, g.store.saves-saves)
	}
	// What changed is read alone, and what went is forgotten.
	g.put("roses/canina.tif", noise(4, 700_000))
	if err := errors.Join(g.tree.Remove(t.Context(), "roses/copies/canina.tif"), g.tree.Remove(t.Context(), "roses/copies"), g.tree.Remove(t.Context(), "small.txt")); err != nil {
		t.Fatal(err)
	}
	g.put("small.txt/now a folder", []byte("x"))
	g.again()
	found = g.estimate()
	if f := found.Totals; f.Files != 2 || f.Unique.Bytes != 700_001 || len(g.at.read) != 2 || len(g.store.records) != 4 {
		t.Errorf("after changes: %+v, %v read, %d records", f, g.at.read, len(g.store.records))
	}
}

func TestFilesInUse(t *testing.T) {
	g := newGarden(t)
	g.put("for a while.dat", noise(1, 100_000))
	g.put("all day.dat", noise(2, 100_000))
	g.at.held = map[string]int{"for a while.dat": 2, "all day.dat": 100}
	found := g.estimate()
	if g.at.read["for a while.dat"] != 3 || g.at.read["all day.dat"] != 3 {
		t.Errorf("tried %v", g.at.read)
	}
	if want := []dedup.Left{{Why: InUse, Files: 1, Bytes: 100_000}}; !slices.Equal(found.Totals.Left, want) || found.Totals.InPolicy.Files != 1 {
		t.Errorf("%+v", found.Totals)
	}
	if got := g.Troubles(); len(got) != 1 || got[0] != "fern/herbarium/all day.dat: in use" || g.Progress().Trouble != 1 {
		t.Errorf("troubles are %q, %d", got, g.Progress().Trouble)
	}
}

// A stub is left out and never fetched; once its content is there, it is read.
func TestStubs(t *testing.T) {
	g := newGarden(t)
	g.put("small.tif", noise(1, 2000))
	g.put("large.tif", noise(2, 200_000))
	g.put("here.tif", noise(3, 100_000))
	for _, name := range []string{"small.tif", "large.tif"} {
		treetest.MakeStub(t, g.tree, name)
	}
	g.tree.Fault = func(step, name string) error {
		if step == "fetch" {
			t.Errorf("%s was fetched", name)
		}
		return nil
	}
	for range 2 { // also when their folder is known
		found := g.estimate()
		if want := []dedup.Left{{Why: dedup.StubOnly, Files: 2, Bytes: 202_000}}; !slices.Equal(found.Totals.Left, want) || found.Totals.InPolicy.Files != 1 {
			t.Errorf("%+v", found.Totals)
		}
		g.again()
	}
	g.tree.Fault = nil
	if _, err := tree.ReadFile(t.Context(), g.tree, "large.tif"); err != nil {
		t.Fatal(err)
	}
	if found := g.estimate(); found.Totals.InPolicy.Files != 2 {
		t.Errorf("once it is here: %+v", found.Totals)
	}
}

// A file that people write to while it is read is read again.
func TestChangedMeanwhile(t *testing.T) {
	g := newGarden(t)
	g.put("log.txt", noise(1, 200_000))
	changed := false
	g.Pace = func(context.Context, int) error {
		if !changed {
			changed = true
			_, err := g.tree.Put(t.Context(), "log.txt", bytes.NewReader(noise(5, 300_000)), tree.PutOptions{Replace: true})
			return err
		}
		return nil
	}
	found := g.estimate()
	if f := found.Totals; g.at.read["log.txt"] != 2 || f.InPolicy.Bytes != 300_000 || f.Unique.Bytes != 300_000 {
		t.Errorf("read %v: %+v", g.at.read, f)
	}
}

// A volume that goes away is kept as far as it was read, and gone on with.
func TestVolumeVanishes(t *testing.T) {
	g := newGarden(t)
	for i := range 20 {
		g.put(fmt.Sprintf("bed/%02d.dat", i), noise(uint64(i), 50_000))
	}
	g.Readers = 1
	g.at.open = func(name string) {
		if name == "bed/09.dat" {
			g.at.mu.Lock()
			g.at.gone = true
			g.at.mu.Unlock()
		}
	}
	if err := cmp.Or(g.Look(t.Context()), g.Read(t.Context())); !errors.Is(err, tree.ErrUnreachable) {
		t.Fatalf("it ended with %v", err)
	}
	partial := g.analyse()
	if f := partial.Totals; f.InPolicy.Files < 8 || f.InPolicy.Files > 10 || len(f.Left) != 1 || f.Left[0].Why != dedup.NotYet {
		t.Errorf("kept is %+v", f)
	}
	g.again()
	g.at.gone, g.at.open = false, nil
	if f := g.estimate().Totals; f.InPolicy.Files != 20 || int64(len(g.at.read)) != 20-partial.Totals.InPolicy.Files {
		t.Errorf("gone on with %d files of %+v", len(g.at.read), f)
	}
}

// What is left out is not read; one budget bounds the marks that are kept.
func TestWantsAndBudget(t *testing.T) {
	g := newGarden(t)
	for i := range 30 {
		g.put(fmt.Sprintf("bed/%02d.dat", i), noise(uint64(i), 1<<20))
	}
	g.put("cache/a.tmp", noise(99, 1<<20))
	g.Budget = dedup.LeastBudget
	g.Wants = func(r *dedup.Record) bool { return !strings.HasSuffix(r.Path, ".tmp") }
	found := g.estimate()
	if g.at.read["cache/a.tmp"] != 0 || found.Totals.InPolicy.Files != 30 || g.Progress().ToRead != 30<<20 {
		t.Errorf("read %v, %+v", g.at.read, found.Totals)
	}
	g.again()
	g.Budget = dedup.LeastBudget - 1
	if err := g.Read(t.Context()); err == nil || !strings.Contains(err.Error(), fmt.Sprint(dedup.LeastBudget)) {
		t.Errorf("a budget that is too small: %v", err)
	}
}

// Nothing is listed or read that is not admitted.
func TestAdmit(t *testing.T) {
	g := newGarden(t)
	for i := range 5 {
		g.put(fmt.Sprintf("bed/%d.dat", i), noise(uint64(i), 1000))
	}
	g.Readers = 1
	admitted, closed := 0, errors.New("closed")
	g.Admit = func(context.Context) error {
		if admitted == 0 {
			return closed
		}
		admitted--
		return nil
	}
	if err := g.Look(t.Context()); !errors.Is(err, closed) || g.Progress().Found != 0 {
		t.Errorf("closed at once: %v, %+v", err, g.Progress())
	}
	admitted = 2 // the top, and the bed, listed one after the other
	if err := g.Look(t.Context()); err != nil || g.Progress().Found != 5 {
		t.Errorf("%v, %+v", err, g.Progress())
	}
	admitted = 3
	if err := g.Read(t.Context()); !errors.Is(err, closed) || g.Progress().Files != 3 {
		t.Errorf("closed after three files: %v, %+v", err, g.Progress())
	}
}

func TestStoreFails(t *testing.T) {
	g := newGarden(t)
	g.put("a/b", []byte("x"))
	g.store.failing = errors.New("no database")
	if err := g.Look(t.Context()); !errors.Is(err, g.store.failing) {
		t.Errorf("Look: %v", err)
	}
	if err := g.Read(t.Context()); !errors.Is(err, g.store.failing) {
		t.Errorf("Read: %v", err)
	}
}
