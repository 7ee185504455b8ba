package dedup

import (
	"cmp"
	"container/heap"
	"maps"
	"math"
	"path"
	"slices"
	"strings"
	"time"
)

// Part is a part of the files, with what it contributes to the saving: a chunk that
// several files have is stored once, and each of them bears its part of that.
type Part struct {
	Name   string `json:"name"`
	Files  int64  `json:"files"`
	Bytes  int64  `json:"bytes" doc:"Of files in policy"`
	Stored int64  `json:"storedBytes" doc:"What they would take: their part of the chunks, compressed"`
	Saving int64  `json:"saving"`
}

// Node is a folder, with what is in it.
type Node struct {
	Part
	Below []Node `json:"below,omitempty"`
}

// Parts lists the folders below, each before those in it, by their paths; no deeper
// than depth, unless that is 0.
func (n Node) Parts(depth int) []Part { return n.parts("", depth, nil) }

func (n Node) parts(above string, depth int, list []Part) []Part {
	for _, child := range n.Below {
		p := child.Part
		p.Name = path.Join(above, child.Name)
		if list = append(list, p); depth != 1 {
			list = child.parts(p.Name, depth-1, list)
		}
	}
	return list
}

// Near are two files that have much in common and are not the same.
type Near struct {
	A      string  `json:"a"`
	B      string  `json:"b"`
	Common int64   `json:"common" doc:"Bytes that they have in common, about"`
	Part   float64 `json:"part" doc:"Which part of the smaller one that is, 0 to 1"`
}

// Popular is a chunk that occurs often.
type Popular struct {
	Print  string   `json:"print" doc:"The first half of its BLAKE3 fingerprint, in hexadecimal digits"`
	Length int64    `json:"length"`
	Times  int64    `json:"times" doc:"How often it occurs"`
	Spares int64    `json:"spares" doc:"Bytes that need not be stored again, before compression"`
	Paths  []string `json:"paths" doc:"Some of the files that it occurs in"`
}

// Breakdown is where the saving is.
type Breakdown struct {
	Folders Node      `json:"folders"`
	Types   []Part    `json:"types"`
	Ages    []Part    `json:"ages"`
	Sizes   []Part    `json:"sizes"`
	Owners  []Part    `json:"owners"`
	Popular []Popular `json:"popular"`
	Near    []Near    `json:"near"`
}

// Bounds of what is shown and remembered.
const (
	mostDepth    = 6 // folders below a place
	mostNodes    = 20_000
	shownNodes   = 600
	shownParts   = 60
	shownPopular = 20
	shownPaths   = 3
	shownNear    = 50
	nearLeast    = 4      // chunks that a file must have to be looked at for likeness
	nearMost     = 6      // files at most that share a chunk by which likeness is told
	nearPrints   = 30_000 // by which likeness is told
	nearPart     = 0.4    // of the smaller file that two must have in common
)

// part gathers one part.
type part struct {
	files, bytes int64
	stored       float64
}

func (p *part) add(o *part) {
	p.files, p.bytes, p.stored = p.files+o.files, p.bytes+o.bytes, p.stored+o.stored
}

func (p *part) named(name string) Part {
	stored := int64(math.Round(p.stored))
	return Part{name, p.files, p.bytes, stored, p.bytes - stored}
}

// enoughMeasured bytes of a type tell how far its files compress; else they are taken
// to do so as the whole does.
const enoughMeasured = 64 << 10

// ratioOf is how far files of a type compress.
func (e *Estimator) ratioOf(kind string) float64 {
	if m := e.packing[kind]; m != nil && m.length >= enoughMeasured {
		return m.packed / m.length
	}
	return e.ratio
}

// packing is how far the chunks of a type compress that were measured.
type packing struct{ length, packed float64 }

// sharing finds out where the saving is.
type sharing struct {
	nodes   map[string]*part
	types   map[string]*part
	owners  map[string]*part
	ages    []part
	sizes   []part
	popular map[Print]*Popular
	near    map[Print]*few
	// nearLevel is the sample of prints that likeness is told by.
	nearLevel uint8
	files     []nearFile
}

// few is a chunk that few files have, by their numbers.
type few struct {
	length int64
	files  []int32
}

type nearFile struct {
	path   string
	digest [16]byte
	bytes  int64 // of chunks in the sample
}

// ageClasses and sizeClasses have an upper bound each, in days and bytes.
var (
	ageClasses = []struct {
		name string
		days int
	}{{"under a day", 1}, {"1 to 7 days", 7}, {"7 to 30 days", 30}, {"30 to 90 days", 90}, {"90 days to a year", 365}, {"1 to 2 years", 730}, {"2 to 5 years", 1826}, {"over 5 years", 1 << 30}}
	sizeClasses = []struct {
		name  string
		bytes int64
	}{{"under 32 KiB", 32 << 10}, {"32 to 256 KiB", 256 << 10}, {"256 KiB to 1 MiB", 1 << 20}, {"1 to 16 MiB", 16 << 20}, {"16 to 256 MiB", 256 << 20}, {"256 MiB to 4 GiB", 4 << 30}, {"over 4 GiB", 1 << 62}}
)

func (e *Estimator) newSharing() *sharing {
	s := &sharing{nodes: map[string]*part{}, types: map[string]*part{}, owners: map[string]*part{}, ages: make([]part, len(ageClasses)), sizes: make([]part, len(sizeClasses)),
		popular: map[Print]*Popular{}, near: map[Print]*few{}, nearLevel: e.marks.Level()}
	for _, m := range e.marks.mostShared() {
		s.popular[m.mark.Print] = &Popular{Print: hexOf(m.mark.Print), Length: int64(m.mark.Length), Times: int64(m.refs()), Spares: spares(&m), Paths: []string{}}
	}
	return s
}

// Share finds out what a file in policy contributes, once all is settled. Files come in
// the order in which they were counted.
func (e *Estimator) Share(f *File) {
	if e.rules.left(f, e.now) != "" || e.ageOf(f.Modified) > e.inPolicy {
		return
	}
	if e.shared == nil {
		e.shared = e.newSharing()
	}
	s := e.shared
	scale := float64(uint64(1) << e.marks.Level())
	p := part{files: 1, bytes: f.content(), stored: float64(f.Summary.Chunks*RefCost + FileCost + int64(len(f.Path)))}
	ratio := e.ratioOf(typeOf(f.Path))
	alike := f.Summary.Chunks >= nearLeast
	index := int32(len(s.files))
	counted := int64(0)
	for _, m := range f.Summary.Marks {
		refs := e.marks.Refs(&m.Print)
		if refs == 0 {
			continue
		}
		packed := float64(m.Length) * ratio
		if e.policy.Compression == OfAll {
			packed = float64(m.Packed)
		}
		p.stored += (packed + ChunkCost) / float64(refs) * scale
		if refs > 1 {
			s.note(&m.Print, f.Path)
		}
		counted += int64(m.Length)
		if alike && refs > 1 && refs <= nearMost {
			s.likeness(&m, index)
		}
	}
	if alike {
		s.files = append(s.files, nearFile{f.Path, f.Summary.Digest, counted})
	}
	s.spread(f, &p, e.now)
}

func (s *sharing) note(p *Print, file string) {
	if c := s.popular[*p]; c != nil && len(c.Paths) < shownPaths && !slices.Contains(c.Paths, file) {
		c.Paths = append(c.Paths, file)
	}
}

// likeness notes that a file has a chunk that few others have.
func (s *sharing) likeness(m *Mark, file int32) {
	if !m.Print.Kept(s.nearLevel) {
		return
	}
	f := s.near[m.Print]
	if f == nil {
		f = &few{length: int64(m.Length)}
		s.near[m.Print] = f
	}
	if n := len(f.files); n == 0 || f.files[n-1] != file {
		f.files = append(f.files, file)
	}
	for len(s.near) > nearPrints {
		s.nearLevel++
		maps.DeleteFunc(s.near, func(p Print, _ *few) bool { return !p.Kept(s.nearLevel) })
	}
}

// spread adds a file's part to all that it belongs to.
func (s *sharing) spread(f *File, p *part, now time.Time) {
	at(s.types, typeOf(f.Path)).add(p)
	at(s.owners, cmp.Or(f.Owner, "unknown")).add(p)
	days := int(now.Sub(f.Modified).Hours() / 24)
	for i, c := range ageClasses {
		if days < c.days {
			s.ages[i].add(p)
			break
		}
	}
	for i, c := range sizeClasses {
		if f.Size < c.bytes {
			s.sizes[i].add(p)
			break
		}
	}
	folders := strings.Split(path.Dir(f.Path), "/")
	for n := range min(len(folders), mostDepth) + 1 {
		name := strings.Join(folders[:n], "/")
		if s.nodes[name] == nil && len(s.nodes) >= mostNodes {
			break
		}
		at(s.nodes, name).add(p)
	}
}

func at(parts map[string]*part, name string) *part {
	p := parts[name]
	if p == nil {
		p = &part{}
		parts[name] = p
	}
	return p
}

// typeOf is the ending of a name, in small letters.
func typeOf(name string) string {
	ending := strings.ToLower(path.Ext(name))
	if len(ending) < 2 || len(ending) > 12 {
		return "no ending"
	}
	return ending
}

// Breakdown tells where the saving is, of what was shared.
func (e *Estimator) Breakdown() Breakdown {
	s := e.shared
	if s == nil {
		s = e.newSharing()
	}
	b := Breakdown{Folders: s.folders(), Types: most(s.types), Owners: most(s.owners), Ages: []Part{}, Sizes: []Part{}, Popular: []Popular{}, Near: s.pairs(e.marks.Level())}
	for i, c := range ageClasses {
		b.Ages = append(b.Ages, s.ages[i].named(c.name))
	}
	for i, c := range sizeClasses {
		b.Sizes = append(b.Sizes, s.sizes[i].named(c.name))
	}
	for _, p := range s.popular {
		b.Popular = append(b.Popular, *p)
	}
	slices.SortFunc(b.Popular, func(a, b Popular) int { return cmp.Or(cmp.Compare(b.Spares, a.Spares), cmp.Compare(a.Print, b.Print)) })
	return b
}

// most are the parts with the most bytes, and the others in one.
func most(parts map[string]*part) []Part {
	list := []Part{}
	for name, p := range parts {
		list = append(list, p.named(name))
	}
	slices.SortFunc(list, func(a, b Part) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name)) })
	if len(list) <= shownParts {
		return list
	}
	others := Part{Name: "others"}
	for _, p := range list[shownParts:] {
		others.Files, others.Bytes, others.Stored, others.Saving = others.Files+p.Files, others.Bytes+p.Bytes, others.Stored+p.Stored, others.Saving+p.Saving
	}
	return append(list[:shownParts], others)
}

// folders is the tree of folders, of those with the most bytes.
func (s *sharing) folders() Node {
	names := make([]string, 0, len(s.nodes))
	for name := range s.nodes {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(s.nodes[b].bytes, s.nodes[a].bytes), cmp.Compare(len(a), len(b)), cmp.Compare(a, b))
	})
	shown := map[string]bool{"": true}
	for _, name := range names[:min(len(names), shownNodes)] {
		shown[name] = true // what is above has as many bytes, and a shorter name: it is there
	}
	below := map[string][]string{}
	for name := range shown {
		if name != "" {
			above := path.Dir(name)
			if above == "." {
				above = ""
			}
			below[above] = append(below[above], name)
		}
	}
	var node func(name string) Node
	node = func(name string) Node {
		n := Node{Part: at(s.nodes, name).named(path.Base("/" + name))}
		for _, child := range below[name] {
			n.Below = append(n.Below, node(child))
		}
		slices.SortFunc(n.Below, func(a, b Node) int { return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name)) })
		return n
	}
	return node("")
}

// pairs are the files that have most in common. level is that of the sample in which
// the files' bytes are counted.
func (s *sharing) pairs(level uint8) []Near {
	type pair struct{ a, b int32 }
	common := map[pair]int64{}
	for _, f := range s.near {
		for i, a := range f.files {
			for _, b := range f.files[i+1:] {
				common[pair{a, b}] += f.length
			}
		}
	}
	near := []Near{}
	for p, bytes := range common {
		a, b := &s.files[p.a], &s.files[p.b]
		bytes <<= s.nearLevel - level
		part := min(float64(bytes)/float64(min(a.bytes, b.bytes)), 1)
		if a.digest != b.digest && part >= nearPart {
			near = append(near, Near{a.path, b.path, bytes << level, part})
		}
	}
	slices.SortFunc(near, func(a, b Near) int {
		return cmp.Or(cmp.Compare(b.Common, a.Common), cmp.Compare(a.A, b.A), cmp.Compare(a.B, b.B))
	})
	return near[:min(len(near), shownNear)]
}

func spares(s *slot) int64 { return int64(s.mark.Length) * (int64(s.refs()) - 1) }

// bySpared are the chunks that spare most, as a heap.
type bySpared []slot

// offer keeps a chunk if it is one of those that spare most.
func (h *bySpared) offer(s slot) {
	if s.refs() < 2 {
		return
	}
	if h.Len() < shownPopular {
		heap.Push(h, s)
	} else if spares(&s) > spares(&(*h)[0]) {
		(*h)[0] = s
		heap.Fix(h, 0)
	}
}

func (h bySpared) Len() int           { return len(h) }
func (h bySpared) Less(i, j int) bool { return spares(&h[i]) < spares(&h[j]) }
func (h bySpared) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *bySpared) Push(x any)        { *h = append(*h, x.(slot)) }
func (h *bySpared) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
