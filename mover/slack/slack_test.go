package slack

import (
	"os"
	"runtime"
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

// withoutRoom is how often garbage is collected before there is room.
var withoutRoom uint32

func TestMain(m *testing.M) {
	withoutRoom = collections()
	os.Exit(m.Run())
}

// With room, the collector waits longer while little is kept.
func TestGive(t *testing.T) {
	if roomOn(memory()) < room {
		t.Skip("this machine has little memory")
	}
	t.Setenv("GOGC", "")
	Give()
	runtime.GC() // it lets the program know what it keeps
	if with := collections(); with*2 > withoutRoom {
		t.Errorf("garbage was collected %d times without room, and %d times with it", withoutRoom, with)
	}
}

var garbage []byte

// collections counts how often garbage is collected while 512 MiB of it are made, and
// 8 MiB are kept.
func collections() uint32 {
	keep := make([]byte, 8<<20)
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	before := m.NumGC
	for range 512 << 4 {
		garbage = make([]byte, 64<<10)
	}
	runtime.ReadMemStats(&m)
	runtime.KeepAlive(keep)
	return m.NumGC - before
}
