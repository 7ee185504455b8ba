package replication

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync"

	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/tree"
)

// Scanned is what a scan did.
type Scanned struct {
	Entries int64 // files and folders seen
	Changed int64 // of which people changed something, removals too
	Trouble int64 // that could not be looked at; they count as unchanged
	Busy    int64 // that something else is being done about; the next scan looks at them
}

// Scan looks at all of a replica and puts what people changed there into its
// records and into the backlogs of the lanes that lead away. What cannot be read
// is told to Trouble and left as it was; only a record that cannot be kept, a top
// that cannot be listed, or ErrNotReplica ends the scan. The first one also fails
// when a part of it could not be seen, for a while as it seems.
func (e *Engine) Scan(ctx context.Context, id replica.ID) (Scanned, error) {
	defer e.looking(id)()
	s := e.newScan(id)
	if err := e.identify(ctx, s.r); err != nil {
		return s.done, err
	}
	if err := e.protectAgain(ctx, s.r); err != nil {
		return s.done, err
	}
	waits, err := e.settleAll(ctx, s.r)
	if s.count(0, 0, waits); err != nil {
		return s.done, err
	}
	if err := e.sweep(ctx, s.r); err != nil {
		return s.done, err
	}
	e.endpoint(s.r).DropLeft(ctx)
	if err := tree.Tidy(ctx, s.r.Tree); fatal(ctx, err) {
		return s.done, err
	} else if err != nil {
		s.trouble(".", err)
	}
	if err := e.audit(ctx, s.r); err != nil {
		return s.done, err
	}
	var run context.Context
	s.group, run = guard.WithContext(ctx)
	s.group.SetLimit(foldersWaiting * (e.hands() - 1)) // beside the first one; one hand does one thing after the other
	s.listers, s.readers = make(chan struct{}, e.hands()), make(chan struct{}, e.hands())
	err = s.folder(run, someFolder{name: ".", key: "."})
	if err := cmp.Or(ctx.Err(), s.group.Wait(), err); err != nil {
		return s.done, err
	}
	if err := cmp.Or(s.gone(ctx), s.makeAgain(ctx)); err != nil {
		return s.done, err
	}
	s.tellRemovals(true)
	e.claims.allLookedAt(id, s.number)
	if err := e.examine(ctx, s.r); err != nil {
		return s.done, err
	}
	if s.unreached != nil && !e.scanned(s.r) {
		return s.done, fmt.Errorf("not all of it could be looked at for the first time: %w", s.unreached)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.nested, id)
	if s.r.Scanned = true; s.r.Seed {
		s.r.Filled = true
	}
	return s.done, nil
}

// foldersWaiting is how many folders are looked at in the place of one that is being
// listed: the others wait for what was found in them to be kept.
const foldersWaiting = 4

// looking waits until nobody else looks at a replica; who does so must call done.
func (e *Engine) looking(id replica.ID) (done func()) {
	e.mu.Lock()
	if e.looks == nil {
		e.looks = map[replica.ID]*sync.Mutex{}
	}
	turn := e.looks[id]
	if turn == nil {
		turn = &sync.Mutex{}
		e.looks[id] = turn
	}
	e.mu.Unlock()
	turn.Lock()
	return turn.Unlock
}

// newScan is a scan that looks at one folder after the other.
func (e *Engine) newScan(id replica.ID) *scan {
	s := &scan{Engine: e, r: e.replica(id), number: e.claims.newScan()}
	e.mu.Lock()
	defer e.mu.Unlock()
	if s.r.RemovalsWait {
		s.decision = s.r.Decision
	}
	return s
}

type scan struct {
	*Engine
	r      *Replica
	number uint64
	// group looks at folders side by side; nil does so one after the other.
	group *guard.Group
	// listers and readers bound how many folders are listed, and how many files are
	// read, side by side; nil does not.
	listers, readers chan struct{}
	// shallow looks at folders that are known already not any further.
	shallow bool

	// decision is the decision about pending removals when the scan began.
	decision replica.Decision

	mu      sync.Mutex
	done    Scanned
	absent  []absence
	waiting replica.Removals // pending, thus not recorded
	// implied are keys of folders of an object store that no object stands for.
	implied []string
	// kept is how many paths are absent.
	kept int
	// unreached is why something was not seen that may be there: after the first
	// look it would be taken for what people have made since.
	unreached error
}

func (s *scan) count(entries, changed, busy int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.done.Entries += int64(entries)
	s.done.Changed += int64(changed)
	s.done.Busy += int64(busy)
}

func (s *scan) trouble(path string, err error) {
	s.mu.Lock()
	s.done.Trouble++
	if !lasts(err) {
		s.unreached = err
	}
	s.mu.Unlock()
	s.Engine.trouble(s.r, path, err)
}

// lasts reports whether an error says of a path what it will say again: that we
// may not see it, or that it is nothing for us.
func lasts(err error) bool {
	for _, kind := range []error{fs.ErrPermission, fs.ErrInvalid, tree.ErrInUse, tree.ErrKind, errKind, errClash} {
		if errors.Is(err, kind) {
			return true
		}
	}
	return false
}

// candidate is an entry that is not as its record says.
type candidate struct {
	path  string
	entry tree.Entry
	rec   replica.Record // as it was, and then as it is
	fresh bool           // nothing was known of it, nor of what is in it
	brief bool           // its entry tells kind, size and version alone
	save  bool           // it is not as it was kept
	news  bool           // people changed it
}

// someFolder is a folder to be looked at.
type someFolder struct {
	name, key string
	// fresh is true when nothing was known of what is in it, while the replica had been
	// brought so much.
	fresh   bool
	brought uint64
	// held is true when the caller has claimed the folder.
	held bool
}

// folder looks at what is right in a folder, saves that, and goes on below.
func (s *scan) folder(ctx context.Context, f someFolder) error {
	name, key := f.name, f.key
	h := s.newHold()
	defer h.release()
	// Nobody may note that the folder is gone before what is in it is noted.
	if key != "." && !f.held && !h.rely(s.r, key) {
		s.count(0, 0, 1)
		return nil
	}
	saves, all := s.known.brought(s.r), s.known.saved(s.r)
	brief := !f.fresh && s.brief()
	listed, err := s.listing(ctx, name, brief)
	if err != nil {
		if errors.Is(err, ErrNotReplica) {
			return err
		}
		if name == "." || ctx.Err() != nil {
			return fmt.Errorf("list %s: %w", s.r.Name, err)
		}
		if !absent(err) { // what is gone is found with the folder above, at the next scan
			s.trouble(name, err)
		}
		return nil
	}
	at := place{s.r.ID, key}
	var sum listingSum
	var plain bool
	var records []replica.Record
	if !f.fresh || f.brought != saves {
		if sum, plain = s.sum(listed); plain && s.known.asListed(at, sum) {
			h.release()
			s.claims.lookedAt(at, s.number)
			return s.below(ctx, name, listed)
		}
		if records, err = s.Store.Children(ctx, s.r.ID, key); err != nil {
			return err
		}
	}
	known := make(map[string]replica.Record, len(records))
	for _, rec := range records {
		known[rec.Key] = rec
	}
	entries := s.arrange(name, listed, known)
	var look []*candidate
	var below []someFolder
	busy := 0
	for _, entry := range entries {
		at := replica.Below(name, entry.Name)
		child := keyOf(at)
		rec, ok := known[child]
		if !ok {
			rec.Key = child
		}
		delete(known, child)
		seen := s.asSeen(&rec, entry, brief)
		if !seen && h.change(s.r, child) {
			look = append(look, &candidate{path: at, entry: entry, rec: rec, brief: brief})
			continue
		}
		if !seen {
			busy++
		}
		if rec.Kind == replica.Folder && entry.Kind == tree.Folder && !s.shallow {
			below = append(below, someFolder{name: at, key: child})
		}
	}
	s.count(len(entries), 0, busy)
	if plain && busy == 0 && len(look) == 0 && noneAlive(known) {
		s.known.learnListing(at, sum, all)
	}
	whole := ""
	if len(records) == 0 && key != "." && len(look) <= wholeMost {
		whole = key
	}
	if err := s.entries(ctx, look, saves, whole); err != nil {
		return err
	}
	for _, c := range look {
		if c.rec.Kind == replica.Folder && c.entry.Kind == tree.Folder && (c.news || !s.shallow) {
			below = append(below, someFolder{name: c.path, key: c.rec.Key, fresh: c.fresh, brought: saves})
		}
	}
	h.release()
	s.claims.lookedAt(at, s.number)
	if err := s.notListed(ctx, name, known); err != nil {
		return err
	}
	for _, b := range below {
		if err := s.goOn(ctx, b); err != nil {
			return err
		}
	}
	return nil
}

// below goes on in the folders of one that is as it was when it was last looked at.
func (s *scan) below(ctx context.Context, name string, listed []listed) error {
	s.count(len(listed), 0, 0)
	if s.shallow {
		return nil
	}
	for _, l := range listed {
		if l.Kind == tree.Folder {
			at := replica.Below(name, l.Name)
			if err := s.goOn(ctx, someFolder{name: at, key: keyOf(at)}); err != nil {
				return err
			}
		}
	}
	return nil
}

// noneAlive reports whether nothing of what is left was to be there.
func noneAlive(left map[string]replica.Record) bool {
	for _, rec := range left {
		if rec.Kind != replica.None || rec.Pending != nil {
			return false
		}
	}
	return true
}

// goOn looks at a folder beside this one, when a hand is free.
func (s *scan) goOn(ctx context.Context, f someFolder) error {
	if s.group != nil && s.group.TryGo(func() error { return s.folder(ctx, f) }) {
		return nil
	}
	return s.folder(ctx, f)
}

// asSeen reports whether an entry is in all as its record has seen it. Of a brief one, the version tells.
func (s *scan) asSeen(rec *replica.Record, entry tree.Entry, brief bool) bool {
	if rec.Pending != nil || s.r.begins(rec) || rec.Name != entry.Name {
		return false
	}
	if brief {
		return kindOf(entry) == rec.Kind && (rec.Kind == replica.Folder || entry.Size == rec.Seen.Size && idOf(entry) == rec.Seen.ID)
	}
	return asKept(rec, entry) && s.seenOf(entry) == rec.Seen && !s.owns(entry)
}

// owns reports whether an entry is to be given as its own what its folder hands
// down to it: otherwise a change of the folder's permissions would be one of
// everything in it, which nobody made.
func (s *scan) owns(entry tree.Entry) bool {
	return entry.Handed && !entry.Descriptor.IsZero() && !s.LeavePermissions
}

// entries looks at entries that are not as their records say, which are claimed,
// and saves what they are now; whole is the folder that they are in when nothing was
// known of it before.
func (s *scan) entries(ctx context.Context, look []*candidate, saves uint64, whole string) error {
	if len(look) == 0 {
		return nil
	}
	// What was listed may have been changed by ourselves until it was claimed.
	stale := s.known.brought(s.r) != saves
	if stale {
		if err := s.again(ctx, look); err != nil {
			return err
		}
	}
	were, err := s.origins(ctx, look)
	if err != nil {
		return err
	}
	group, run := guard.WithContext(ctx)
	for _, c := range look {
		if c.entry.Kind != tree.File || s.readers == nil || !stale && !c.brief && unknown(&c.rec) && !s.owns(c.entry) { // it is not read
			if err := s.entry(run, c, stale, were); err != nil {
				return errors.Join(err, group.Wait())
			}
			continue
		}
		s.readers <- struct{}{}
		group.Go(func() error {
			defer func() { <-s.readers }()
			return s.entry(run, c, stale, were)
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	var changed, seen []replica.Record
	for _, c := range look {
		switch {
		case c.news:
			if changed == nil {
				changed = make([]replica.Record, 0, len(look))
			}
			changed = append(changed, c.rec)
		case c.save:
			seen = append(seen, c.rec)
		}
	}
	news := len(changed)
	s.count(0, news, 0)
	if len(seen) > 0 { // only how the replica shows it is another: nobody has to hear of that
		if err := s.keep(ctx, replica.Change{Replica: s.r.ID, Records: seen}, true); err != nil {
			return err
		}
	}
	if news > 0 && s.Busied != nil {
		s.Busied(s.r.ID, path.Dir(look[0].path), news)
	}
	return s.save(ctx, changed, whole)
}

// again reads the records of candidates once more.
func (s *scan) again(ctx context.Context, look []*candidate) error {
	keys := make([]string, len(look))
	for i, c := range look {
		keys[i] = c.rec.Key
	}
	records, err := s.Store.Get(ctx, s.r.ID, keys...)
	for i := range records {
		look[i].rec = records[i]
	}
	return err
}

// entry looks at one entry. What cannot be told stays as it was.
func (s *scan) entry(ctx context.Context, c *candidate, stale bool, were origins) error {
	was := c.rec
	if was.Pending != nil { // it could not be settled
		return nil
	}
	var now replica.Record
	var news bool
	var err error
	if stale || c.brief {
		now, news, err = s.observe(ctx, s.r, c.path, was, c.entry.ID)
	} else {
		now, news, err = s.note(ctx, s.r, c.path, was, c.entry, were)
	}
	if err == nil && now.Kind != was.Kind && was.Kind == replica.Folder {
		err = s.emptied(ctx, s.r, was.Key, s.removed(s.r)) // nothing is below it any more
	}
	if err == nil && now.Kind != replica.None && s.owns(c.entry) {
		err = s.r.Tree.Apply(ctx, c.path, tree.Meta{Descriptor: now.Seen.Descriptor})
	}
	var failed *storeError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &failed):
		return failed.err
	case errors.Is(err, errLater):
		s.count(0, 0, 1)
	case absent(err):
	case err != nil:
		s.trouble(c.path, err)
	default:
		c.rec, c.fresh, c.news, c.save = now, unknown(&was), news, news || now.Seen != was.Seen
	}
	return nil
}

// save keeps records of what changed, and puts them into the backlogs.
func (s *scan) save(ctx context.Context, changed []replica.Record, whole string) error {
	if len(changed) == 0 {
		return nil
	}
	return s.keep(ctx, replica.Change{Replica: s.r.ID, Records: changed, Queue: s.toTell(s.r), Whole: whole}, true)
}

// toTell are the lanes that are to look at what changed at a replica. What a replica held
// before is a matter for the lanes that fill it.
func (e *Engine) toTell(r *Replica) []replica.Lane {
	lanes := e.outOf(r, 0)
	if !e.filled(r) {
		lanes = append(lanes, e.into(r)...)
	}
	return lanes
}
