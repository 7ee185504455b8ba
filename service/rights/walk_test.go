package rights

import (
	"context"
	"io/fs"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/service/jobs"
	"bridgespan/service/work"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

func parts(t testing.TB, text string) acl.Parts {
	t.Helper()
	p, err := acl.ParseParts(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// hedge is a tree whose names make plain text order and the order of a walk differ.
func hedge(t *testing.T, descriptor string, more ...string) *memory.Tree {
	t.Helper()
	m := new(memory.Tree)
	files := map[string]string{}
	for _, name := range append([]string{"a/x/1", "a/x/2", "a b/3", "a-b", "b/y/z/4", "c"}, more...) {
		files[name] = name
	}
	treetest.Files(t, m, time.Time{}, files)
	d := descriptorOf(parts(t, descriptor))
	for e, err := range tree.Walk(t.Context(), m, ".", tree.Plain) {
		if err != nil {
			t.Fatal(err)
		}
		if err := m.Apply(t.Context(), e.Path, tree.Meta{Descriptor: d}); err != nil {
			t.Fatal(err)
		}
	}
	return m
}

func comparingOf(first, second *memory.Tree) *comparing {
	return &comparing{both: &both{first: &look{server: model.Server{Name: "oak"}, tree: first}, second: &look{server: model.Server{Name: "elm"}, tree: second}}}
}

func pairs(t *testing.T, first, second *memory.Tree, after string) (list []acl.Pair, seen float64) {
	t.Helper()
	c := comparingOf(first, second)
	w := &compare.Walk{First: compare.Side{Tree: first}, Second: compare.Side{Tree: second}, Detail: tree.WithDescriptors, After: after}
	for p, err := range w.Pairs(t.Context()) {
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, c.pair(p))
	}
	return list, w.Seen()
}

// A comparison that ended after any path goes on with what comes after it, as
// if it had never stopped.
func TestGoingOnAfterAnyPath(t *testing.T) {
	first, second := hedge(t, "O:BAD:(A;;FA;;;BA)", "b/only"), hedge(t, "O:BAD:(A;;FR;;;BA)", "a/x/other", "d/e")
	whole, seen := pairs(t, first, second, "")
	if len(whole) != 17 || seen < 0.999 || seen > 1.001 {
		t.Fatalf("%d pairs, %v of all seen", len(whole), seen)
	}
	var sums totals
	for i, p := range whole {
		sums.add(p)
		rest, seen := pairs(t, first, second, p.Path)
		if !reflect.DeepEqual(rest, append([]acl.Pair(nil), whole[i+1:]...)) {
			t.Errorf("after %s: %d pairs, want %d", p.Path, len(rest), len(whole)-i-1)
		}
		if seen < 0.999 || seen > 1.001 {
			t.Errorf("after %s: %v of all is seen", p.Path, seen)
		}
	}
	if sums.OnlyFirst != 1 || sums.OnlySecond != 3 || sums.Looked != int64(len(whole)) || sums.found() != sums.Differ+4 {
		t.Errorf("%+v", sums)
	}
	if who := sums.concerned(); len(who) != 1 || sums.Shifts[who[0]].Loses != sums.Differ || sums.Shifts[who[0]].Gains != 0 {
		t.Errorf("who gains and loses: %+v", sums.Shifts)
	}
}

// A file or folder that cannot be read is a difference, and what is in the folder is not
// compared.
func TestUnreadableIsADifference(t *testing.T) {
	first, second := hedge(t, "O:BAD:(A;;FA;;;BA)"), hedge(t, "O:BAD:(A;;FA;;;BA)")
	second.Fault = func(step, name string) error {
		if step == "list" && name == "a/x" {
			return tree.PathError(step, name, fs.ErrPermission)
		}
		return nil
	}
	all, _ := pairs(t, first, second, "")
	var sums totals
	for _, p := range all {
		sums.add(p)
		if p.Path == "a/x" && !strings.Contains(p.Unread, "elm: access denied") || strings.HasPrefix(p.Path, "a/x/") {
			t.Errorf("%+v", p)
		}
	}
	if sums.Unreadable != 1 || sums.found() != 1 || len(all) != 11 {
		t.Errorf("%+v of %d", sums, len(all))
	}
}

// A comparison that is stopped in the middle keeps what it found, goes on from
// there, and lists every difference once.
func TestComparisonStopped(t *testing.T) {
	db, _ := standintest.Records(t)
	first, second := hedge(t, "O:BAD:(A;;FA;;;BA)", "b/only"), hedge(t, "O:BAD:(A;;FR;;;BA)", "a/x/other", "d/e")
	reached, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	first.Fault = func(step, name string) error {
		if step == "list" && name == "b" {
			once.Do(func() { close(reached); <-goOn })
		}
		return nil
	}
	j := jobs.New(db, &work.Leases{DB: db, Holder: "here"}, func() {})
	s := &Service{db: db, jobs: j, changed: func() {}}
	place := func(m *memory.Tree) *look {
		return &look{Place: model.Place{Server: "oak", Share: "store", Folder: true}, server: model.Server{Name: "oak"}, tree: m}
	}
	j.Register(compareKind, jobs.Policy{Pool: jobs.Interactive}, func(ctx context.Context, job *jobs.Job) error {
		return s.compareBoth(ctx, job, &both{s, place(first), place(second), s.names(nil)})
	})
	running, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { j.Run(running); close(done) }()
	defer func() { stop(); <-done }()
	id, err := j.Start(t.Context(), compareKind, "oak/store and oak/store", compareSettings{})
	if err != nil {
		t.Fatal(err)
	}
	<-reached
	if err := j.Stop(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	close(goOn)
	r, err := j.Await(t.Context(), id, time.Minute)
	if err != nil || r.State != model.RunStopped {
		t.Fatalf("stopped: %+v, %v", r, err)
	}
	part, err := db.RightsDifferences(t.Context(), id, 0, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	if err := j.Resume(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	if r, err = j.Await(t.Context(), id, time.Minute); err != nil || r.State != model.RunDone || r.Done != 17 {
		t.Fatalf("resumed: %+v, %v", r, err)
	}
	whole, _ := pairs(t, first, second, "")
	whole = slices.DeleteFunc(whole, acl.Pair.Same)
	all, err := db.RightsDifferences(t.Context(), id, 0, "", 100)
	if err != nil || len(all) != len(whole) || len(part) >= len(all) {
		t.Fatalf("%d differences, %d when it was stopped, want %d; %v", len(all), len(part), len(whole), err)
	}
	for i, d := range all {
		if d.Path != whole[i].Path || d.First != whole[i].Before || d.Second != whole[i].After {
			t.Errorf("difference %d is at %s, want %s", i, d.Path, whole[i].Path)
		}
	}
}
