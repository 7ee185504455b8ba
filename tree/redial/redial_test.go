package redial_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/redial"
	"bridgespan/tree/treetest"
)

func TestConformance(t *testing.T) {
	treetest.Run(t, func(t *testing.T) tree.Tree {
		m := &memory.Tree{}
		return redial.New(m.Capabilities(), func(context.Context) (tree.Tree, error) { return m, nil })
	})
}

// A connection that broke is made anew, once; and a server that is away is not
// asked at once again.
func TestBreaks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		down, dialled := false, 0
		m := &memory.Tree{Fault: func(string, string) error {
			if down {
				return tree.ErrUnreachable
			}
			return nil
		}}
		r := redial.New(m.Capabilities(), func(context.Context) (tree.Tree, error) {
			if dialled++; down {
				return nil, tree.ErrUnreachable
			}
			return m, nil
		})
		look := func(want error, dials int) {
			t.Helper()
			if _, err := r.Stat(t.Context(), "."); !errors.Is(err, want) || dialled != dials {
				t.Errorf("%v after %d dials, want %v after %d", err, dialled, want, dials)
			}
		}
		look(nil, 1)
		look(nil, 1)
		down = true
		look(tree.ErrUnreachable, 1)
		look(tree.ErrUnreachable, 2)
		look(tree.ErrUnreachable, 2) // not so soon
		time.Sleep(3 * time.Second)
		look(tree.ErrUnreachable, 3)
		down = false
		time.Sleep(3 * time.Second)
		look(nil, 4)
		if _, err := r.Put(t.Context(), "a", strings.NewReader("a"), tree.PutOptions{}); err != nil {
			t.Error(err)
		}
		f, err := r.Open(t.Context(), "a")
		if err != nil {
			t.Fatal(err)
		}
		down = true
		if _, err := f.ReadAt(make([]byte, 1), 0); !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("reading over a broken connection: %v", err)
		}
		down = false
		look(nil, 5)
	})
}
