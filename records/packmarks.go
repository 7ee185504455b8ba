package records

import (
	"context"
	"encoding/binary"
	"hash/crc32"
	"slices"
	"sync"
	"time"

	"bridgespan/core/replica"
	"bridgespan/records/pack"
)

// Files and folders in packs are found by their numbers, and by their sizes and times, with the
// help of marks: short sums of these, kept with each pack. Those of a replica are
// read when they are first asked for, and are remembered: 16 bytes a file, at most.

type marks []uint32

// Kinds of marks.
const (
	markNumber = iota
	markAlike
)

func mark(kind byte, numbers ...uint64) uint32 {
	var text [1 + 2*8]byte
	text[0] = kind
	b := text[:1]
	for _, n := range numbers {
		b = binary.LittleEndian.AppendUint64(b, n)
	}
	return crc32.ChecksumIEEE(b)
}

func numberMark(file uint64) uint32 { return mark(markNumber, file) }

func alikeMark(size int64, modified time.Time) uint32 {
	return mark(markAlike, uint64(size), uint64(pack.ToNano(modified)))
}

// marksOf are the marks of what is present among records: of what has a number, and of
// the files that were read.
func marksOf(list []*replica.Record) (all marks) {
	for _, rec := range list {
		if rec.Kind == replica.None {
			continue
		}
		if rec.Seen.ID != 0 {
			all = append(all, numberMark(rec.Seen.ID))
		}
		if rec.Kind == replica.File && rec.Digest.Known() {
			all = append(all, alikeMark(rec.Size, rec.Modified))
		}
	}
	return all
}

// bytes is the form in which marks are kept.
func (m marks) bytes() []byte {
	b := make([]byte, 0, 4*len(m))
	for _, one := range m {
		b = binary.LittleEndian.AppendUint32(b, one)
	}
	return b
}

func marksIn(b []byte) (m marks) {
	for ; len(b) >= 4; b = b[4:] {
		m = append(m, binary.LittleEndian.Uint32(b))
	}
	return m
}

// markedPack is a pack of a replica with its marks.
type markedPack struct {
	replica replica.ID
	id      int64
	marks   marks
}

// packFinder finds packs by marks. The zero value has read those of no replica.
type packFinder struct {
	mu       sync.Mutex
	replicas map[replica.ID]*markIndex
}

// markIndex has the marks of a replica, each with the place of its pack behind it.
type markIndex struct {
	packs  []int64
	sorted []uint64
	fresh  []uint64 // those that came later
}

func (x *markIndex) add(p markedPack) {
	at := uint64(len(x.packs))
	x.packs = append(x.packs, p.id)
	for _, m := range p.marks {
		x.fresh = append(x.fresh, uint64(m)<<32|at)
	}
	if len(x.fresh) > 4096+len(x.sorted)/8 {
		x.sorted = append(x.sorted, x.fresh...)
		slices.Sort(x.sorted)
		x.fresh = nil
	}
}

// find lists the packs with one of some marks.
func (x *markIndex) find(wanted ...uint32) (ids []int64) {
	for _, m := range wanted {
		i, _ := slices.BinarySearch(x.sorted, uint64(m)<<32)
		for ; i < len(x.sorted) && uint32(x.sorted[i]>>32) == m; i++ {
			ids = append(ids, x.packs[uint32(x.sorted[i])])
		}
	}
	asked := make(map[uint32]bool, len(wanted))
	for _, m := range wanted {
		asked[m] = true
	}
	for _, f := range x.fresh {
		if asked[uint32(f>>32)] {
			ids = append(ids, x.packs[uint32(f)])
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// noted learns of packs that were written.
func (f *packFinder) noted(made []markedPack) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range made {
		if x := f.replicas[p.replica]; x != nil {
			x.add(p)
		}
	}
}

// find lists the packs of a replica with one of some marks.
func (f *packFinder) find(ctx context.Context, q Queries, r replica.ID, wanted ...uint32) ([]int64, error) {
	f.mu.Lock() // what is written meanwhile is noted after it was read, maybe twice
	defer f.mu.Unlock()
	x := f.replicas[r]
	if x == nil {
		var err error
		if x, err = q.readMarks(ctx, r); err != nil {
			return nil, err
		}
		if f.replicas == nil {
			f.replicas = map[replica.ID]*markIndex{}
		}
		f.replicas[r] = x
	}
	return x.find(wanted...), nil
}

func (q Queries) readMarks(ctx context.Context, r replica.ID) (*markIndex, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id, marks FROM replica_packs WHERE replica_id = ?`, r)
	x := &markIndex{}
	_, err = collect(rows, err, func(s scanner) (none struct{}, err error) {
		var b []byte
		p := markedPack{replica: r}
		if err = s.Scan(&p.id, &b); err == nil {
			p.marks = marksIn(b)
			x.add(p)
		}
		return none, err
	})
	return x, err
}
