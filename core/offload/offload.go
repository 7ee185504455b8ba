// Package offload decides which files of an edge become stubs, and which stubs are filled.
//
// A [Survey] is told of every file once and keeps how many bytes were last used when, in at most 20,000 steps: its memory does not
// grow with the number of files. [Survey.Decide] makes of it, of the policy and of the room on the volume a [Decision], which is
// asked about each file when the edge is walked once more.
package offload

import (
	"maps"
	"math"
	"slices"
	"time"
)

// Policy says what an edge keeps whole. The zero value offloads nothing.
type Policy struct {
	// Free is how much of the volume is to stay free, in percent; 0 is no line.
	Free int
	// Unused is for how long a file must not have been used to be offloaded; 0 offloads none for that.
	Unused time.Duration
	// Newest is how many bytes of the files that were changed last are never offloaded.
	Newest int64
	// Never says of files that they are never offloaded; nil says so of none.
	Never func(path string) bool
}

// Least is how many bytes a file has at least to be offloaded: smaller ones free next to nothing.
const Least = 8 << 10

// File is a file of an edge.
type File struct {
	Path      string
	Allocated int64 // bytes that it occupies
	Size      int64
	Modified  time.Time
	Used      time.Time // last read or changed
	Stub      bool
}

// Volume is the room under an edge, in bytes.
type Volume struct{ Total, Free int64 }

// Line is how many bytes are to be free.
func (p *Policy) Line(v Volume) int64 { return v.Total / 100 * int64(p.Free) }

// Figures count files.
type Figures struct {
	Files int64
	Bytes int64 // that they occupy, or would if they were whole
}

func (f *Figures) add(files, bytes int64) { f.Files, f.Bytes = f.Files+files, f.Bytes+bytes }

// Survey is what is known of the files of an edge. The zero value knows of none.
type Survey struct {
	Whole, Stubs, Kept Figures // Kept are those whole ones that are never offloaded

	used     timeline // of whole files that may be offloaded, by their last use
	modified timeline // of all files, by their last change
}

// timeline counts bytes by time, in slots that become longer when there are too many of them: a second at first. The zero
// value is empty.
type timeline struct {
	unit  int64 // seconds of a slot
	slots map[int64]int64
}

// slotsMost bounds the memory of a timeline.
const slotsMost = 20_000

func (l *timeline) slot(at time.Time) int64 { return at.Unix() / max(l.unit, 1) }

func (l *timeline) add(at time.Time, bytes int64) {
	if l.slots == nil {
		l.unit, l.slots = 1, map[int64]int64{}
	}
	l.slots[l.slot(at)] += bytes
	for len(l.slots) > slotsMost {
		const longer = 4
		former := l.slots
		l.unit, l.slots = l.unit*longer, make(map[int64]int64, slotsMost)
		for slot, bytes := range former {
			l.slots[slot/longer] += bytes
		}
	}
}

// before takes files from the first on until they make so many bytes, and returns how many are lacking.
func (l *timeline) before(bytes int64) (share, int64) {
	s := share{any: true, timeline: l}
	for _, slot := range slices.Sorted(maps.Keys(l.slots)) {
		if bytes <= l.slots[slot] {
			s.bound, s.bytes = slot, bytes
			return s, 0
		}
		bytes -= l.slots[slot]
	}
	s.bound = math.MaxInt64
	return s, bytes
}

// since takes files from the last one backward until they make so many bytes.
func (l *timeline) since(bytes int64) share {
	s := share{any: bytes > 0, timeline: l, late: true}
	for _, slot := range slices.Backward(slices.Sorted(maps.Keys(l.slots))) {
		if bytes <= l.slots[slot] {
			s.bound, s.bytes = slot, bytes
			return s
		}
		bytes -= l.slots[slot]
	}
	s.bound = math.MinInt64
	return s
}

// share is a part of the files: those beyond a slot of a timeline, and some bytes of those in it. The zero value is no file.
type share struct {
	*timeline
	any   bool
	late  bool // beyond is after
	fits  bool // the last file must fit into the bytes
	bound int64
	bytes int64
}

// takes reports whether a file belongs to the share.
func (s *share) takes(at time.Time, bytes int64) bool {
	if !s.any {
		return false
	}
	slot := s.slot(at)
	switch {
	case slot != s.bound:
		return (slot > s.bound) == s.late
	case s.bytes <= 0, s.fits && bytes > s.bytes:
		return false
	}
	s.bytes -= bytes
	return true
}

// Add adds a file.
func (s *Survey) Add(p *Policy, f File) {
	if f.Stub {
		s.Stubs.add(1, f.Size)
		s.modified.add(f.Modified, f.Size)
		return
	}
	s.Whole.add(1, f.Allocated)
	s.modified.add(f.Modified, f.Allocated)
	if p.keeps(f) {
		s.Kept.add(1, f.Allocated)
		return
	}
	s.used.add(f.Used, f.Allocated)
}

// keeps reports whether a file is never offloaded, however old it is.
func (p *Policy) keeps(f File) bool {
	return f.Size < Least || p.Never != nil && p.Never(f.Path)
}

// Decision says of files what becomes of them. It is asked about each file once, by one caller at a time: of those of
// the time in which a bound lies, as many are taken as the bound needs.
type Decision struct {
	// Short is how many bytes are lacking to the line even when everything is offloaded that may be.
	Short int64

	policy Policy
	unused time.Time // files that were used before are offloaded
	line   share     // files that are offloaded for the line, by their last use
	newest share     // files that are never offloaded, by their last change
	fill   share     // stubs that are filled, by their last change
}

// Decide decides which whole files are offloaded.
func (s *Survey) Decide(p Policy, v Volume, now time.Time) *Decision {
	d := &Decision{policy: p, newest: s.modified.since(p.Newest)}
	if p.Unused > 0 {
		d.unused = now.Add(-p.Unused)
	}
	if need := p.Line(v) - v.Free; need > 0 {
		d.line, d.Short = s.used.before(need)
	}
	return d
}

// Fills decides which stubs are filled in advance: those of the files that were changed last, as many as fit above the
// line and leave some room for what people write.
func (s *Survey) Fills(p Policy, v Volume) *Decision {
	room := v.Free - p.Line(v) - v.Total/reserve
	if room <= 0 || s.Stubs.Files == 0 {
		return &Decision{}
	}
	d := &Decision{fill: s.modified.since(s.Whole.Bytes + room)}
	d.fill.fits = true
	return d
}

// FillAll decides that every stub is filled.
func FillAll() *Decision {
	return &Decision{fill: share{timeline: &timeline{}, any: true, late: true, bound: math.MinInt64}}
}

// reserve is the part of a volume that is not filled in advance.
const reserve = 20

// Idle reports whether nothing becomes of any file.
func (d *Decision) Idle() bool { return d.unused.IsZero() && !d.line.any && !d.fill.any }

// Offloads reports whether a file is offloaded.
func (d *Decision) Offloads(f File) bool {
	if f.Stub {
		d.newest.takes(f.Modified, f.Size)
		return false
	}
	if d.newest.takes(f.Modified, f.Allocated) || d.policy.keeps(f) {
		return false
	}
	return f.Used.Before(d.unused) || d.line.takes(f.Used, f.Allocated)
}

// Fetches reports whether a stub is filled.
func (d *Decision) Fetches(f File) bool {
	if f.Stub {
		return d.fill.takes(f.Modified, f.Size)
	}
	d.fill.takes(f.Modified, f.Allocated) // it is among those that fit
	return false
}
