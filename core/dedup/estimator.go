package dedup

import (
	"slices"
	"strings"
	"time"
)

// Totals are the figures of an estimate.
type Totals struct {
	Now       time.Time `json:"now" doc:"Ages are counted back from here"`
	Profile   Profile   `json:"profile"`
	Files     int64     `json:"files"`
	Bytes     int64     `json:"bytes" doc:"Logical size of all files"`
	Allocated int64     `json:"allocatedBytes" doc:"What they occupy now, as far as the server tells; a file with several names counts once"`
	Holes     int64     `json:"holeBytes" doc:"Of sparse files, what takes no space"`
	Left      []Left    `json:"left" doc:"What is not deduplicated, and why"`
	InPolicy  Left      `json:"inPolicy" doc:"What is deduplicated; its bytes are without holes"`
	Chunks    int64     `json:"chunks" doc:"Chunks of these files, as often as they occur"`
	Different int64     `json:"differentChunks" doc:"How many different chunks these are, about"`
	Unique    Figure    `json:"unique" doc:"Bytes of the different chunks"`
	Packed    Figure    `json:"packed" doc:"Bytes of the different chunks once compressed"`
	Metadata  int64     `json:"metadataBytes" doc:"What a store needs to know which chunks a file is made of"`
	Saving    Figure    `json:"saving" doc:"Bytes in policy that need not be stored: what is left after compressing and metadata"`
	Exact     bool      `json:"exact" doc:"Whether all chunks were counted, and all compressed"`
	Sampled   int64     `json:"sampled" doc:"Of how many chunks one was counted; 1 for all of them"`
	Measured  int64     `json:"measured" doc:"How many chunks were compressed to learn how far they do"`
}

// Rate is which part of the bytes in policy is saved, in percent.
func (f Totals) Rate() (rate, low, high float64) {
	if f.InPolicy.Bytes == 0 {
		return 0, 0, 0
	}
	of := func(n int64) float64 { return 100 * float64(n) / float64(f.InPolicy.Bytes) }
	return of(f.Saving.Bytes), of(f.Saving.Low), of(f.Saving.High)
}

// AgePoint is what would be saved with another least age.
type AgePoint struct {
	Days   int    `json:"days" doc:"For how many days a file must not have been changed"`
	Files  int64  `json:"files" doc:"Files that are as old"`
	Bytes  int64  `json:"bytes" doc:"What they hold"`
	Saving Figure `json:"saving"`
}

// ageDays are the least ages of the curve, the oldest first, as files come.
var ageDays = []int{730, 365, 180, 90, 60, 30, 14, 7, 5, 3, 2, 1, 0}

// index tells of marks which are new, and how often they occur in files in policy.
type index interface {
	// Level is which part of the prints is counted: one in 2^Level. Raise gives up
	// what is not in the sample of a level.
	Level() uint8
	Raise(level uint8)
	// Add counts a mark. first is true when it was not seen before, and is counted.
	Add(m Mark) (first bool)
	// Refs is how often a mark was counted; 0 when it is not in the sample.
	Refs(p *Print) uint32
	// all calls each with every mark and how often it was counted.
	all(each func(m *Mark, refs uint32))
	// mostShared are the chunks that spare most.
	mostShared() []slot
}

// Estimator counts files. They come to Count from the oldest to the youngest, once;
// then those that are in policy to Share, which finds out where the saving is.
type Estimator struct {
	policy Policy
	rules  rules
	now    time.Time
	marks  index
	left   map[string]*Left

	f       Totals
	sums    sums
	names   int64 // bytes of paths
	old     bool  // what comes now is too young for the policy
	figures Totals
	curve   []AgePoint
	point   int // of ageDays: the next one

	packing map[string]*packing // by type
	shared  *sharing
}

// sums are those of the table, kept up as it grows.
type sums struct {
	level           uint8
	prints          float64
	length, length2 float64 // of all prints: bytes, and their squares
	n               int64   // prints that are measured
	mL, mP          float64
	mLL, mPP, mLP   float64
}

func (s *sums) add(m *Mark) {
	l, p := float64(m.Length), float64(m.Packed)
	s.prints++
	s.length += l
	s.length2 += l * l
	if m.Packed > 0 {
		s.n++
		s.mL, s.mP = s.mL+l, s.mP+p
		s.mLL, s.mPP, s.mLP = s.mLL+l*l, s.mPP+p*p, s.mLP+l*p
	}
}

// ratio is how far chunks compress.
func (s *sums) ratio() float64 {
	if s.mL == 0 {
		return 1
	}
	return s.mP / s.mL
}

// NewEstimator makes an estimator that counts in budget bytes of memory. now is
// what ages are counted back from.
func NewEstimator(p Policy, budget int64, now time.Time) (*Estimator, error) {
	table, err := NewTable(budget)
	if err != nil {
		return nil, err
	}
	return newEstimator(p, table, now)
}

func newEstimator(p Policy, marks index, now time.Time) (*Estimator, error) {
	r, err := newRules(p.Rules, now)
	if err != nil {
		return nil, err
	}
	e := &Estimator{policy: p, rules: r, now: now, marks: marks, left: map[string]*Left{}, packing: map[string]*packing{}}
	e.f = Totals{Now: now, Profile: p.Profile}
	e.sums.level = marks.Level()
	return e, nil
}

// Count counts a file.
func (e *Estimator) Count(f *File) {
	e.pass(f.Modified)
	e.f.Files++
	e.f.Bytes += f.Size
	if !f.Link {
		e.f.Allocated += f.Allocated
	}
	why := e.rules.left(f, e.now)
	if why == "" && e.old {
		e.leave(leftYoung, f.Size)
	} else if why != "" {
		e.leave(why, f.Size)
		return
	}
	e.f.Holes += f.holes()
	e.f.InPolicy.Files++
	e.f.InPolicy.Bytes += f.content()
	e.f.Chunks += f.Summary.Chunks
	e.names += int64(len(f.Path))
	e.marks.Raise(f.Summary.Level)
	for _, m := range f.Summary.Marks {
		if e.marks.Add(m) {
			e.sums.add(&m)
			e.packs(f.Path, &m)
		}
	}
	if e.marks.Level() != e.sums.level {
		e.sums = sums{level: e.marks.Level()}
		e.marks.all(func(m *Mark, _ uint32) { e.sums.add(m) })
	}
}

// packs notes how far a chunk of a type compresses, where that was measured.
func (e *Estimator) packs(name string, m *Mark) {
	if m.Packed == 0 {
		return
	}
	kind := typeOf(name)
	p := e.packing[kind]
	if p == nil && len(e.packing) >= mostNodes {
		return
	}
	if p == nil {
		p = &packing{}
		e.packing[kind] = p
	}
	p.length, p.packed = p.length+float64(m.Length), p.packed+float64(m.Packed)
}

func (e *Estimator) leave(why string, bytes int64) {
	l := e.left[why]
	if l == nil {
		l = &Left{Why: why}
		e.left[why] = l
	}
	l.Files++
	l.Bytes += bytes
}

// pass notes what was counted before files of an age come.
func (e *Estimator) pass(modified time.Time) {
	for e.point < len(ageDays) && modified.After(e.now.AddDate(0, 0, -ageDays[e.point])) {
		e.addPoint()
	}
	if !e.old && modified.After(e.rules.oldest) {
		e.figures, e.old = e.current(), true
	}
}

func (e *Estimator) addPoint() {
	c := e.current()
	e.curve = append(e.curve, AgePoint{ageDays[e.point], c.InPolicy.Files, c.InPolicy.Bytes, c.Saving})
	e.point++
}

// current are the figures of what was counted so far.
func (e *Estimator) current() Totals {
	f := e.f
	s := &e.sums
	scale := float64(uint64(1) << e.marks.Level())
	p := 1 / scale
	q := p * e.policy.Compression.rate()
	spread := (1 - p) / (p * p)
	r := s.ratio()
	most := float64(f.InPolicy.Bytes)
	f.Unique = about(s.length*scale, s.length2*spread, 0, most)
	residual := s.mPP - 2*r*s.mLP + r*r*s.mLL
	ofRatio := residual * (1 - q) / (q * q)
	f.Packed = about(s.length*scale*r, r*r*s.length2*spread+ofRatio, 0, most)
	f.Different = int64(s.prints * scale)
	fixed := f.Chunks*RefCost + f.InPolicy.Files*FileCost + e.names
	f.Metadata = f.Different*ChunkCost + fixed
	// Of each chunk, its length once compressed and what it costs beside are kept.
	squares := r*r*s.length2 + 2*r*ChunkCost*s.length + ChunkCost*ChunkCost*s.prints
	stored := about(s.length*scale*r+s.prints*scale*ChunkCost+float64(fixed), squares*spread+ofRatio, 0, 1e300)
	f.Saving = stored.from(f.InPolicy.Bytes)
	f.Sampled, f.Measured = int64(scale), s.n
	f.Exact = e.marks.Level() == 0 && e.policy.Compression == OfAll
	return f
}

// Totals are what was found when all was counted.
func (e *Estimator) Totals() Totals {
	if !e.old {
		e.figures, e.old = e.current(), true
	}
	f := e.figures
	f.Files, f.Bytes, f.Allocated = e.f.Files, e.f.Bytes, e.f.Allocated
	f.InPolicy.Why = "in policy"
	f.Left = []Left{}
	for _, l := range e.left {
		f.Left = append(f.Left, *l)
	}
	slices.SortFunc(f.Left, func(a, b Left) int {
		if a.Bytes != b.Bytes {
			return int(min(max(b.Bytes-a.Bytes, -1), 1))
		}
		return strings.Compare(a.Why, b.Why)
	})
	return f
}

// Curve is what would be saved with other least ages, the youngest first.
func (e *Estimator) Curve() []AgePoint {
	for e.point < len(ageDays) {
		e.addPoint()
	}
	c := slices.Clone(e.curve)
	slices.Reverse(c)
	return c
}
