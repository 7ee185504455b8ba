package dedup

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"io"

	"bridgespan/core/fault"
)

// Spill counts exactly what does not fit into memory. Every mark of every file goes
// into it with its number, in the order of the files; sorted by their prints, it is
// seen how often each occurs and where first, and that, sorted back by the numbers,
// comes along when the files are counted: see [counted].
type spill struct {
	marks   *sorter[occurrence, *occurrence]
	at      uint64 // number of the next mark
	old     uint64 // those with smaller numbers are of files in policy
	level   uint8
	budget  int64
	scratch Scratch
}

// occurrence is where a mark occurs.
type occurrence struct {
	print  Print
	at     uint64
	length uint32
}

func (o *occurrence) compare(other *occurrence) int {
	return cmp.Or(bytes.Compare(o.print[:], other.print[:]), cmp.Compare(o.at, other.at))
}

func (o *occurrence) append(b []byte) []byte {
	b = binary.BigEndian.AppendUint64(append(b, o.print[:]...), o.at)
	return binary.BigEndian.AppendUint32(b, o.length)
}

func (o *occurrence) read(b []byte) {
	copy(o.print[:], b)
	o.at, o.length = binary.BigEndian.Uint64(b[16:]), binary.BigEndian.Uint32(b[24:])
}

// times is how often a mark occurs in all.
type times struct {
	at    uint64
	check uint32 // of its print
	refs  uint32 // in files in policy
	first bool   // whether it did not occur before
}

func (n *times) compare(other *times) int { return cmp.Compare(n.at, other.at) }

func (n *times) append(b []byte) []byte {
	b = binary.BigEndian.AppendUint64(b, n.at)
	b = binary.BigEndian.AppendUint32(b, n.check)
	b = binary.BigEndian.AppendUint32(b, n.refs)
	if n.first {
		return append(b, 1)
	}
	return append(b, 0)
}

func (n *times) read(b []byte) {
	*n = times{binary.BigEndian.Uint64(b), binary.BigEndian.Uint32(b[8:]), binary.BigEndian.Uint32(b[12:]), b[16] == 1}
}

func checkOf(p *Print) uint32 { return binary.LittleEndian.Uint32(p[8:]) }

// newSpill makes a spill that takes no more than budget bytes of memory: while a
// sorter grows there is half as much again of it, and of what is not used any more
// there may be as much as of what is.
func newSpill(budget int64, scratch Scratch) *spill {
	return &spill{marks: newSorter[occurrence](budget/4, scratch), budget: budget, scratch: scratch}
}

// add adds the marks of a file. Files in policy come first.
func (s *spill) add(marks *Summary, inPolicy bool) error {
	s.level = max(s.level, marks.Level)
	for i := range marks.Marks {
		m := &marks.Marks[i]
		if m.Print.Kept(s.level) {
			if err := s.marks.add(occurrence{m.Print, s.at, m.Length}); err != nil {
				return err
			}
		}
		s.at++
	}
	if inPolicy {
		s.old = s.at
	}
	return nil
}

func (s *spill) close() error { return s.marks.close() }

// count counts how often each mark occurs. Close must be called on what it returns.
func (s *spill) count() (*counted, error) {
	c := &counted{level: s.level, numbers: newSorter[times](s.budget/8, s.scratch)}
	err := s.marks.finish()
	if err == nil {
		err = s.through(c)
	}
	if err == nil {
		err = c.numbers.finish()
	}
	if err != nil {
		return nil, errors.Join(err, c.close())
	}
	c.counting, c.sharing = c.numbers.pass(), c.numbers.pass()
	return c, nil
}

// through passes over the marks by their prints, twice at a time: one pass counts
// how many there are of a print before the other tells each of them.
func (s *spill) through(c *counted) error {
	ahead, behind := s.marks.pass(), s.marks.pass()
	next, err := ahead.next()
	for err == nil {
		one := *next
		all, refs := 0, uint32(0)
		for ; err == nil && next.print == one.print; next, err = ahead.next() {
			if all++; next.at < s.old && refs < 1<<32-1 {
				refs++
			}
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		kept := one.print.Kept(s.level)
		if kept && refs > 1 {
			c.popular.offer(slot{Mark{Print: one.print, Length: one.length}, refs})
		}
		for i := range all {
			o, err := behind.next()
			if err != nil {
				return err
			}
			if kept {
				if err := c.numbers.add(times{o.at, checkOf(&o.print), refs, i == 0}); err != nil {
					return err
				}
			}
		}
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// counted tells of marks as they come again, in the order in which a spill took them:
// once to Add, and those of files in policy once to Refs.
type counted struct {
	level             uint8
	numbers           *sorter[times, *times]
	counting, sharing *merging[times, *times]
	popular           bySpared
	err               error
}

func (c *counted) close() error { return c.numbers.close() }

// Level is which part of the prints is counted: one in 2^Level.
func (c *counted) Level() uint8 { return c.level }

// Raise does nothing: what level there is was known before.
func (c *counted) Raise(uint8) {}

// errOther tells that what comes is not what was counted.
var errOther = fault.New(fault.Stale, "do it again when no estimate of it is under way", "what is known of the volume has changed while it was counted")

func (c *counted) next(from *merging[times, *times], p *Print) (n times) {
	if c.err != nil || !p.Kept(c.level) {
		return n
	}
	found, err := from.next()
	switch {
	case errors.Is(err, io.EOF):
		c.err = errOther
	case err != nil:
		c.err = err
	case found.check != checkOf(p):
		c.err = errOther
	default:
		n = *found
	}
	return n
}

// Add counts a mark; first is true when it was not seen before.
func (c *counted) Add(m Mark) (first bool) { return c.next(c.counting, &m.Print).first }

// Refs is how often a mark occurs in files in policy.
func (c *counted) Refs(p *Print) uint32 { return c.next(c.sharing, p).refs }

// mostShared are the chunks that spare most.
func (c *counted) mostShared() []slot { return c.popular }

// all is not called: the level never rises.
func (c *counted) all(func(m *Mark, refs uint32)) {}
