package acl

import (
	"slices"
)

// rank is where an entry belongs: what was set here before what was inherited,
// and denials before grants ([MS-DTYP] 2.4.5).
func (e Entry) rank() int {
	rank := 0
	if e.Flags&Inherited != 0 {
		rank = 2
	}
	switch e.Type {
	case Allow, AllowObject, 0x09, 0x0B:
		rank++
	}
	return rank
}

// OutOfOrder is the number of the first entry that stands after one that it
// belongs before, from 0; -1 when the list is in order. Inherited entries come
// in blocks, one for each folder above, nearest first: denials may follow
// grants there, and only what was set here is judged between the two kinds.
func (p Parts) OutOfOrder() int {
	highest := 0
	for i, e := range p.Entries() {
		rank := e.rank()
		if rank >= 2 {
			highest = max(highest, 2)
			continue
		}
		if rank < highest {
			return i
		}
		highest = max(highest, rank)
	}
	return -1
}

// Ordered returns entries as they belong; among equals the order stays.
func Ordered(entries []Entry) []Entry {
	sorted := slices.Clone(entries)
	slices.SortStableFunc(sorted, func(a, b Entry) int {
		if a.rank() >= 2 && b.rank() >= 2 {
			return 0
		}
		return a.rank() - b.rank()
	})
	return sorted
}
