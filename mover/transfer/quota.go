package transfer

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

// quota bounds what is on its way into an endpoint that has one. The zero value is ready.
type quota struct {
	mu      sync.Mutex // of what follows
	room    *semaphore.Weighted
	used    int64
	waiting int
	since   time.Time // when the first of those who wait began to
}

// Intake returns how many bytes are on their way in to an endpoint with a quota, and since
// when a file has waited for room there; the zero time when none does.
func (e *Endpoint) Intake() (used int64, full time.Time) {
	q := &e.quota
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.used, q.since
}

// enter waits until there is room for so many bytes in the intake. What is larger than all of
// it has it alone. The caller must call leave.
func (e *Endpoint) enter(ctx context.Context, bytes int64) (leave func(), err error) {
	if e.Quota <= 0 {
		return func() {}, nil
	}
	bytes = min(bytes, e.Quota)
	q := &e.quota
	room := q.of(e.Quota)
	if !room.TryAcquire(bytes) {
		q.wait(1, e.now())
		err := room.Acquire(ctx, bytes)
		q.wait(-1, time.Time{})
		if err != nil {
			return nil, err
		}
	}
	q.use(bytes)
	var once sync.Once
	return func() {
		once.Do(func() {
			q.use(-bytes)
			room.Release(bytes)
		})
	}, nil
}

func (q *quota) of(size int64) *semaphore.Weighted {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.room == nil {
		q.room = semaphore.NewWeighted(size)
	}
	return q.room
}

func (q *quota) use(bytes int64) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.used += bytes
}

func (q *quota) wait(n int, at time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.waiting += n; q.waiting == 0 || n > 0 && q.waiting == 1 {
		q.since = at
	}
}
