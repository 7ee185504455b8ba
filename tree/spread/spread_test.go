package spread_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/spread"
	"bridgespan/tree/treetest"
)

func TestConformance(t *testing.T) {
	treetest.Run(t, func(*testing.T) tree.Tree {
		m := &memory.Tree{}
		return spread.Over(m, m, m)
	})
}

// counted is a connection that counts what comes over it.
type counted struct {
	tree.Tree
	opened atomic.Int64
	closed atomic.Bool
}

func (c *counted) Open(ctx context.Context, name string) (tree.Content, error) {
	c.opened.Add(1)
	return c.Tree.Open(ctx, name)
}

func (c *counted) Close() error {
	c.closed.Store(true)
	return errors.New("closed badly")
}

// What is under way is spread evenly, and a file that stays open keeps its
// connection busy.
func TestSpreads(t *testing.T) {
	m := &memory.Tree{}
	a, b := &counted{Tree: m}, &counted{Tree: m}
	s := spread.Over(a, b)
	if _, err := s.Put(t.Context(), "file", strings.NewReader("text"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	var all []tree.Content
	for range 10 {
		c, err := s.Open(t.Context(), "file")
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, c)
	}
	if a.opened.Load() != 5 || b.opened.Load() != 5 {
		t.Errorf("opened %d and %d", a.opened.Load(), b.opened.Load())
	}
	if _, err := s.Open(t.Context(), "missing"); err == nil {
		t.Error("what is missing was opened")
	}
	for _, c := range all {
		if err := c.Close(); err != nil {
			t.Error(err)
		}
	}
	before := a.opened.Load() + b.opened.Load()
	for range 4 {
		if text, err := tree.ReadFile(t.Context(), s, "file"); err != nil || string(text) != "text" {
			t.Error(string(text), err)
		}
	}
	if now := a.opened.Load() + b.opened.Load(); now != before+4 || a.opened.Load()-b.opened.Load() > 1 || b.opened.Load()-a.opened.Load() > 1 {
		t.Errorf("when all was closed: %d and %d", a.opened.Load(), b.opened.Load())
	}
	if err := s.Close(); err == nil || !a.closed.Load() || !b.closed.Load() || strings.Count(fmt.Sprint(err), "badly") != 2 {
		t.Errorf("closed: %v, %v, %v", err, a.closed.Load(), b.closed.Load())
	}
}
