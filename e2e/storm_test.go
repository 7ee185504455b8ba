package e2e

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os/exec"
	"path"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/replica"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/tree"
)

// storm is a replica set in whose replicas people work at random: they create, overwrite,
// rename and remove files, move folders into each other, and delete whole branches.
type storm struct {
	*testing.T
	api    *client.Client
	db     *records.DB
	set    string
	names  []string
	trees  map[string]tree.Tree
	random *rand.Rand
	// files and folders are what people know of, by replica.
	files, folders map[string][]string
	// paths are where each content may be, or have been; replaced are the contents that
	// people may have overwritten or removed.
	paths    map[string]map[string]bool
	replaced map[string]bool
}

// newStorm makes a set and waits until its replicas are the same.
func newStorm(t *testing.T, e *harness.Estate, db *records.DB, asked model.NewReplicaSet, open map[string]func() tree.Tree, seed uint64) *storm {
	t.Helper()
	if _, err := e.API.CreateReplicaSet(t.Context(), asked, nil); err != nil {
		t.Fatal(err)
	}
	trees := map[string]tree.Tree{}
	for name, in := range open { // the folders are there by now
		trees[name] = in()
	}
	s := &storm{T: t, api: e.API, db: db, set: asked.Name, names: slices.Sorted(maps.Keys(trees)), trees: trees,
		random: rand.New(rand.NewPCG(seed, 23)), files: map[string][]string{}, folders: map[string][]string{}, paths: map[string]map[string]bool{}, replaced: map[string]bool{}}
	s.await("the first fill", time.Minute, steady)
	return s
}

// await asks for the set until it is as wanted.
func (s *storm) await(what string, most time.Duration, ok func(model.ReplicaSet) bool) {
	s.Helper()
	for deadline := time.Now().Add(most); ; time.Sleep(200 * time.Millisecond) {
		set, err := s.api.ReplicaSet(s.Context(), s.set)
		if err == nil && ok(set) {
			return
		}
		if time.Now().After(deadline) {
			troubles, _ := s.api.ReplicaTroubles(context.WithoutCancel(s.Context()), s.set)
			s.Fatalf("%s: %s has not come after %v: %s; %+v; %v; %+v", s.set, what, most, set.Summary, set.Lanes, err, troubles)
		}
	}
}

// contents are the files of a tree with the first line of each, and its folders with "".
func contents(ctx context.Context, t tree.Tree) (shown map[string]string, attic map[string]bool) {
	shown, attic = map[string]string{}, map[string]bool{}
	for e, err := range tree.Walk(ctx, t, ".", tree.Plain) {
		if err != nil { // people and the service work in it
			continue
		}
		own := tree.Reserved(e.Path)
		if e.Kind == tree.Folder {
			if !own {
				shown[e.Path] = ""
			}
			continue
		}
		text, err := tree.ReadFile(ctx, t, e.Path)
		if err != nil {
			continue
		}
		id, _, _ := strings.Cut(string(text), "\n")
		if own {
			attic[id] = true
		} else {
			shown[e.Path] = id
		}
	}
	return shown, attic
}

// step is one thing that people do. What the server refuses is not done.
func (s *storm) step(n int) {
	at := s.names[s.random.IntN(len(s.names))]
	ctx, t := s.Context(), s.trees[at]
	if n%20 == 0 || s.files[at] == nil {
		s.look(at)
	}
	files, folders := s.files[at], s.folders[at]
	drawn := func(list []string) string { return list[s.random.IntN(len(list))] }
	below := func(folder, ending string) string {
		return path.Join(folder, fmt.Sprintf("n%02d%s", s.random.IntN(40), ending))
	}
	switch what := s.random.IntN(100); {
	case what < 35 || len(files) == 0:
		name := below(drawn(folders), ".txt")
		s.write(t, name, n)
		s.files[at] = append(s.files[at], name)
	case what < 50:
		if folder := drawn(folders); strings.Count(folder, "/") < 4 {
			if name := below(folder, ""); t.Mkdir(ctx, name) == nil {
				s.folders[at] = append(s.folders[at], name)
			}
		}
	case what < 70:
		s.write(t, drawn(files), n)
	case what < 78:
		s.rename(t, drawn(files), below(drawn(folders), ".txt"))
	case what < 85 && len(folders) > 1:
		s.rename(t, drawn(folders[1:]), below(drawn(folders), ""))
	case what < 97:
		name := drawn(files)
		s.drop(name)
		_ = t.Remove(ctx, name)
	case len(folders) > 1:
		folder := drawn(folders[1:])
		s.drop(folder)
		_ = tree.RemoveAll(ctx, t, folder)
	}
}

// look is how people see what is there, now and then.
func (s *storm) look(at string) {
	s.files[at], s.folders[at] = []string{}, []string{"."}
	for e := range tree.Walk(s.Context(), s.trees[at], ".", tree.Bare) {
		switch {
		case tree.Reserved(e.Path):
		case e.Kind == tree.Folder:
			s.folders[at] = append(s.folders[at], e.Path)
		default:
			s.files[at] = append(s.files[at], e.Path)
		}
	}
}

// write writes a new content in the place of whatever is there.
func (s *storm) write(t tree.Tree, name string, n int) {
	id := fmt.Sprintf("%s %d", s.set, n)
	s.drop(name)
	if _, err := t.Put(s.Context(), name, strings.NewReader(id+"\n"+strings.Repeat("x", s.random.IntN(100_000))), tree.PutOptions{Replace: true}); err == nil {
		s.paths[id] = map[string]bool{name: true}
	}
}

// rename moves a file or folder, unless something is there.
func (s *storm) rename(t tree.Tree, from, to string) {
	if t.Rename(s.Context(), from, to, false) != nil {
		return
	}
	for _, paths := range s.paths {
		for name := range maps.Clone(paths) {
			if name == from || strings.HasPrefix(name, from+"/") {
				paths[to+strings.TrimPrefix(name, from)] = true
			}
		}
	}
}

// drop notes that people may do away with whatever is, or comes, at a path and below it.
func (s *storm) drop(name string) {
	for id, paths := range s.paths {
		for at := range paths {
			if at == name || strings.HasPrefix(at, name+"/") {
				s.replaced[id] = true
			}
		}
	}
}

// settles waits until the set is steady, and holds it against the promises.
func (s *storm) settles(most time.Duration) {
	s.Helper()
	if err := s.api.LookAtReplicas(s.Context(), s.set, ""); err != nil {
		s.Fatal(err)
	}
	s.await("that all replicas are the same", most, func(set model.ReplicaSet) bool { return steady(set) && s.same() })
	v := verified(s.T, s.api, s.set, "full", 3*time.Minute)
	for _, r := range v.Replicas {
		if r.Counts.Unexplained() > 0 || r.Counts.Explained > 0 || r.Counts.Overdue > 0 {
			s.Errorf("%s: %s: %+v", s.set, v.Verdict, r.Counts)
		}
	}
	s.nothingLost()
	s.recordsAgree()
}

func (s *storm) same() bool {
	first, _ := contents(s.Context(), s.trees[s.names[0]])
	for _, name := range s.names[1:] {
		if other, _ := contents(s.Context(), s.trees[name]); !maps.Equal(first, other) {
			return false
		}
	}
	return true
}

// nothingLost tells of content that nobody did away with and that is nowhere.
func (s *storm) nothingLost() {
	s.Helper()
	there := map[string]bool{}
	for _, name := range s.names {
		shown, attic := contents(s.Context(), s.trees[name])
		for _, id := range shown {
			there[id] = true
		}
		maps.Copy(there, attic)
	}
	kept := 0
	for id := range s.paths {
		if s.replaced[id] {
			continue
		}
		if kept++; !there[id] {
			s.Errorf("%s: the content %q is lost", s.set, id)
		}
	}
	if kept == 0 {
		s.Errorf("%s: people did away with everything: nothing was checked", s.set)
	}
}

// recordsAgree tells of what records say and replicas do not show, and the other way.
func (s *storm) recordsAgree() {
	s.Helper()
	set, err := s.db.ReplicaSet(s.Context(), s.set)
	if err != nil {
		s.Fatal(err)
	}
	for _, r := range set.Replicas {
		shown, _ := contents(s.Context(), s.trees[r.Name])
		keys := map[string]bool{}
		for name := range shown {
			keys[tree.Key(name, false)] = true
		}
		err := s.db.EachHeld(s.Context(), replica.ID(r.ID), func(key string, _ bool, _ int64, _ time.Time) error {
			if !keys[key] {
				s.Errorf("%s: %s is in the records of %s, and not there", s.set, key, r.Name)
			}
			delete(keys, key)
			return nil
		})
		if err != nil {
			s.Fatal(err)
		}
		for key := range keys {
			s.Errorf("%s: %s is at %s, and not in its records", s.set, key, r.Name)
		}
	}
}

// loaded keeps the processors busy with other processes until it is ended: races show on
// a busy machine.
func loaded(t *testing.T, loops int) (end func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	for range loops {
		all.Go(func() { _ = exec.CommandContext(ctx, "sh", "-c", "while :; do :; done").Run() })
	}
	return func() {
		cancel()
		all.Wait()
	}
}

func openRecords(t *testing.T, e *harness.Estate) *records.DB {
	t.Helper()
	db, err := records.Open(e.Database.DSN("bridgespan"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// TestStorm lets people work at random at two servers while the processors are busy. When
// they have stopped, both become the same, nothing is lost, and the records agree.
func TestStorm(t *testing.T) {
	e := harness.StartEstate(t)
	asked := model.NewReplicaSet{Name: "storm", Replicas: []model.NewReplica{{Server: "oak", Share: "store", Sub: "storm"}, {Server: "elm", Share: "store", Sub: "storm"}}}
	s := newStorm(t, e, openRecords(t, e), asked, map[string]func() tree.Tree{
		"oak": func() tree.Tree { return harness.TreeIn(t, e.Oak, "store", "storm") },
		"elm": func() tree.Tree { return harness.TreeIn(t, e.Elm, "store", "storm") }}, 1)
	end := loaded(t, 3)
	for i := range 300 {
		s.step(i)
	}
	end()
	s.settles(2 * time.Minute)
}
