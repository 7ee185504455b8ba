package records

import (
	"context"
	"crypto/sha256"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/replica"
	"bridgespan/guard"
)

// Replication keeps the records of replicas: it is the store of the engine.
type Replication struct {
	db *DB

	mu      sync.Mutex
	ids     DescriptorIDs // of permissions that are stored for good
	waiting []*waitingChange
	saving  int // how many keep what waits

	// RetryFirst and RetryMost are how long what failed is left alone: at first,
	// twice as long each time, and at most. Zero means 5 seconds and 10 minutes.
	RetryFirst, RetryMost time.Duration
	// MostLists is how many bytes the lists of chunks may take. Zero means 256 MiB.
	MostLists int64

	listsKept atomic.Int64

	begun   begun
	opening sync.Mutex

	descriptors descriptors
	packs       packFinder
}

// Replication returns the store of the replication engine.
func (db *DB) Replication() *Replication { return &Replication{db: db, ids: DescriptorIDs{}} }

// folderOf is the form in which the folder of a path is a key. Two folders with
// one form would be taken for one; with 128 bits of SHA-256 that does not happen.
func folderOf(folder string) []byte {
	sum := sha256.Sum256([]byte(folder))
	return sum[:16]
}

// Save keeps a change, all of it or nothing. Changes that are saved at the same
// time are kept together: each would wait for the disk alone. When ctx ends before
// the change is taken up, it is withdrawn; after that Save waits for the outcome.
// A change that was kept after its Save had returned would overwrite later ones.
func (s *Replication) Save(ctx context.Context, c replica.Change) error {
	mine := &waitingChange{change: c, kept: make(chan error, 1)}
	s.mu.Lock()
	s.waiting = append(s.waiting, mine)
	more := s.saving < savers
	if more {
		s.saving++
	}
	s.mu.Unlock()
	if more {
		guard.Go(func() { s.keepWaiting(context.WithoutCancel(ctx)) })
	}
	select {
	case err := <-mine.kept:
		return err
	case <-ctx.Done():
		if s.withdraw(mine) {
			return ctx.Err()
		}
		return <-mine.kept
	}
}

// withdraw takes a change back; false when it was taken up already.
func (s *Replication) withdraw(w *waitingChange) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.Index(s.waiting, w)
	if i >= 0 {
		s.waiting = slices.Delete(slices.Clone(s.waiting), i, i+1) // others may hold parts of it
	}
	return i >= 0
}

// mostTogether is how many changes are kept in one transaction.
const mostTogether = 500

// savers is how many keep what waits: while one makes statements of it, the
// database works for another one.
const savers = 3

type waitingChange struct {
	change replica.Change
	kept   chan error
}

// keepWaiting keeps what waits until nothing does.
func (s *Replication) keepWaiting(ctx context.Context) {
	keep := func(changes ...*waitingChange) error {
		return guard.Call(func() error { return s.keep(ctx, changes...) })
	}
	for {
		s.mu.Lock()
		n := min(len(s.waiting), mostTogether)
		together := s.waiting[:n:n]
		s.waiting = s.waiting[n:]
		if len(together) == 0 {
			s.saving--
		}
		s.mu.Unlock()
		if len(together) == 0 {
			return
		}
		if err := keep(together...); err == nil || len(together) == 1 {
			for _, w := range together {
				w.kept <- err
			}
			continue
		}
		for _, w := range together { // one of them may be what does not go
			w.kept <- keep(w)
		}
	}
}
