package replication

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// memoryStore keeps records as the database's store does: changes that wait are kept
// several together, by a few savers side by side; what is begun is known by path until
// it has come to its end; what was kept stays.
type memoryStore struct {
	*memoryDatabase
	// fault is asked before and after everything that is kept, and turn at every
	// step; nil does nothing.
	fault func() error
	turn  func(what string)
	// now is the clock by which tickets are left alone; nil leaves none alone.
	now func() time.Time
	// gone ends a store whose engine crashed: what it had not kept is lost.
	gone bool

	mu      sync.Mutex // of the database, and of what follows
	pending map[replica.ID]map[string]openPath
	opened  map[replica.ID]bool
	waiting []*waitingSave
	saving  int
}

// openPath is what is pending at a path, and the number of the row that has it.
type openPath struct {
	*replica.Pending
	row int
}

type waitingSave struct {
	change replica.Change
	kept   chan error
}

func newMemoryStore() *memoryStore { return openMemoryStore(newMemoryDatabase()) }

func openMemoryStore(d *memoryDatabase) *memoryStore {
	return &memoryStore{memoryDatabase: d, pending: map[replica.ID]map[string]openPath{}, opened: map[replica.ID]bool{}}
}

var errGone = errors.New("the store is gone")

func (s *memoryStore) step() error {
	if s.fault == nil {
		return nil
	}
	return s.fault()
}

func (s *memoryStore) read(what string) {
	if s.turn != nil {
		s.turn(what)
	}
}

// open puts what an earlier store left begun at a replica into its records; s.mu must
// be held.
func (s *memoryStore) open(r replica.ID) {
	if s.opened[r] {
		return
	}
	s.opened[r] = true
	for _, b := range s.begun {
		for key, p := range b.paths {
			if b.replica != r {
				break
			}
			rec := s.record(r, key)
			has := func(v, w replica.Vector) bool { o := v.Compare(w); return o == replica.Equal || o == replica.After }
			if rec.Pending != nil || has(rec.Version, p.Content.Version) && has(rec.Permissions.Version, p.Permissions.Version) {
				continue
			}
			rec.Pending = p
			s.setRow(r, rec)
		}
	}
	s.begun = slices.DeleteFunc(s.begun, func(b memoryBegun) bool { return b.replica == r })
}

// overlaid is a record with what was begun since it was kept.
func (s *memoryStore) overlaid(r replica.ID, rec replica.Record) replica.Record {
	if p, ok := s.pending[r][rec.Key]; ok {
		pending := *p.Pending
		rec.Pending = &pending
	}
	return rec
}

func (s *memoryStore) Get(_ context.Context, r replica.ID, keys ...string) ([]replica.Record, error) {
	s.read(fmt.Sprint("get ", r, keys))
	s.mu.Lock()
	s.open(r)
	found := make([]replica.Record, len(keys))
	for i, key := range keys {
		found[i] = s.record(r, key)
	}
	s.mu.Unlock()
	s.read(fmt.Sprint("got ", r, keys)) // what is begun is added later
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range found {
		found[i] = s.overlaid(r, found[i])
	}
	return found, nil
}

func (s *memoryStore) matching(r replica.ID, ok func(*replica.Record) bool) (found []replica.Record, err error) {
	s.read(fmt.Sprint("list ", r))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open(r)
	all := s.all(r)
	for _, key := range slices.Sorted(maps.Keys(all)) {
		if rec := all[key]; ok(&rec) {
			found = append(found, s.overlaid(r, rec))
		}
	}
	return found, nil
}

func (s *memoryStore) Children(_ context.Context, r replica.ID, folder string) ([]replica.Record, error) {
	found, err := s.matching(r, func(rec *replica.Record) bool { return parentKey(rec.Key) == folder })
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(s.pending[r])) {
		if parentKey(key) == folder && !slices.ContainsFunc(found, func(rec replica.Record) bool { return rec.Key == key }) {
			found = append(found, s.overlaid(r, replica.Record{Key: key}))
		}
	}
	slices.SortFunc(found, func(a, b replica.Record) int { return cmp.Compare(a.Key, b.Key) })
	return found, err
}

func (s *memoryStore) ByFile(_ context.Context, r replica.ID, ids ...uint64) ([]replica.Record, error) {
	return s.matching(r, func(rec *replica.Record) bool { return rec.Kind != replica.None && slices.Contains(ids, rec.Seen.ID) })
}

func (s *memoryStore) Alike(_ context.Context, r replica.ID, size int64, modified time.Time) ([]replica.Record, error) {
	return s.matching(r, func(rec *replica.Record) bool {
		return rec.Kind == replica.File && rec.Size == size && rec.Modified.Equal(modified) && rec.Digest.Known()
	})
}

func (s *memoryStore) Chunks(_ context.Context, d chunk.Digest) (chunk.List, error) {
	s.read("chunks")
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lists[d], nil
}

func (s *memoryStore) KeepChunks(_ context.Context, l chunk.List) error {
	return s.change(func() { s.lists[l.Digest] = l })
}

func (s *memoryStore) Partials(_ context.Context, r replica.ID) ([]chunk.Partial, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.partials[r])), nil
}

func (s *memoryStore) KeepPartial(_ context.Context, r replica.ID, p chunk.Partial) error {
	return s.change(func() {
		if s.partials[r] == nil {
			s.partials[r] = map[string]chunk.Partial{}
		}
		s.partials[r][p.Key] = p
	})
}

func (s *memoryStore) ForgetPartial(_ context.Context, r replica.ID, key string) error {
	return s.change(func() { delete(s.partials[r], key) })
}

// change does something at once, unless the database fails.
func (s *memoryStore) change(do func()) error {
	if err := s.step(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	do()
	return nil
}

func (s *memoryStore) Orphans(_ context.Context, r replica.ID, limit int) (keys []string, err error) {
	s.read(fmt.Sprint("orphans ", r))
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.all(r)
	for _, key := range slices.Sorted(maps.Keys(all)) {
		if above := parentKey(key); all[key].Kind != replica.None && above != "." && all[above].Kind != replica.Folder {
			keys = append(keys, key)
		}
	}
	return keys[:min(limit, len(keys))], nil
}

func (s *memoryStore) Unfinished(_ context.Context, r replica.ID) ([]replica.Record, error) {
	unfinished, err := s.matching(r, func(rec *replica.Record) bool { return s.overlaid(r, *rec).Pending != nil })
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(s.pending[r])) {
		if !slices.ContainsFunc(unfinished, func(rec replica.Record) bool { return rec.Key == key }) {
			unfinished = append(unfinished, s.overlaid(r, s.record(r, key)))
		}
	}
	return unfinished, err
}

// Save keeps a change together with others that wait.
func (s *memoryStore) Save(ctx context.Context, c replica.Change) error {
	mine := &waitingSave{change: c, kept: make(chan error, 1)}
	s.mu.Lock()
	s.waiting = append(s.waiting, mine)
	more := s.saving < 3
	if more {
		s.saving++
	}
	s.mu.Unlock()
	if more {
		go s.keepWaiting()
	}
	select {
	case err := <-mine.kept:
		return err
	case <-ctx.Done():
		s.mu.Lock()
		i := slices.Index(s.waiting, mine)
		if i >= 0 {
			s.waiting = slices.Delete(s.waiting, i, i+1)
		}
		s.mu.Unlock()
		if i >= 0 {
			return ctx.Err()
		}
		return <-mine.kept
	}
}

// keepWaiting keeps what waits until nothing does.
func (s *memoryStore) keepWaiting() {
	for {
		s.read("take what waits")
		s.mu.Lock()
		together := s.waiting
		s.waiting = nil
		if len(together) == 0 {
			s.saving--
		}
		s.mu.Unlock()
		if len(together) == 0 {
			return
		}
		err := s.keep(together)
		for _, w := range together {
			if err != nil && len(together) > 1 { // one of them may be what does not go
				w.kept <- s.keep([]*waitingSave{w})
			} else {
				w.kept <- err
			}
		}
	}
}

// keep keeps changes in one transaction.
func (s *memoryStore) keep(together []*waitingSave) error {
	if err := s.step(); err != nil {
		return err
	}
	var changes []replica.Change
	for _, w := range together {
		changes = append(changes, w.change)
	}
	s.mu.Lock()
	for _, c := range changes {
		s.open(c.Replica)
	}
	seen := s.view()
	s.mu.Unlock()
	s.read("commit")
	s.mu.Lock()
	if s.gone {
		s.mu.Unlock()
		return errGone
	}
	s.saves += len(changes)
	s.keepRecords(seen, changes)
	rows := s.keepBegun(changes)
	s.queueAll(changes)
	for _, c := range changes {
		s.kept[c.Replica] = append(s.kept[c.Replica], c.Kept...)
	}
	s.mu.Unlock()
	s.read("committed")
	if err := s.step(); err != nil { // it is kept, and nobody knows
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.noted(changes, rows)
	return nil
}

// keepBegun writes what changes begin, one row for each replica.
func (s *memoryStore) keepBegun(changes []replica.Change) map[replica.ID]int {
	rows := map[replica.ID]int{}
	for _, c := range changes {
		if !c.Begun {
			continue
		}
		if rows[c.Replica] == 0 {
			s.seq++
			rows[c.Replica] = int(s.seq)
			s.begun = append(s.begun, memoryBegun{int(s.seq), c.Replica, map[string]*replica.Pending{}})
		}
		for _, rec := range c.Records {
			row := slices.IndexFunc(s.begun, func(b memoryBegun) bool { return b.id == rows[c.Replica] })
			s.begun[row].paths[rec.Key] = rec.Pending
		}
	}
	return rows
}

// noted learns what was kept: what was begun, and what has come to its end.
func (s *memoryStore) noted(changes []replica.Change, rows map[replica.ID]int) {
	for _, c := range changes {
		for _, rec := range c.Records {
			was, open := s.pending[c.Replica][rec.Key]
			delete(s.pending[c.Replica], rec.Key)
			if open {
				s.endRow(c.Replica, was.row)
			}
			if c.Begun {
				if s.pending[c.Replica] == nil {
					s.pending[c.Replica] = map[string]openPath{}
				}
				s.pending[c.Replica][rec.Key] = openPath{rec.Pending, rows[c.Replica]}
			}
		}
	}
}

// endRow removes a row of which nothing is pending any more.
func (s *memoryStore) endRow(r replica.ID, row int) {
	for _, p := range s.pending[r] {
		if p.row == row {
			return
		}
	}
	s.begun = slices.DeleteFunc(s.begun, func(b memoryBegun) bool { return b.id == row })
}

func (s *memoryStore) Backlog(_ context.Context, l replica.Lane, limit int) ([]replica.Ticket, error) {
	s.read(fmt.Sprint("backlog ", l))
	s.mu.Lock()
	defer s.mu.Unlock()
	var tickets []replica.Ticket
	for _, t := range s.backlog[l] {
		if s.now == nil || !s.now().Before(s.later[laneKey{l, t.Key}]) {
			tickets = append(tickets, t)
		}
	}
	slices.SortFunc(tickets, func(a, b replica.Ticket) int { return cmp.Or(cmp.Compare(a.Seq, b.Seq), cmp.Compare(a.Key, b.Key)) })
	return tickets[:min(limit, len(tickets))], nil
}

func (s *memoryStore) BacklogIn(ctx context.Context, l replica.Lane, folder string, limit int) ([]replica.Ticket, error) {
	all, err := s.Backlog(ctx, l, 1<<30)
	all = slices.DeleteFunc(all, func(t replica.Ticket) bool { return parentKey(t.Key) != folder })
	return all[:min(limit, len(all))], err
}

func (s *memoryStore) Done(_ context.Context, l replica.Lane, tickets []replica.Ticket) error {
	return s.change(func() {
		for _, t := range tickets {
			s.take(l, t)
		}
	})
}

func (s *memoryStore) Split(_ context.Context, l replica.Lane, whole replica.Ticket, left []string) (tickets []replica.Ticket, err error) {
	err = s.change(func() {
		s.take(l, whole)
		s.queueRecords(l, left)
		for _, key := range left {
			tickets = append(tickets, s.backlog[l][key])
		}
	})
	return tickets, cmp.Or(err, s.step())
}

func (s *memoryStore) Postpone(_ context.Context, l replica.Lane, tickets []replica.Ticket, pause time.Duration) error {
	return s.putBehind(l, tickets, func(string) time.Duration { return pause })
}

func (s *memoryStore) Failed(_ context.Context, l replica.Lane, tickets []replica.Ticket) error {
	return s.putBehind(l, tickets, func(key string) time.Duration {
		s.failed = append(s.failed, key)
		s.failures[key]++
		return min(5*time.Second<<min(s.failures[key]-1, 10), 10*time.Minute)
	})
}

// putBehind puts tickets behind the others, and leaves each alone for a while.
func (s *memoryStore) putBehind(l replica.Lane, tickets []replica.Ticket, pause func(key string) time.Duration) error {
	return s.change(func() {
		s.seq++
		for _, t := range tickets {
			if s.backlog[l][t.Key].Seq != t.Seq { // it was put there again meanwhile, or never was
				continue
			}
			s.queue(l, t.Key, s.seq, 0)
			if s.now != nil {
				s.later[laneKey{l, t.Key}] = s.now().Add(pause(t.Key))
			} else {
				pause(t.Key)
			}
		}
	})
}
