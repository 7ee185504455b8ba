package gctune

import (
	"runtime"
	"runtime/metrics"
	"testing"
)

func TestRoomOn(t *testing.T) {
	for _, c := range []struct{ memory, want uint64 }{{0, 0}, {1 << 30, 16 << 20}, {4 << 30, room}, {1 << 40, room}} {
		if got := roomOn(c.memory); got != c.want {
			t.Errorf("with %d bytes of memory the room is %d, want %d", c.memory, got, c.want)
		}
	}
	if m := memory(); m < 128<<20 {
		t.Errorf("this machine has %d bytes of memory, it says", m)
	}
}

func TestPercent(t *testing.T) {
	for _, c := range []struct {
		kept, room uint64
		want       int
	}{
		{0, 64 << 20, 1000},
		{1 << 20, 64 << 20, 1000},
		{16 << 20, 64 << 20, 400},
		{20 << 20, 64 << 20, 300},
		{64 << 20, 64 << 20, usual},
		{1 << 30, 64 << 20, usual}, // it is never let grow by less than usual, nor by more
		{1 << 30, 0, usual},
	} {
		if got := percent(c.kept, c.room); got != c.want {
			t.Errorf("a heap of %d bytes with room for %d grows by %d%%, want %d%%", c.kept, c.room, got, c.want)
		}
	}
}

// The room is for a program that keeps little: while it keeps much, its heap grows as
// ever, and when it keeps little again, there is room again.
func TestGive(t *testing.T) {
	if roomOn(memory()) < room {
		t.Skip("this machine has little memory")
	}
	t.Setenv("GOGC", "")
	Tune()
	Tune() // once is enough
	await(t, "while little is kept", func(percent uint64) bool { return percent >= 2*usual })
	keep := make([]byte, 2*room)
	await(t, "while much is kept", func(percent uint64) bool { return percent == usual })
	runtime.KeepAlive(keep)
	await(t, "when that was let go", func(percent uint64) bool { return percent >= 2*usual })
}

// await collects garbage until the heap may grow as is wanted: after each time, the
// program learns what it keeps.
func await(t *testing.T, when string, ok func(percent uint64) bool) {
	t.Helper()
	now := []metrics.Sample{{Name: "/gc/gogc:percent"}}
	for range 1000 {
		runtime.GC()
		metrics.Read(now)
		if ok(now[0].Value.Uint64()) {
			return
		}
	}
	t.Errorf("%s, the heap may grow by %d%%", when, now[0].Value.Uint64())
}
