package replication

import (
	"context"
	"io"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// What is read to be adopted is read at both ends, and crosses between them once: so
// it passes as the lane may carry. Nothing else is read, and nothing is carried.
func TestAdoptionIsPaced(t *testing.T) {
	a, b := &memory.Tree{}, &memory.Tree{}
	p := newPair(t, a, b)
	text := strings.Repeat("the same at both ends ", 10_000)
	put(t, a, "same", text)
	put(t, b, "same", text)
	var passed, back atomic.Int64
	p.Pace = func(_ context.Context, l replica.Lane, n int) error {
		if l == p.Lanes[0] {
			passed.Add(int64(n))
		} else {
			back.Add(int64(n))
		}
		return nil
	}
	total := p.settleDown()
	p.same()
	if want := int64(len(text)); passed.Load() != want || back.Load() != 0 || total.Bytes != 0 {
		t.Errorf("%d bytes passed, %d back, and %d were carried; want %d read", passed.Load(), back.Load(), total.Bytes, want)
	}
}

// A file that people copied at one replica is copied at the other: of its content
// nothing crosses the lane but what is read to be sure.
func TestDuplicates(t *testing.T) {
	for name, c := range map[string]struct {
		from, to tree.Tree
		size     int
	}{
		"in memory":           {&memory.Tree{}, &memory.Tree{}, 100_000},
		"in folders":          {openFolder(t), openFolder(t), 3 << 20},
		"too small for that":  {&memory.Tree{}, &memory.Tree{}, 10_000},
		"to one that cannot":  {&memory.Tree{}, &plain{&memory.Tree{}}, 100_000},
		"of one that changes": {&memory.Tree{}, &restless{Tree: &memory.Tree{}}, 100_000},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPair(t, c.from, c.to)
			text := strings.Repeat("0123456789", c.size/10)
			put(t, c.from, "original", text)
			first, err := c.from.Stat(t.Context(), "original")
			if err != nil {
				t.Fatal(err)
			}
			p.settleDown()
			for _, copied := range []string{"copy", "another copy"} {
				if _, err := c.from.Put(t.Context(), copied, strings.NewReader(text), tree.PutOptions{Meta: tree.Meta{Modified: first.Modified}}); err != nil {
					t.Fatal(err)
				}
			}
			total := p.settleDown()
			p.same()
			want := int64(0)
			if strings.HasPrefix(name, "in ") {
				want = 2 * int64(len(text))
			}
			if total.Spared != want {
				t.Errorf("%d bytes were spared, want %d", total.Spared, want)
			}
		})
	}
}

// plain is a tree that can do no more than a tree.Tree must.
type plain struct{ tree.Tree }

// restless is a tree in which people touch what is copied.
type restless struct{ *memory.Tree }

func (r *restless) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	e, err := r.Tree.Assemble(ctx, name, base, parts, content, options)
	if err == nil {
		err = r.Apply(ctx, base, tree.Meta{Modified: time.Now().Add(-time.Hour)})
	}
	return e, err
}
