package dedup

import (
	"encoding/binary"
	"fmt"
	"runtime"
	"unsafe"

	"bridgespan/core/fault"
)

// Table counts how often each print occurs, in no more memory than its budget. When
// it is full it gives up half of the prints, and takes no more of that half.
type Table struct {
	slots []slot
	used  int
	most  int // slots
	level uint8
}

// slot is a mark, with a number of which the caller makes what it needs: an estimator
// keeps in it how often a mark occurs in files in policy, and the oldest file that has
// it; a pool, the groups that have it.
type slot struct {
	mark Mark
	n    uint32 // 0: empty
}

// In the upper bits of the number is the age of the oldest file, from 1.
const (
	ageShift = 28
	mostRefs = 1<<ageShift - 1
)

func (s *slot) age() uint8   { return uint8(s.n>>ageShift) - 1 }
func (s *slot) refs() uint32 { return s.n & mostRefs }

// LeastBudget is the least memory that a table can work in, in bytes: with fewer
// prints than fit there, intervals would say nothing.
const LeastBudget = 1 << 20

// MostBudget is the most memory that may be asked for, in bytes: far more than there is.
const MostBudget = 1 << 40

// CheckBudget returns a fault when there are too few bytes of memory to count in, or more
// than can be.
func CheckBudget(budget int64) error {
	if budget < LeastBudget || budget > MostBudget {
		return fault.Field("budget", fmt.Sprintf("give it %d to %d bytes", LeastBudget, int64(MostBudget)), "%d bytes of memory are too few or too many to count in", budget)
	}
	return nil
}

// NewTable makes a table that takes no more than budget bytes, also while it grows.
func NewTable(budget int64) (*Table, error) {
	if err := CheckBudget(budget); err != nil {
		return nil, err
	}
	t := &Table{most: 1 << 10}
	// While it grows, what it was is there beside what it will be.
	for int64(t.most) <= budget/(3*int64(unsafe.Sizeof(slot{}))) {
		t.most *= 2
	}
	t.slots = make([]slot, 1<<10)
	return t, nil
}

// Level is which part of the prints is counted: one in 2^Level.
func (t *Table) Level() uint8 { return t.level }

// Prints is how many different ones are counted.
func (t *Table) Prints() int { return t.used }

func (t *Table) find(p *Print) *slot {
	mask := uint64(len(t.slots) - 1)
	for i := binary.LittleEndian.Uint64(p[8:]) & mask; ; i = (i + 1) & mask {
		if s := &t.slots[i]; s.n == 0 || s.mark.Print == *p {
			return s
		}
	}
}

// Add counts a mark, unless it is not in the sample. first is true when it was not
// seen before.
func (t *Table) Add(m Mark) (first bool) { return t.count(&m, 0, 1) }

func (t *Table) add(m *Mark, age uint8, inPolicy bool) {
	refs := uint32(0)
	if inPolicy {
		refs = 1
	}
	t.count(m, age, refs)
}

func (t *Table) count(m *Mark, age uint8, refs uint32) (first bool) {
	if !m.Print.Kept(t.level) {
		return false
	}
	s := t.find(&m.Print)
	if s.n == 0 {
		return t.begin(s, m, uint32(age+1)<<ageShift|refs)
	}
	s.n = uint32(min(s.age(), age)+1)<<ageShift | min(s.refs()+refs, mostRefs)
	return false
}

// join notes that somebody has a mark, who is known by bits.
func (t *Table) join(m *Mark, bits uint32) {
	if !m.Print.Kept(t.level) {
		return
	}
	s := t.find(&m.Print)
	if s.n > 0 {
		s.n |= bits
		return
	}
	t.begin(s, m, bits)
}

// begin puts a mark that is not there yet into a slot, or where there is room.
func (t *Table) begin(s *slot, m *Mark, n uint32) bool {
	if t.used >= len(t.slots)/4*3 {
		if t.grow(); !m.Print.Kept(t.level) {
			return false
		}
		s = t.find(&m.Print)
	}
	*s = slot{*m, n}
	t.used++
	return true
}

// Packed is how far a mark compresses; 0 when it is not there, or that was not measured.
func (t *Table) Packed(p *Print) uint32 {
	if !p.Kept(t.level) {
		return 0
	}
	if s := t.find(p); s.n > 0 {
		return s.mark.Packed
	}
	return 0
}

// Refs is how often a mark was counted; 0 when it is not in the sample.
func (t *Table) Refs(p *Print) uint32 {
	if !p.Kept(t.level) {
		return 0
	}
	return t.find(p).refs()
}

// Raise gives up what is not in the sample of a level.
func (t *Table) Raise(level uint8) {
	if level <= t.level {
		return
	}
	t.level = level
	stays := func(s *slot) bool { return s.n > 0 && s.mark.Print.Kept(level) }
	count := 0
	for i := range t.slots {
		if stays(&t.slots[i]) {
			count++
		}
	}
	left := make([]slot, 0, count)
	for i := range t.slots {
		if s := &t.slots[i]; stays(s) {
			left = append(left, *s)
		}
	}
	clear(t.slots)
	t.used = 0
	t.put(left)
	tidy(count)
}

// largeTable is from how many slots on what is not used any more is collected at once:
// there would be as much of it again before that came about by itself.
const largeTable = 1 << 18

func tidy(slots int) {
	if slots >= largeTable {
		runtime.GC()
	}
}

// grow makes room: more, or by giving up half of what is there.
func (t *Table) grow() {
	if len(t.slots) < t.most {
		old := t.slots
		t.slots, t.used = make([]slot, 2*len(old)), 0
		t.put(old)
		tidy(len(old))
		return
	}
	t.Raise(t.level + 1)
}

// put puts in what is not there yet.
func (t *Table) put(list []slot) {
	for i := range list {
		if s := &list[i]; s.n > 0 {
			*t.find(&s.mark.Print) = *s
			t.used++
		}
	}
}

// all calls each with every slot that is taken.
func (t *Table) all(each func(s *slot)) {
	for i := range t.slots {
		if s := &t.slots[i]; s.n > 0 {
			each(s)
		}
	}
}

func (t *Table) settle() (list [mostAges]sums, err error) {
	t.all(func(s *slot) { list[s.age()].mark(&s.mark) })
	return list, nil
}

func (t *Table) failed() error { return nil }

// mostShared are the chunks that spare most.
func (t *Table) mostShared() []slot {
	h := bySpared{}
	t.all(func(s *slot) { h.offer(*s) })
	return h
}
