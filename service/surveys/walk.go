package surveys

import (
	"cmp"
	"context"
	"errors"
	"path"
	"slices"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/survey"
	"bridgespan/guard"
	"bridgespan/tree"
)

// Walker surveys a tree: several folders at a time, in bounded memory, so that
// it can stop at any moment and go on later from what Kept returned.
type Walker struct {
	tree  tree.Tree
	under string // the folder of the tree that is surveyed, "." for all

	mu       sync.Mutex
	idle     *sync.Cond
	counter  *survey.Counter
	seen     map[acl.Descriptor]*seen
	more     int64 // different permissions beyond what is remembered
	pending  []folder
	busy     map[*folder]struct{}
	fraction float64
	failure  error
	pairs    map[[3]any]bool
}

// seen is what was seen of one set of permissions.
type seen struct {
	descriptor     acl.Descriptor
	files, folders int64
	sample         string
	file           string // one of the files
	top            bool
	stale          int64 // how many do not match what is handed down to them
	staleSample    string
}

func (d *seen) count() int64 { return d.files + d.folders }

// folder is one that is still to be listed.
type folder struct {
	Path   string         `json:"path"`
	Weight float64        `json:"weight"` // how much of all it may be
	Parent acl.Descriptor `json:"parent"` // its own permissions
}

// Bounds of what a survey remembers, and how many folders it lists at a time.
const (
	mostSeen  = 50000
	mostPairs = 100000
	atATime   = 2
)

// NewWalker begins a survey of the folder under of a tree.
func NewWalker(t tree.Tree, under string, at time.Time) *Walker {
	w := &Walker{tree: t, under: under, counter: survey.NewCounter(at), seen: map[acl.Descriptor]*seen{}, busy: map[*folder]struct{}{}, pairs: map[[3]any]bool{}}
	w.idle = sync.NewCond(&w.mu)
	return w
}

// Begin looks at the top, from which everything follows.
func (w *Walker) Begin(ctx context.Context) error {
	d, err := w.tree.Descriptor(ctx, w.under)
	if err != nil {
		return err
	}
	w.pending = []folder{{".", 1, d}}
	if !d.IsZero() { // a place may keep none
		w.seen[d] = &seen{descriptor: d, folders: 1, sample: ".", top: true}
	}
	return nil
}

// Walk surveys until all is done or ctx ends.
func (w *Walker) Walk(ctx context.Context) error {
	stop := context.AfterFunc(ctx, guard.Func(func() { w.end(context.Cause(ctx)) }))
	defer stop()
	var group guard.WaitGroup
	for range atATime {
		group.Go(func() {
			if err := guard.Do(func() { w.listAll(ctx) }); err != nil {
				w.end(err) // the others would wait for the folder that it was at
			}
		})
	}
	_ = group.Wait()
	w.mu.Lock() // the end of ctx may be noted still
	defer w.mu.Unlock()
	return w.failure
}

// end ends the walk before all is done.
func (w *Walker) end(because error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.failure = cmp.Or(w.failure, because)
	w.idle.Broadcast()
}

// listAll lists folders until there are no more.
func (w *Walker) listAll(ctx context.Context) {
	for f := w.take(); f != nil; f = w.take() {
		w.list(ctx, f)
	}
}

// take waits for a folder to list; nil when there are no more.
func (w *Walker) take() *folder {
	w.mu.Lock()
	defer w.mu.Unlock()
	for len(w.pending) == 0 && len(w.busy) > 0 && w.failure == nil {
		w.idle.Wait()
	}
	if len(w.pending) == 0 || w.failure != nil {
		return nil
	}
	// The last one found goes first: so few are waiting at any time.
	f := w.pending[len(w.pending)-1]
	w.pending = w.pending[:len(w.pending)-1]
	w.busy[&f] = struct{}{}
	return &f
}

// part is what was counted of one folder.
type part struct {
	counter *survey.Counter
	seen    map[acl.Descriptor]*seen
	folders []folder
}

func (w *Walker) list(ctx context.Context, f *folder) {
	p := part{counter: survey.NewCounter(w.counter.Now), seen: map[acl.Descriptor]*seen{}}
	var parent *acl.Parts
	if !f.Parent.IsZero() {
		parts := f.Parent.Parts()
		parent = &parts
	}
	var failed error
	for e, err := range w.tree.List(ctx, path.Join(w.under, f.Path), tree.WithDescriptors) {
		if err != nil && e.Name == "" {
			failed = err
			break
		}
		if tree.Reserved(e.Name) {
			continue
		}
		name := path.Join(f.Path, e.Name)
		isFolder := e.Kind == tree.Folder
		p.counter.Add(survey.Item{Path: name, Folder: isFolder, Link: e.Kind == tree.Link, Other: e.Kind == tree.Other, Size: e.Size, Allocated: e.Allocated, Modified: e.Modified})
		if err != nil {
			p.counter.Failed(false, name, err)
		} else {
			w.note(&p, f.Parent, parent, e.Descriptor, name, isFolder)
		}
		if isFolder {
			p.folders = append(p.folders, folder{Path: name, Parent: e.Descriptor})
		}
	}
	if failed != nil && (ctx.Err() != nil || errors.Is(failed, tree.ErrUnreachable)) {
		w.fail(f, failed)
		return
	}
	if failed != nil {
		p.counter.Failed(true, f.Path, failed)
	}
	w.finish(f, p)
}

// note counts the permissions of one entry.
func (w *Walker) note(p *part, parentOf acl.Descriptor, parent *acl.Parts, d acl.Descriptor, name string, isFolder bool) {
	if d.IsZero() {
		return
	}
	s, ok := p.seen[d]
	if !ok {
		s = &seen{descriptor: d, sample: name}
		p.seen[d] = s
	}
	if isFolder {
		s.folders++
	} else {
		s.files++
		s.file = cmp.Or(s.file, name)
	}
	if parent != nil && w.stale(parentOf, parent, d, isFolder) {
		if s.stale++; s.staleSample == "" {
			s.staleSample = name
		}
	}
}

// stale judges each pair of permissions once.
func (w *Walker) stale(parentOf acl.Descriptor, parent *acl.Parts, d acl.Descriptor, isFolder bool) bool {
	key := [3]any{parentOf, d, isFolder}
	w.mu.Lock()
	stale, known := w.pairs[key]
	w.mu.Unlock()
	if known {
		return stale
	}
	stale = d.Parts().Stale(*parent, isFolder)
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.pairs) < mostPairs {
		w.pairs[key] = stale
	}
	return stale
}

// fail leaves a folder for later and ends the walk.
func (w *Walker) fail(f *folder, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.busy, f)
	w.pending = append(w.pending, *f)
	if w.failure == nil {
		w.failure = err
	}
	w.idle.Broadcast()
}

// finish adds what was counted of a folder, whole.
func (w *Walker) finish(f *folder, p part) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.busy, f)
	w.counter.Merge(p.counter)
	for d, s := range p.seen {
		w.merge(d, s)
	}
	share := f.Weight / float64(len(p.folders)+1)
	w.fraction += share
	for i := range p.folders {
		p.folders[i].Weight = share
	}
	w.pending = append(w.pending, p.folders...)
	w.idle.Broadcast()
}

func (w *Walker) merge(d acl.Descriptor, s *seen) {
	known, ok := w.seen[d]
	if !ok {
		if len(w.seen) >= mostSeen {
			w.more++
			return
		}
		w.seen[d] = s
		return
	}
	known.files += s.files
	known.folders += s.folders
	known.stale += s.stale
	known.staleSample = cmp.Or(known.staleSample, s.staleSample)
	known.file = cmp.Or(known.file, s.file)
	if s.sample < known.sample && !known.top {
		known.sample = s.sample
	}
}

// Progress is how far the survey is: files and folders, bytes, and how much of
// all that is, as far as can be told.
func (w *Walker) Progress() (done, bytes int64, fraction float64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.counter.Total.Files + w.counter.Folders + w.counter.Others, w.counter.Total.Bytes, w.fraction
}

// Figures are what was counted so far.
func (w *Walker) Figures() survey.Figures {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.counter.Figures()
}

// Distinct is how many different sets of permissions were seen.
func (w *Walker) Distinct() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return int64(len(w.seen)) + w.more
}

// descriptors are the permissions that were seen, most often first.
func (w *Walker) descriptors() []*seen {
	w.mu.Lock()
	defer w.mu.Unlock()
	list := make([]*seen, 0, len(w.seen))
	for _, s := range w.seen {
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, b *seen) int {
		return cmp.Or(cmp.Compare(b.count(), a.count()), cmp.Compare(a.sample, b.sample))
	})
	return list
}

// Kept is what a stopped survey needs to go on.
type Kept struct {
	Counter  *survey.Counter `json:"counter"`
	Pending  []folder        `json:"pending"`
	Seen     []keptSeen      `json:"seen"`
	More     int64           `json:"more"`
	Fraction float64         `json:"fraction"`
}

type keptSeen struct {
	Descriptor  acl.Descriptor `json:"d"`
	Files       int64          `json:"f"`
	Folders     int64          `json:"o"`
	Sample      string         `json:"s"`
	File        string         `json:"i,omitempty"`
	Top         bool           `json:"t,omitempty"`
	Stale       int64          `json:"x,omitempty"`
	StaleSample string         `json:"y,omitempty"`
}

// Kept gives the state at this moment: folders being listed count as not listed yet.
func (w *Walker) Kept() Kept {
	w.mu.Lock()
	defer w.mu.Unlock()
	k := Kept{Counter: survey.NewCounter(w.counter.Now), Pending: slices.Clone(w.pending), More: w.more, Fraction: w.fraction}
	k.Counter.Merge(w.counter)
	for f := range w.busy {
		k.Pending = append(k.Pending, *f)
	}
	for _, s := range w.seen {
		k.Seen = append(k.Seen, keptSeen{s.descriptor, s.files, s.folders, s.sample, s.file, s.top, s.stale, s.staleSample})
	}
	return k
}

// Resume goes on from what was kept.
func (w *Walker) Resume(k Kept) {
	w.counter, w.pending, w.more, w.fraction = k.Counter, k.Pending, k.More, k.Fraction
	for _, s := range k.Seen {
		w.seen[s.Descriptor] = &seen{s.Descriptor, s.Files, s.Folders, s.Sample, s.File, s.Top, s.Stale, s.StaleSample}
	}
}
