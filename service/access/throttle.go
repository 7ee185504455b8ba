package access

import (
	"math"
	"sync"
	"time"

	"bridgespan/core/fault"
)

// Throttle slows down the guessing of passwords: after a few failures in a row
// for one name from one place, the next try must wait, longer each time. The
// zero value is ready to use.
type Throttle struct {
	mu    sync.Mutex
	tries map[string]failures
}

type failures struct {
	count int
	until time.Time
	last  time.Time
}

const (
	freeTries   = 5
	longestWait = 5 * time.Minute
	forgetAfter = 15 * time.Minute
	mostTracked = 10_000
)

// Allow returns a fault when the next try for key must wait.
func (t *Throttle) Allow(key string, now time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if wait := t.tries[key].until.Sub(now); wait > 0 {
		return fault.New(fault.Throttled, "wait, or ask an administrator for a new password",
			"too many failed sign-ins; the next is possible in %d s", int(math.Ceil(wait.Seconds())))
	}
	return nil
}

// Failed notes a failure for key.
func (t *Throttle) Failed(key string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.tries == nil || len(t.tries) > mostTracked {
		t.tries = map[string]failures{}
	}
	f := t.tries[key]
	if now.Sub(f.last) > forgetAfter {
		f = failures{}
	}
	f.count, f.last = f.count+1, now
	if over := f.count - freeTries; over >= 0 {
		f.until = now.Add(min(longestWait, time.Second<<min(over, 16)))
	}
	t.tries[key] = f
}

// Succeeded forgets the failures for key.
func (t *Throttle) Succeeded(key string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.tries, key)
}
