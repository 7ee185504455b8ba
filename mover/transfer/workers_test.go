package transfer

import (
	"context"
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
)

func TestWorkerPool(t *testing.T) {
	w := NewWorkerPool(4)
	var under, most atomic.Int32
	var done sync.Map
	for range 3 { // the same goroutines again and again
		err := w.Each(t.Context(), 50, func(_ context.Context, i int) error {
			n := under.Add(1)
			for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
			}
			done.Store(i, true)
			under.Add(-1)
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for i := range 50 {
		if _, ok := done.Load(i); !ok {
			t.Errorf("%d was not done", i)
		}
	}
	if most.Load() > 4 {
		t.Errorf("%d at a time", most.Load())
	}
	w.Close()
	NewWorkerPool(3).Close() // that had nothing to do
}

func TestWorkerPoolEndsAtAnError(t *testing.T) {
	w := NewWorkerPool(1)
	defer w.Close()
	bad := errors.New("a leaf in the works")
	var order []int
	err := w.Each(t.Context(), 10, func(ctx context.Context, i int) error {
		order = append(order, i)
		if i == 3 {
			return bad
		}
		return ctx.Err()
	})
	if err != bad || !slices.Equal(order[:4], []int{0, 1, 2, 3}) || len(order) > 5 { // one may have been handed over already
		t.Errorf("%v, after %v", err, order)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if err := w.Each(ended, 10, func(context.Context, int) error { t.Error("begun after the end"); return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("after the end: %v", err)
	}
}
