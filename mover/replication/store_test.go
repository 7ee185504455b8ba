package replication

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// memoryStore keeps records as a database does: what was saved stays, and a
// change is saved whole or not at all.
type memoryStore struct {
	// fault is asked before and after everything that is kept, and turn before
	// everything that is read.
	fault func() error
	turn  func(what string)

	mu       sync.Mutex
	records  map[replica.ID]map[string]replica.Record
	backlog  map[replica.Lane]map[string]replica.Ticket
	seq      uint64
	kept     map[replica.ID][]replica.Kept
	lists    map[replica.Digest]chunk.List
	partials map[replica.ID]map[string]replica.Partial
	failed   []string // what was to be left alone for a while
}

func newMemoryStore() *memoryStore {
	return &memoryStore{records: map[replica.ID]map[string]replica.Record{}, backlog: map[replica.Lane]map[string]replica.Ticket{}, kept: map[replica.ID][]replica.Kept{}, lists: map[replica.Digest]chunk.List{}, partials: map[replica.ID]map[string]replica.Partial{}}
}

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

func (s *memoryStore) Get(_ context.Context, r replica.ID, keys ...string) ([]replica.Record, error) {
	s.read(fmt.Sprint("get ", r, keys))
	s.mu.Lock()
	defer s.mu.Unlock()
	found := make([]replica.Record, len(keys))
	for i, key := range keys {
		rec, ok := s.records[r][key]
		if !ok {
			rec.Key = key
		}
		found[i] = rec
	}
	return found, nil
}

func (s *memoryStore) matching(r replica.ID, ok func(*replica.Record) bool) (found []replica.Record, err error) {
	s.read(fmt.Sprint("list ", r))
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(s.records[r])) {
		if rec := s.records[r][key]; ok(&rec) {
			found = append(found, rec)
		}
	}
	return found, nil
}

func (s *memoryStore) Children(_ context.Context, r replica.ID, folder string) ([]replica.Record, error) {
	return s.matching(r, func(rec *replica.Record) bool { return parentKey(rec.Key) == folder })
}

func (s *memoryStore) ByFile(_ context.Context, r replica.ID, ids ...uint64) ([]replica.Record, error) {
	return s.matching(r, func(rec *replica.Record) bool { return rec.Kind == replica.File && slices.Contains(ids, rec.Seen.ID) })
}

func (s *memoryStore) Alike(_ context.Context, r replica.ID, size int64, modified time.Time) ([]replica.Record, error) {
	return s.matching(r, func(rec *replica.Record) bool {
		return rec.Kind == replica.File && rec.Size == size && rec.Modified.Equal(modified) && rec.Digest.Known()
	})
}

func (s *memoryStore) Chunks(_ context.Context, d replica.Digest) (chunk.List, error) {
	s.read("chunks")
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lists[d], nil
}

func (s *memoryStore) KeepChunks(_ context.Context, l chunk.List) error {
	if err := s.step(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lists[l.Digest] = l
	return nil
}

func (s *memoryStore) Partials(_ context.Context, r replica.ID) ([]replica.Partial, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.partials[r])), nil
}

func (s *memoryStore) KeepPartial(_ context.Context, r replica.ID, p replica.Partial) error {
	if err := s.step(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.partials[r] == nil {
		s.partials[r] = map[string]replica.Partial{}
	}
	s.partials[r][p.Key] = p
	return nil
}

func (s *memoryStore) ForgetPartial(_ context.Context, r replica.ID, key string) error {
	if err := s.step(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.partials[r], key)
	return nil
}

func (s *memoryStore) Unfinished(_ context.Context, r replica.ID) ([]replica.Record, error) {
	return s.matching(r, func(rec *replica.Record) bool { return rec.Pending != nil })
}

func (s *memoryStore) Save(_ context.Context, c replica.Change) error {
	if err := s.step(); err != nil {
		return err
	}
	s.keep(c)
	return s.step()
}

func (s *memoryStore) keep(c replica.Change) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.records[c.Replica] == nil {
		s.records[c.Replica] = map[string]replica.Record{}
	}
	for _, rec := range c.Records {
		s.records[c.Replica][rec.Key] = rec
		for _, l := range c.Queue {
			if c.Whole == "" {
				s.queue(l, rec.Key, 0)
			}
		}
	}
	for _, l := range c.Queue {
		if c.Whole != "" {
			s.queue(l, c.Whole, len(c.Records))
		}
	}
	s.kept[c.Replica] = append(s.kept[c.Replica], c.Kept...)
}

func (s *memoryStore) queue(l replica.Lane, key string, whole int) {
	if s.backlog[l] == nil {
		s.backlog[l] = map[string]replica.Ticket{}
	}
	s.seq++
	s.backlog[l][key] = replica.Ticket{Key: key, Seq: s.seq, Whole: max(whole, s.backlog[l][key].Whole)}
}

func (s *memoryStore) Backlog(_ context.Context, l replica.Lane, limit int) ([]replica.Ticket, error) {
	s.read(fmt.Sprint("backlog ", l))
	s.mu.Lock()
	defer s.mu.Unlock()
	var tickets []replica.Ticket
	for _, t := range s.backlog[l] {
		tickets = append(tickets, t)
	}
	slices.SortFunc(tickets, func(a, b replica.Ticket) int { return cmp.Compare(a.Seq, b.Seq) })
	return tickets[:min(limit, len(tickets))], nil
}

func (s *memoryStore) BacklogIn(ctx context.Context, l replica.Lane, folder string, limit int) ([]replica.Ticket, error) {
	all, err := s.Backlog(ctx, l, 1<<30)
	all = slices.DeleteFunc(all, func(t replica.Ticket) bool { return parentKey(t.Key) != folder })
	return all[:min(limit, len(all))], err
}

func (s *memoryStore) Done(_ context.Context, l replica.Lane, tickets []replica.Ticket) error {
	if err := s.step(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range tickets {
		s.take(l, t)
	}
	return nil
}

func (s *memoryStore) take(l replica.Lane, t replica.Ticket) {
	if s.backlog[l][t.Key].Seq == t.Seq {
		delete(s.backlog[l], t.Key)
	}
}

func (s *memoryStore) Split(_ context.Context, l replica.Lane, whole replica.Ticket, left []string) (tickets []replica.Ticket, err error) {
	if err := s.step(); err != nil {
		return nil, err
	}
	s.mu.Lock()
	s.take(l, whole)
	for _, key := range left {
		s.queue(l, key, 0)
		tickets = append(tickets, s.backlog[l][key])
	}
	s.mu.Unlock()
	return tickets, s.step()
}

func (s *memoryStore) Postpone(_ context.Context, l replica.Lane, tickets []replica.Ticket, failed bool) error {
	if err := s.step(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range tickets {
		if s.backlog[l][t.Key].Seq != t.Seq { // it was put there again meanwhile, or never was
			continue
		}
		s.queue(l, t.Key, 0)
		if failed {
			s.failed = append(s.failed, t.Key)
		}
	}
	return nil
}
