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
	marks  joined
	groups []pooled
	// byGroups are the sums of the marks that the same groups have, which are the bits
	// of the key; nil until all are counted.
	byGroups map[uint32]*joinedSums
}

// pooled is what was counted of a group.
type pooled struct {
	files, bytes, fixed int64
	packing
}

// joinedSums are sums of what chunks take, and of the squares of that.
type joinedSums struct{ stored, squares float64 }

// joined tells which groups have a mark.
type joined interface {
	Level() uint8
	Raise(level uint8)
	// join notes that a group has a mark.
	join(m *Mark, group int) error
	// each calls do with every mark, and the groups that have it as bits.
	each(do func(m *Mark, groups uint32)) error
	close() error
}

// NewPool counts so many groups. Close must be called.
func NewPool(p Policy, groups int, means Means, now time.Time) (*Pool, error) {
	if groups > mostGroups {
		return nil, fault.Field("volumes", "ask for fewer at a time", "%d shares are more than the %d that can be told apart", groups, mostGroups)
	}
	if err := CheckBudget(means.Budget); err != nil {
		return nil, err
	}
	var marks joined = &joinedSpill{sorter: newSorter[member](means.Budget/4, means.Scratch)}
	if means.Scratch == nil {
		table, err := NewTable(means.Budget)
		if err != nil {
			return nil, err
		}
		marks = joinedTable{table}
	}
	r, err := newRules(p.Rules, now)
	return &Pool{policy: p, rules: r, now: now, marks: marks, groups: make([]pooled, groups)}, err
}

// Close gives up what was counted.
func (p *Pool) Close() error { return p.marks.close() }

// Count counts a file of a group.
func (p *Pool) Count(group int, f *File) error {
	if p.rules.left(f, p.now) != "" || f.Modified.After(p.rules.oldest) {
		return nil
	}
	g := &p.groups[group]
	g.files++
	g.bytes += f.content()
	g.fixed += f.Summary.Chunks*RefCost + FileCost + int64(len(f.Path))
	p.marks.Raise(f.Summary.Level)
	for i := range f.Summary.Marks {
		if err := p.marks.join(&f.Summary.Marks[i], group); err != nil {
			return err
		}
	}
	return nil
}

// sum sums up what was counted.
func (p *Pool) sum() error {
	err := p.marks.each(func(m *Mark, groups uint32) {
		if m.Packed > 0 {
			g := &p.groups[bits.TrailingZeros32(groups)]
			g.length, g.packed = g.length+float64(m.Length), g.packed+float64(m.Packed)
		}
	})
	if err != nil {
		return err
	}
	p.byGroups = map[uint32]*joinedSums{}
	return p.marks.each(func(m *Mark, groups uint32) {
		s := p.byGroups[groups]
		if s == nil {
			s = &joinedSums{}
			p.byGroups[groups] = s
		}
		x := p.stored(m, groups)
		s.stored, s.squares = s.stored+x, s.squares+x*x
	})
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

// keep is what some groups would take, kept together, once all is summed up.
func (p *Pool) keep(name string, groups ...int) Kept {
	k := Kept{Name: name, Groups: groups}
	var mask uint32
	var fixed int64
	for _, g := range groups {
		mask |= 1 << g
		k.Files, k.Bytes, fixed = k.Files+p.groups[g].files, k.Bytes+p.groups[g].bytes, fixed+p.groups[g].fixed
	}
	var all joinedSums
	for has, s := range p.byGroups {
		if has&mask != 0 {
			all.stored, all.squares = all.stored+s.stored, all.squares+s.squares
		}
	}
	k.Stored = p.figure(all, float64(fixed))
	k.Saving = k.Stored.from(k.Bytes)
	return k
}

// Common is what two groups have in common: what keeping them together spares.
type Common struct {
	A     string `json:"a"`
	B     string `json:"b"`
	Bytes Figure `json:"bytes" doc:"Compressed, and as often as it is kept now: once at each"`
}

// commons are the pairs of groups that have something in common, most first.
func (p *Pool) commons(names []string) []Common {
	pairs := map[[2]int]*joinedSums{}
	for has, s := range p.byGroups {
		for rest := has; rest != 0; rest &= rest - 1 {
			a := bits.TrailingZeros32(rest)
			for other := rest & (rest - 1); other != 0; other &= other - 1 {
				pair := [2]int{a, bits.TrailingZeros32(other)}
				if pairs[pair] == nil {
					pairs[pair] = &joinedSums{}
				}
				pairs[pair].stored += s.stored
				pairs[pair].squares += s.squares
			}
		}
	}
	list := []Common{}
	for pair, s := range pairs {
		list = append(list, Common{names[pair[0]], names[pair[1]], p.figure(*s, 0)})
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

// figure is what sums over the sample tell of all chunks.
func (p *Pool) figure(s joinedSums, fixed float64) Figure {
	scale := float64(uint64(1) << p.marks.Level())
	return about(s.stored*scale+fixed, s.squares*(1-1/scale)*scale*scale, 0, 1e300)
}
