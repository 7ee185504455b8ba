package planning

import (
	"io/fs"
	"strings"
	"testing"
	"time"

	"bridgespan/core/filter"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/service/jobs"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

var written = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

// grow makes a tree of files by their paths.
func grow(t *testing.T, files map[string]string) *memory.Tree {
	t.Helper()
	m := &memory.Tree{CaseSensitive: true}
	treetest.Files(t, m, written, files)
	return m
}

// A place is compared with the seed: what can be adopted, what comes, what goes to the attic, and
// what stands in the way.
func TestPair(t *testing.T) {
	f, err := filter.New(model.ReplicaSet{}.Filter)
	if err != nil {
		t.Fatal(err)
	}
	seed := &planSite{replica: model.Replica{Name: "oak"}, place: plan.Place{Seed: true},
		tree: grow(t, map[string]string{"same": "123", "other": "1234", "missing": "12345", "beds/Fern": "x", "closed/in": "x"})}
	other := &planSite{replica: model.Replica{Name: "elm"},
		tree: grow(t, map[string]string{"same": "123", "other": "12", "extra": "1", "beds/fern": "x", "twice": "1", "Twice": "1", "closed/in": "y", ".bspan/intake/x": "on its way"})}
	other.tree.(*memory.Tree).Fault = func(step, name string) error {
		if step == "list" && name == "closed" {
			return tree.PathError(step, name, fs.ErrPermission)
		}
		return nil
	}
	p := &planner{job: &jobs.Job{}, filter: f, at: written, sites: []*planSite{seed, other}}
	if err := p.walk(t.Context()); err != nil {
		t.Fatal(err)
	}
	o := &other.place
	for what, c := range map[string][2]int64{
		"adopted":    {o.Equal.Files, 2}, // the same, and one that is spelled otherwise
		"different":  {o.Differ.Files, 1},
		"missing":    {o.Missing.Files, 1},
		"extra":      {o.Extra.Files, 3},
		"spelled":    {other.spelled.n, 1},
		"clashing":   {other.clashes.n, 1},
		"unreadable": {other.unread.n, 1},
		"carried":    {o.Load().Bytes, 9},
	} {
		if c[0] != c[1] {
			t.Errorf("%s: %d, want %d", what, c[0], c[1])
		}
	}
	if seed.place.Content.Files != 4 || other.unread.first != "closed" { // what is in it is not compared
		t.Errorf("the seed has %d files, and %q cannot be read", seed.place.Content.Files, other.unread.first)
	}
}

// Files are encrypted where they are, as far as a mover is there.
func TestJudgeEncryption(t *testing.T) {
	for want, server := range map[string]model.Server{"its mover": {Name: "sedge", Certificate: "ab"}, "the service": {Name: "oak"}} {
		if f := judgeEncryption(&planSite{replica: model.Replica{Name: "beds"}, server: server}); !strings.HasPrefix(f.Found, "beds: "+want+" encrypts") {
			t.Errorf("%s: %s", server.Name, f.Found)
		}
	}
}
