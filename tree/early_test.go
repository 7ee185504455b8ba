package tree

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// slowly lists folders of two files each, a second at a time, and counts those that are
// under way.
type slowly struct {
	mu                 sync.Mutex
	begun, under, most int
}

func (s *slowly) count(under int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.under += under
	s.begun += max(under, 0)
	s.most = max(s.most, s.under)
}

func (s *slowly) list(ctx context.Context, name string) ([]Named, error) {
	s.count(1)
	defer s.count(-1)
	select {
	case <-time.After(time.Second):
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if name == "bad" {
		return nil, errors.New("cannot be listed")
	}
	return []Named{{Path: name + "/a"}, {Path: name + "/b"}}, nil
}

func someFolders(n int) (list []Named) {
	for i := range n {
		list = append(list, Named{Path: fmt.Sprint("folder", i)})
	}
	return list
}

// Folders come in their order, and several are listed at a time.
func TestEarly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, began := &slowly{}, time.Now()
		e := newEarly(t.Context(), s.list)
		next := e.below(someFolders(4 * earlyFolders))
		for i := range 4 * earlyFolders {
			list, err := next().get()
			if err != nil || len(list) != 2 || list[0].Path != fmt.Sprintf("folder%d/a", i) {
				t.Fatalf("folder %d: %v, %v", i, list, err)
			}
		}
		if took := time.Since(began); took != 4*time.Second || s.most > earlyFolders+1 || e.waiting.Load() != 0 {
			t.Errorf("it took %v, with %d at a time; %d entries wait", took, s.most, e.waiting.Load())
		}
		e.end()
	})
}

// When much waits to be taken, no more is listed than what is asked for.
func TestEarlyBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slowly{}
		e := newEarly(t.Context(), s.list)
		e.waiting.Store(earlyEntries)
		next := e.below(someFolders(4))
		for range 4 {
			if _, err := next().get(); err != nil {
				t.Fatal(err)
			}
		}
		if s.most != 1 {
			t.Errorf("%d folders were listed at a time", s.most)
		}
	})
}

// What cannot be listed says so when it is its turn; after the end nothing is listed.
func TestEarlyEnds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slowly{}
		e := newEarly(t.Context(), s.list)
		folders := someFolders(3 * earlyFolders)
		folders[1].Path = "bad"
		next := e.below(folders)
		if _, err := next().get(); err != nil {
			t.Error(err)
		}
		if _, err := next().get(); err == nil {
			t.Error("what cannot be listed was")
		}
		next()
		e.end()
		if s.under != 0 || s.begun > earlyFolders+3 {
			t.Errorf("%d folders are being listed, %d were begun", s.under, s.begun)
		}
	})
}
