package dedup

import (
	"cmp"
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

// ageDays are the least ages of the curve.
var ageDays = []int{0, 1, 2, 3, 5, 7, 14, 30, 60, 90, 180, 365, 730}

// age is what was counted of files that are as old as a least age, and not as old as
// the next.
type age struct {
	days   int
	cutoff time.Time // they were not changed after this
	files  int64
	size   int64 // logical bytes
	bytes  int64 // without holes
	holes  int64
	chunks int64
	names  int64 // bytes of paths
}

func (a *age) add(o *age) {
	a.files, a.size, a.bytes, a.holes = a.files+o.files, a.size+o.size, a.bytes+o.bytes, a.holes+o.holes
	a.chunks, a.names = a.chunks+o.chunks, a.names+o.names
}

// mostAges is how many ages can be told apart: those of the curve, that of the policy,
// and whatever is younger than all of these.
const mostAges = 15

// index tells of marks how often they occur, and the oldest file that has each.
type index interface {
	// Level is which part of the prints is counted: one in 2^Level. Raise gives up
	// what is not in the sample of a level.
	Level() uint8
	Raise(level uint8)
	// add counts a mark of a file of an age, the oldest being 0; refs are counted in
	// files in policy alone.
	add(m *Mark, age uint8, inPolicy bool)
	// settle ends the counting, and sums up the marks by the age of the oldest file
	// that has them.
	settle() ([mostAges]sums, error)
	// Refs is how often a mark of a file in policy occurs in such files; 0 when it is
	// not in the sample. It is asked once settled, of files in the order in which they
	// were counted.
	Refs(p *Print) uint32
	// mostShared are the chunks that spare most.
	mostShared() []slot
	// failed is what has gone wrong: nothing that is told after that is of use.
	failed() error
}

// Estimator counts files: each comes to Count once. Then come figures, and files may
// come to Share, which finds out where the saving is.
type Estimator struct {
	policy Policy
	rules  rules
	now    time.Time
	marks  index
	left   map[string]*Left

	all      Totals          // what does not depend on age
	ages     []age           // the oldest first
	steps    []time.Duration // ages at which files come to be counted otherwise, in order
	until    time.Time       // when the first of them does; zero for never
	inPolicy int             // of ages: what is older, and this, is in policy
	settled  bool
	sums     [mostAges]sums
	ratio    float64 // how far chunks in policy compress

	packing map[string]*packing // by type
	shared  *sharing
}

// sums are those of marks.
type sums struct {
	prints          float64
	length, length2 float64 // of all prints: bytes, and their squares
	n               int64   // prints that are measured
	mL, mP          float64
	mLL, mPP, mLP   float64
}

func (s *sums) mark(m *Mark) {
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

func (s *sums) add(o *sums) {
	s.prints, s.length, s.length2, s.n = s.prints+o.prints, s.length+o.length, s.length2+o.length2, s.n+o.n
	s.mL, s.mP, s.mLL, s.mPP, s.mLP = s.mL+o.mL, s.mP+o.mP, s.mLL+o.mLL, s.mPP+o.mPP, s.mLP+o.mLP
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
	e.all = Totals{Now: now, Profile: p.Profile}
	days := append(slices.Clone(ageDays), p.Rules.MinDays)
	slices.Sort(days)
	days = slices.Compact(days)
	slices.Reverse(days)
	for _, d := range days {
		e.ages = append(e.ages, age{days: d, cutoff: daysAgo(now, d)})
	}
	e.inPolicy = slices.Index(days, p.Rules.MinDays)
	e.steps = stepsOf(days)
	e.ages = append(e.ages, age{days: -1}) // changed after now
	return e, nil
}

// daysAgo is so many times 24 hours before a time, as ages of files are told.
func daysAgo(now time.Time, days int) time.Time { return now.Add(-inDays(days)) }

func inDays(days int) time.Duration { return time.Duration(days) * 24 * time.Hour }

// stepsOf are the ages at which files come to be counted otherwise: those of the curve
// and the policy, and those of classes.
func stepsOf(days []int) (list []time.Duration) {
	for _, c := range ageClasses[:len(ageClasses)-1] {
		days = append(days, c.days)
	}
	for _, d := range days {
		list = append(list, inDays(d))
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// turns notes when a file comes to be counted otherwise, though it does not change.
func (e *Estimator) turns(modified time.Time) {
	i, exactly := slices.BinarySearch(e.steps, e.now.Sub(modified))
	if exactly {
		i++
	}
	if i == len(e.steps) {
		return
	}
	if at := modified.Add(e.steps[i]); e.until.IsZero() || at.Before(e.until) {
		e.until = at
	}
}

// Until is when a file comes to be counted otherwise, though none changes: what was
// found holds until then. It is zero when it holds for ever.
func (e *Estimator) Until() time.Time { return e.until }

// ageOf is which of the ages a file has that was changed last at a time.
func (e *Estimator) ageOf(modified time.Time) int {
	i := 0
	for i < len(e.ages)-1 && modified.After(e.ages[i].cutoff) {
		i++
	}
	return i
}

// Count counts a file.
func (e *Estimator) Count(f *File) {
	e.all.Files++
	e.all.Bytes += f.Size
	if !f.Link {
		e.all.Allocated += f.Allocated
	}
	if why := e.rules.left(f, e.now); why != "" {
		e.leave(why, 1, f.Size)
		return
	}
	e.turns(f.Modified)
	at := e.ageOf(f.Modified)
	inPolicy := at <= e.inPolicy
	e.ages[at].add(&age{files: 1, size: f.Size, bytes: f.content(), holes: f.holes(), chunks: f.Summary.Chunks, names: int64(len(f.Path))})
	e.marks.Raise(f.Summary.Level)
	for i := range f.Summary.Marks {
		m := &f.Summary.Marks[i]
		e.marks.add(m, uint8(at), inPolicy)
		if inPolicy && m.Packed > 0 && e.policy.Compression != OfAll {
			e.packs(f.Path, m)
		}
	}
}

// packs notes how far a chunk of a type compresses.
func (e *Estimator) packs(name string, m *Mark) {
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

func (e *Estimator) leave(why string, files, bytes int64) {
	l := e.left[why]
	if l == nil {
		l = &Left{Why: why}
		e.left[why] = l
	}
	l.Files += files
	l.Bytes += bytes
}

// Settle ends the counting. It must be called before anything else is asked.
func (e *Estimator) Settle() (err error) {
	if e.settled {
		return nil
	}
	e.settled = true
	e.sums, err = e.marks.settle()
	for i := e.inPolicy + 1; i < len(e.ages); i++ {
		if a := &e.ages[i]; a.files > 0 {
			e.leave(leftYoung, a.files, a.size)
		}
	}
	var s sums
	for i := range e.inPolicy + 1 {
		s.add(&e.sums[i])
	}
	e.ratio = s.ratio()
	return err
}

// upTo are the figures of files of an age, and older ones.
func (e *Estimator) upTo(last int) Totals {
	f := e.all
	var a age
	var s sums
	for i := range last + 1 {
		a.add(&e.ages[i])
		s.add(&e.sums[i])
	}
	f.InPolicy, f.Holes, f.Chunks = Left{Why: "in policy", Files: a.files, Bytes: a.bytes}, a.holes, a.chunks
	level := e.marks.Level()
	scale := float64(uint64(1) << level)
	p := 1 / scale
	q := p * e.policy.Compression.rate()
	spread := (1 - p) / (p * p)
	r := s.ratio()
	most := float64(a.bytes)
	f.Unique = about(s.length*scale, s.length2*spread, 0, most)
	residual := s.mPP - 2*r*s.mLP + r*r*s.mLL
	ofRatio := residual * (1 - q) / (q * q)
	f.Packed = about(s.length*scale*r, r*r*s.length2*spread+ofRatio, 0, most)
	f.Different = int64(s.prints * scale)
	fixed := a.chunks*RefCost + a.files*FileCost + a.names
	f.Metadata = f.Different*ChunkCost + fixed
	// Of each chunk, its length once compressed and what it costs beside are kept.
	squares := r*r*s.length2 + 2*r*ChunkCost*s.length + ChunkCost*ChunkCost*s.prints
	stored := about(s.length*scale*r+s.prints*scale*ChunkCost+float64(fixed), squares*spread+ofRatio, 0, 1e300)
	f.Saving = stored.from(a.bytes)
	f.Sampled, f.Measured = int64(scale), s.n
	f.Exact = level == 0 && e.policy.Compression == OfAll
	return f
}

// Totals are what was found.
func (e *Estimator) Totals() Totals {
	f := e.upTo(e.inPolicy)
	f.Left = []Left{}
	for _, l := range e.left {
		f.Left = append(f.Left, *l)
	}
	slices.SortFunc(f.Left, func(a, b Left) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Why, b.Why))
	})
	return f
}

// Curve is what would be saved with other least ages, the youngest first.
func (e *Estimator) Curve() []AgePoint {
	list := []AgePoint{}
	for i := len(e.ages) - 1; i >= 0; i-- {
		if days := e.ages[i].days; slices.Contains(ageDays, days) {
			f := e.upTo(i)
			list = append(list, AgePoint{days, f.InPolicy.Files, f.InPolicy.Bytes, f.Saving})
		}
	}
	return list
}
