package replication

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// plantFolders makes folders with five files each, and in every third another folder
// with three. It returns how many folders and files there are.
func plantFolders(t *testing.T, tr tree.Tree, n int) (folders, files int) {
	t.Helper()
	plant := func(folder string, each int) {
		if err := tree.MkdirAll(t.Context(), tr, folder); err != nil {
			t.Fatal(err)
		}
		folders++
		for i := range each {
			files++
			if _, err := tr.Put(t.Context(), fmt.Sprintf("%s/file %d", folder, i), strings.NewReader(fmt.Sprint(folder, i)), tree.PutOptions{}); err != nil {
				t.Fatal(err)
			}
		}
	}
	for i := range n {
		folder := fmt.Sprintf("folder %02d", i)
		plant(folder, 5)
		if i%3 == 0 {
			plant(folder+"/below", 3)
		}
	}
	return folders, files
}

// apart puts all that waits into the backlog path by path, as when a lane is added:
// all folders before all files.
func (s *memoryStore) apart(l replica.Lane) {
	s.backlog[l] = nil
	for _, kind := range []replica.Kind{replica.Folder, replica.File} {
		found, _ := s.matching(l.From, func(rec *replica.Record) bool { return rec.Kind == kind })
		for _, rec := range found {
			s.queueRecords(l, []string{rec.Key})
		}
	}
}

// New folders come with all that is in them, however little is carried at a time and
// in whatever order it waits.
func TestNewFoldersComeWhole(t *testing.T) {
	for _, apart := range []bool{false, true} {
		for _, limit := range []int{1, 7, 20, 1000} {
			t.Run(fmt.Sprint(limit, " at a time, path by path: ", apart), func(t *testing.T) {
				from, to := new(memory.Tree), new(memory.Tree)
				folders, files := plantFolders(t, from, 10)
				p := newPair(t, from, to)
				p.Hands = 1
				for _, r := range p.Replicas {
					if _, err := p.Scan(t.Context(), r.ID); err != nil {
						t.Fatal(err)
					}
				}
				lane, store := p.Lanes[0], p.Store.(*memoryStore)
				if whole := len(store.backlog[lane]); whole != folders {
					t.Errorf("%d tickets for %d folders", whole, folders)
				}
				if apart {
					store.apart(lane)
				}
				renames := 0
				to.Fault = func(step, _ string) error {
					if step == "rename" {
						renames++
					}
					return nil
				}
				for done := 0; len(store.backlog[lane]) > 0; {
					c, err := p.Carry(t.Context(), lane, limit)
					if err != nil || c.Done == 0 {
						t.Fatalf("%+v, %v, with %d tickets left", c, err, len(store.backlog[lane]))
					}
					if done += c.Done; c.Done > limit+20 {
						t.Errorf("%d at a time", c.Done)
					}
					if len(store.backlog[lane]) == 0 && done < folders+files {
						t.Errorf("%d done of %d", done, folders+files)
					}
				}
				to.Fault = nil
				if renames != folders {
					t.Errorf("%d renames for %d folders: files came alone", renames, folders)
				}
				p.same()
			})
		}
	}
}

// What cannot be carried of a folder gets tickets of its own, and the whole goes.
func TestWholeFolderInPart(t *testing.T) {
	from, to := new(memory.Tree), new(memory.Tree)
	plantFolders(t, from, 1)
	p := newPair(t, from, to)
	for _, r := range p.Replicas {
		if _, err := p.Scan(t.Context(), r.ID); err != nil {
			t.Fatal(err)
		}
	}
	lane, store := p.Lanes[0], p.Store.(*memoryStore)
	from.Fault = func(step, name string) error {
		if step == "open" && name == "folder 00/file 3" {
			return fs.ErrPermission
		}
		return nil
	}
	trouble := 0
	p.Trouble = func(tr Trouble) {
		if trouble++; tr.Path != "folder 00/file 3" || !errors.Is(tr.Err, fs.ErrPermission) {
			t.Errorf("%+v", tr)
		}
	}
	c, err := p.Carry(t.Context(), lane, 1000)
	if err != nil || c.Done != 2+8-1 || c.Postponed != 1 || trouble != 1 { // of 2 folders and 8 files one is left
		t.Errorf("%+v, %v, %d times trouble", c, err, trouble)
	}
	if left := store.backlog[lane]; len(left) != 1 || left["folder 00/file 3"].Key == "" {
		t.Errorf("left are %+v", left)
	}
	if !slices.Equal(store.failed, []string{"folder 00/file 3"}) {
		t.Errorf("to be left alone for a while are %q", store.failed)
	}
	from.Fault = nil
	if _, err := p.Carry(t.Context(), lane, 1000); err != nil {
		t.Error(err)
	}
	p.same()
}

func TestRoomFor(t *testing.T) {
	tickets := []replica.Ticket{{Key: "a", Whole: 10}, {Key: "b"}, {Key: "c", Whole: 3}, {Key: "d"}}
	for limit, want := range map[int]int{0: 1, 1: 1, 11: 1, 12: 2, 15: 2, 16: 3, 17: 4, 100: 4} {
		if got := roomFor(tickets, limit); len(got) != want {
			t.Errorf("%d tickets for %d paths, want %d", len(got), limit, want)
		}
	}
	if got := roomFor(nil, 5); len(got) != 0 {
		t.Errorf("of none: %v", got)
	}
}

// A folder that waits as a whole, of which a part was done, does not do that part again.
func TestWholesAreSplitWhenPartIsDone(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	p.settleDown()
	for i := range 3 {
		put(t, p.a, "beds/"+string(rune('a'+i)), "x")
	}
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	s := p.Store.(*memoryStore)
	w := &whole{ticket: s.backlog[p.Lanes[0]]["beds"], some: true, left: map[string]bool{"beds/a": true}}
	if w.ticket.Whole == 0 {
		t.Fatal("the new folder does not wait as a whole")
	}
	c := &carry{Engine: p.Engine, lane: p.Lanes[0], progress: p.progressOf(p.Lanes[0]), wholes: map[string]*whole{"beds": w}}
	if err := c.endWholes(t.Context()); err != nil {
		t.Fatal(err)
	}
	for key, want := range map[string]bool{"beds": true, "beds/a": true, "beds/b": false} {
		if ticket, waits := s.backlog[p.Lanes[0]][key]; waits != want || ticket.Whole != 0 {
			t.Errorf("%s: %+v, waits: %v", key, ticket, waits)
		}
	}
}
