package dedup

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"io"

	"bridgespan/core/fault"
)

// spill counts exactly what does not fit into memory. Every mark goes into it with its
// number, as files are counted; sorted by their prints, it is seen how often each
// occurs and what the oldest file is that has it. What the marks of files in policy
// come to is sorted back by their numbers, for when these files come again.
type spill struct {
	marks    *sorter[occurrence, *occurrence]
	at       uint64 // number of the next mark
	inPolicy uint8  // files of this age, and older ones, are
	level    uint8
	numbers  *sorter[times, *times]
	sharing  *merging[times, *times]
	popular  bySpared
	err      error
}

// occurrence is where a mark occurs.
type occurrence struct {
	mark Mark
	at   uint64 // its number, with the age of the file in the upper bits
}

// numberBits are those of a number that is not an age.
const numberBits = 60

func (o *occurrence) age() uint8 { return uint8(o.at >> numberBits) }

func (o *occurrence) compare(other *occurrence) int {
	return cmp.Or(bytes.Compare(o.mark.Print[:], other.mark.Print[:]), cmp.Compare(o.at, other.at))
}

func (o *occurrence) append(b []byte) []byte {
	b = binary.BigEndian.AppendUint64(append(b, o.mark.Print[:]...), o.at)
	b = binary.BigEndian.AppendUint32(b, o.mark.Length)
	return binary.BigEndian.AppendUint32(b, o.mark.Packed)
}

func (o *occurrence) read(b []byte) {
	copy(o.mark.Print[:], b)
	o.at, o.mark.Length, o.mark.Packed = binary.BigEndian.Uint64(b[16:]), binary.BigEndian.Uint32(b[24:]), binary.BigEndian.Uint32(b[28:])
}

// times is how often a mark of a file in policy occurs in such files.
type times struct {
	at    uint64 // its number
	check uint32 // of its print
	refs  uint32
}

func (n *times) compare(other *times) int { return cmp.Compare(n.at, other.at) }

func (n *times) append(b []byte) []byte {
	b = binary.BigEndian.AppendUint64(b, n.at)
	b = binary.BigEndian.AppendUint32(b, n.check)
	return binary.BigEndian.AppendUint32(b, n.refs)
}

func (n *times) read(b []byte) {
	*n = times{binary.BigEndian.Uint64(b), binary.BigEndian.Uint32(b[8:]), binary.BigEndian.Uint32(b[12:])}
}

func checkOf(p *Print) uint32 { return binary.LittleEndian.Uint32(p[8:]) }

// newSpill makes a spill that takes no more than budget bytes of memory: while a
// sorter grows there is half as much again of it, and of what is not used any more
// there may be as much as of what is. close must be called.
func newSpill(budget int64, scratch Scratch) *spill {
	return &spill{marks: newSorter[occurrence](budget/4, scratch), numbers: newSorter[times](budget/8, scratch)}
}

func (s *spill) close() error { return errors.Join(s.marks.close(), s.numbers.close()) }

// Level is which part of the prints is counted: one in 2^Level.
func (s *spill) Level() uint8 { return s.level }

// Raise gives up what is not in the sample of a level.
func (s *spill) Raise(level uint8) { s.level = max(s.level, level) }

func (s *spill) add(m *Mark, age uint8, inPolicy bool) {
	if s.err != nil {
		return
	}
	if m.Print.Kept(s.level) {
		s.err = s.marks.add(occurrence{*m, uint64(age)<<numberBits | s.at})
	}
	if s.at++; inPolicy {
		s.inPolicy = max(s.inPolicy, age)
	}
}

func (s *spill) settle() (list [mostAges]sums, err error) {
	if s.err == nil {
		s.err = s.marks.finish()
	}
	if s.err == nil {
		s.err = s.through(&list)
	}
	if s.err == nil {
		s.err = errors.Join(s.marks.close(), s.numbers.finish())
	}
	s.sharing = s.numbers.pass()
	return list, s.err
}

// through passes over the marks by their prints, twice at a time: one pass counts
// how many there are of a print before the other tells each of them.
func (s *spill) through(list *[mostAges]sums) error {
	ahead, behind := s.marks.pass(), s.marks.pass()
	next, err := ahead.next()
	for err == nil {
		first := *next // of the oldest file
		all, refs := 0, uint32(0)
		for ; err == nil && next.mark.Print == first.mark.Print; next, err = ahead.next() {
			if all++; next.age() <= s.inPolicy {
				refs = min(refs+1, mostRefs)
			}
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if first.mark.Print.Kept(s.level) {
			list[first.age()].mark(&first.mark)
			s.popular.offer(slot{first.mark, refs})
		}
		for range all {
			if err := s.number(behind, refs); err != nil {
				return err
			}
		}
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// number keeps how often the next mark occurs, by its number.
func (s *spill) number(from *merging[occurrence, *occurrence], refs uint32) error {
	o, err := from.next()
	if err != nil {
		return err
	}
	if o.age() > s.inPolicy || !o.mark.Print.Kept(s.level) {
		return nil
	}
	return s.numbers.add(times{o.at & (1<<numberBits - 1), checkOf(&o.mark.Print), refs})
}

// errOther tells that what comes is not what was counted.
var errOther = fault.New(fault.Stale, "do it again when no estimate of it is under way", "what is known of the volume has changed while it was counted")

// Refs is how often a mark of a file in policy occurs in such files. Marks come as they
// came to be counted.
func (s *spill) Refs(p *Print) uint32 {
	if s.err != nil || !p.Kept(s.level) {
		return 0
	}
	found, err := s.sharing.next()
	switch {
	case errors.Is(err, io.EOF):
		s.err = errOther
	case err != nil:
		s.err = err
	case found.check != checkOf(p):
		s.err = errOther
	default:
		return found.refs
	}
	return 0
}

func (s *spill) failed() error { return s.err }

// mostShared are the chunks that spare most.
func (s *spill) mostShared() []slot { return s.popular }
