package dedup

import (
	"cmp"
	"fmt"
	"math/bits"
	"slices"
	"time"

	"bridgespan/core/fault"
)

// mostGroups is how many groups of files can be told apart in a pool.
const mostGroups = 32

// Pool counts what groups of files have in common: shares that might be kept on one
// volume, or on several.
type Pool struct {
	policy Policy
	rules  rules
	now    time.Time
	table  *Table // the groups that have a print are the bits of its number
	groups []pooled
}

// pooled is what was counted of a group.
type pooled struct {
	files, bytes, fixed int64
	packing
}

// NewPool counts so many groups, in budget bytes of memory.
func NewPool(p Policy, groups int, budget int64, now time.Time) (*Pool, error) {
	if groups > mostGroups {
		return nil, fault.Field("volumes", "ask for fewer at a time", "%d shares are more than the %d that can be told apart", groups, mostGroups)
	}
	table, err := NewTable(budget)
	if err != nil {
		return nil, err
	}
	r, err := newRules(p.Rules, now)
	return &Pool{policy: p, rules: r, now: now, table: table, groups: make([]pooled, groups)}, err
}

// Count counts a file of a group.
func (p *Pool) Count(group int, f *File) {
	if p.rules.left(f, p.now) != "" || f.Modified.After(p.rules.oldest) {
		return
	}
	g := &p.groups[group]
	g.files++
	g.bytes += f.content()
	g.fixed += f.Summary.Chunks*RefCost + FileCost + int64(len(f.Path))
	p.table.Raise(f.Summary.Level)
	for _, m := range f.Summary.Marks {
		if p.table.Join(m, 1<<group) && m.Packed > 0 {
			g.length, g.packed = g.length+float64(m.Length), g.packed+float64(m.Packed)
		}
	}
}

// Kept is what groups take, kept together.
type Kept struct {
	Groups []int  `json:"-"`
	Name   string `json:"name"`
	Files  int64  `json:"files"`
	Bytes  int64  `json:"bytes" doc:"In policy"`
	Stored Figure `json:"stored" doc:"What they would take, kept together"`
	Saving Figure `json:"saving"`
}

// Keep is what some groups would take, kept together.
func (p *Pool) Keep(name string, groups ...int) Kept {
	k := Kept{Name: name, Groups: groups}
	var mask uint32
	var fixed int64
	for _, g := range groups {
		mask |= 1 << g
		k.Files, k.Bytes, fixed = k.Files+p.groups[g].files, k.Bytes+p.groups[g].bytes, fixed+p.groups[g].fixed
	}
	k.Stored = p.sum(func(has uint32) bool { return has&mask != 0 }, float64(fixed))
	k.Saving = k.Stored.from(k.Bytes)
	return k
}

// Common is what two groups have in common: what keeping them together spares.
type Common struct {
	A     string `json:"a"`
	B     string `json:"b"`
	Bytes Figure `json:"bytes" doc:"Compressed, and as often as it is kept now: once at each"`
}

// Commons are the pairs of groups that have something in common, most first.
func (p *Pool) Commons(names []string) []Common {
	type sums struct{ sum, squares float64 }
	pairs := map[[2]int]*sums{}
	p.table.all(func(m *Mark, has uint32) {
		if bits.OnesCount32(has) < 2 {
			return
		}
		x := p.stored(m, has)
		for rest := has; rest != 0; rest &= rest - 1 {
			a := bits.TrailingZeros32(rest)
			for other := rest & (rest - 1); other != 0; other &= other - 1 {
				pair := [2]int{a, bits.TrailingZeros32(other)}
				if pairs[pair] == nil {
					pairs[pair] = &sums{}
				}
				pairs[pair].sum += x
				pairs[pair].squares += x * x
			}
		}
	})
	list := []Common{}
	for pair, s := range pairs {
		list = append(list, Common{names[pair[0]], names[pair[1]], p.figure(s.sum, s.squares, 0)})
	}
	slices.SortFunc(list, func(a, b Common) int {
		return cmp.Or(cmp.Compare(b.Bytes.Bytes, a.Bytes.Bytes), cmp.Compare(fmt.Sprint(a.A, a.B), fmt.Sprint(b.A, b.B)))
	})
	return list
}

// stored is what a chunk takes; where that was not measured it compresses as what was
// measured of the first group that has it.
func (p *Pool) stored(m *Mark, has uint32) float64 {
	if m.Packed > 0 {
		return float64(m.Packed) + ChunkCost
	}
	ratio := 1.0
	if g := &p.groups[bits.TrailingZeros32(has)]; g.length > 0 {
		ratio = g.packed / g.length
	}
	return ratio*float64(m.Length) + ChunkCost
}

// sum estimates what the chunks take that some groups have.
func (p *Pool) sum(of func(has uint32) bool, fixed float64) Figure {
	var sum, squares float64
	p.table.all(func(m *Mark, has uint32) {
		if of(has) {
			x := p.stored(m, has)
			sum, squares = sum+x, squares+x*x
		}
	})
	return p.figure(sum, squares, fixed)
}

// figure is what sums over the sample tell of all chunks.
func (p *Pool) figure(sum, squares, fixed float64) Figure {
	scale := float64(uint64(1) << p.table.level)
	return about(sum*scale+fixed, squares*(1-1/scale)*scale*scale, 0, 1e300)
}
