package transfer

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// besides needs room beside a file that is made of parts of another one.
type besides struct{ memory.Tree }

func (b *besides) Capabilities() tree.Capabilities {
	c := b.Tree.Capabilities()
	c.Beside = 5 << 20
	return c
}

// What is needed beside a file on its way enters the intake with it.
func TestDeltaRoom(t *testing.T) {
	file := func(size int64) *Known { return &Known{Entry: tree.Entry{Size: size}} }
	for what, c := range map[string]struct {
		to   tree.Tree
		was  *Known
		want int64
	}{
		"nothing is needed": {&memory.Tree{}, file(3 << 20), 2 << 20},
		"of parts":          {&besides{}, file(3 << 20), 7 << 20},
		"too small for it":  {&besides{}, file(100), 2 << 20},
		"nothing was there": {&besides{}, nil, 2 << 20},
	} {
		one := &task{to: &Endpoint{Tree: c.to}, file: File{Entry: tree.Entry{Size: 2 << 20}}, Options: Options{Older: c.was}}
		if got := one.room(); got != c.want {
			t.Errorf("%s: %d bytes, want %d", what, got, c.want)
		}
	}
}

// One late answer makes no replica far away; when it stays so, it is not asked for ever.
func TestWorthReading(t *testing.T) {
	for what, c := range map[string]struct {
		late, asked int64
		worth       bool
	}{"at once": {0, 1, true}, "late once": {1, 2, true}, "late twice": {2, 3, true}, "far away": {100, 3, false}} {
		synctest.Test(t, func(t *testing.T) {
			from := &late{Tree: &memory.Tree{Far: true}, times: c.late}
			one := &task{from: &Endpoint{Tree: from}, to: &Endpoint{Tree: &memory.Tree{Far: true}}}
			worth, err := one.worthReading(t.Context())
			if err != nil || worth != c.worth || from.asked.Load() != c.asked {
				t.Errorf("%s: %v after %d answers, %v", what, worth, from.asked.Load(), err)
			}
		})
	}
}

// late answers late so many times.
type late struct {
	*memory.Tree
	times int64
	asked atomic.Int64
}

func (l *late) Stat(ctx context.Context, name string) (tree.Entry, error) {
	if l.asked.Add(1) <= l.times {
		time.Sleep(2 * fartherBy)
	}
	return l.Tree.Stat(ctx, name)
}
