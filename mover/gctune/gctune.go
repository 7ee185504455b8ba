// Package gctune gives the garbage collector of a program room. Work that streams keeps
// little and leaves much behind: with a heap of 20 MiB, of which as much again is let
// grow before garbage is collected, that is done dozens of times a second, and took a
// first fill of small files an eighth of its time.
package gctune

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"

	"golang.org/x/sys/unix"
)

const (
	// room is how many bytes of garbage there may be in a small heap, where the machine
	// has memory enough. A heap that keeps more than that may hold as much again, as
	// ever.
	room = 64 << 20
	// ofMemory is the share of the machine's memory that the room is at most.
	ofMemory = 64
	// usual is by how much a heap grows, in hundredths of what it keeps, before garbage
	// is collected.
	usual = 100
)

var once sync.Once

// Tune gives the program room from now on, unless its environment says how garbage is
// to be collected (GOGC).
func Tune() {
	if os.Getenv("GOGC") == "" {
		once.Do(func() { after(roomOn(memory())) })
	}
}

// watched is let go at once: the collector says so, each time that it has run. It is
// large enough to lie by itself.
type watched [16]byte

// after lets the heap grow by so many bytes, and does so again after each collection.
func after(room uint64) {
	give(room)
	runtime.AddCleanup(&watched{}, after, room)
}

var given = usual

func give(room uint64) {
	kept := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(kept)
	if p := percent(kept[0].Value.Uint64(), room); p != given {
		given = p
		debug.SetGCPercent(p)
	}
}

// percent is by how much a heap that keeps so many bytes may grow. It goes by steps: each
// change stops the program for a moment.
func percent(kept, room uint64) int {
	const step, most = 50, 1000
	p := room * 100 / max(kept, 1)
	return int(max(min(p, most)/step*step, usual))
}

// roomOn is how much room there is to give on a machine with so many bytes of memory.
func roomOn(memory uint64) uint64 { return min(room, memory/ofMemory) }

// memory is how many bytes the machine has, 0 when it does not tell.
func memory() uint64 {
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) != nil {
		return 0
	}
	return info.Totalram * uint64(info.Unit)
}
