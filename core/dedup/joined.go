package dedup

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"io"
)

// joinedTable tells which groups have a mark, in memory: the number of a mark in the
// table is the groups.
type joinedTable struct{ table *Table }

// Level is which part of the prints is counted: one in 2^Level.
func (t joinedTable) Level() uint8 { return t.table.Level() }

// Raise gives up what is not in the sample of a level.
func (t joinedTable) Raise(level uint8) { t.table.Raise(level) }

func (t joinedTable) join(m *Mark, group int) error {
	t.table.join(m, 1<<group)
	return nil
}

func (t joinedTable) each(do func(m *Mark, groups uint32)) error {
	t.table.all(func(s *slot) { do(&s.mark, s.n) })
	return nil
}

func (joinedTable) close() error { return nil }

// joinedSpill tells that of all marks, from sorted files.
type joinedSpill struct {
	sorter *sorter[member, *member]
	level  uint8
	ended  bool
}

// member is a mark that a group has.
type member struct {
	mark  Mark
	group uint8
}

func (m *member) compare(other *member) int {
	return cmp.Or(bytes.Compare(m.mark.Print[:], other.mark.Print[:]), cmp.Compare(m.group, other.group))
}

func (m *member) append(b []byte) []byte {
	b = append(append(b, m.mark.Print[:]...), m.group)
	b = binary.BigEndian.AppendUint32(b, m.mark.Length)
	return binary.BigEndian.AppendUint32(b, m.mark.Packed)
}

func (m *member) read(b []byte) {
	copy(m.mark.Print[:], b)
	m.group, m.mark.Length, m.mark.Packed = b[16], binary.BigEndian.Uint32(b[17:]), binary.BigEndian.Uint32(b[21:])
}

// Level is which part of the prints is counted: one in 2^Level.
func (s *joinedSpill) Level() uint8 { return s.level }

// Raise gives up what is not in the sample of a level.
func (s *joinedSpill) Raise(level uint8) { s.level = max(s.level, level) }

func (s *joinedSpill) join(m *Mark, group int) error {
	if !m.Print.Kept(s.level) {
		return nil
	}
	return s.sorter.add(member{*m, uint8(group)})
}

func (s *joinedSpill) each(do func(m *Mark, groups uint32)) error {
	if !s.ended {
		if err := s.sorter.finish(); err != nil {
			return err
		}
		s.ended = true
	}
	pass := s.sorter.pass()
	next, err := pass.next()
	for err == nil {
		mark, groups := next.mark, uint32(0)
		for ; err == nil && next.mark.Print == mark.Print; next, err = pass.next() {
			groups |= 1 << next.group
		}
		if mark.Print.Kept(s.level) {
			do(&mark, groups)
		}
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func (s *joinedSpill) close() error { return s.sorter.close() }
