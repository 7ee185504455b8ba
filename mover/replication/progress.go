package replication

import (
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"bridgespan/core/replica"
)

// A ticket that is tried again and again without any change is a problem, whatever the
// reason: it is reported, looked at again at both ends, and tried less and less often. A
// lane at work of which no ticket ends makes no progress, however much it carries.

const (
	// StalledAfter is how long a lane may work, or a ticket be tried, without progress.
	StalledAfter = 60 * time.Second
	// mostTries is how often a ticket is tried without any change before that is reported.
	mostTries = 10
	// From the third try on a ticket pauses, twice as long each time.
	freeTries  = 3
	retryFirst = 250 * time.Millisecond
	retryMost  = 5 * time.Second
	// goneAfter: a failed ticket that was not retried for this long has left the backlog.
	goneAfter = 4 * retryMost
	// mostAttempts bounds how many tickets of a lane are remembered.
	mostAttempts = 100_000
)

// ErrStuck is wrapped by the report of a path that was tried many times, although
// no error says that it will fail again.
var ErrStuck = errors.New("no progress")

// stuckError says how often a path was tried, and why it did not end the last time.
type stuckError struct {
	tries int
	since time.Duration
	last  error
}

func (s *stuckError) Error() string {
	return fmt.Sprintf("no progress after %d attempts in %v; the last one ended because %v", s.tries, s.since.Round(time.Second), s.last)
}

func (s *stuckError) Unwrap() []error { return []error{ErrStuck, s.last} }

// attempt is what is remembered of a ticket that was tried and did not end.
type attempt struct {
	tries   int // since then
	since   time.Time
	last    error
	lastTry time.Time
	same    int    // of which the last ones, with one state
	state   string // of the path at both ends, as far as it was read
	// ended is when the ticket ended after all; zero while it waits. What is tried in
	// vain again soon has made no progress by that.
	ended time.Time
}

// outcome is how a task ended that did not end its ticket.
type outcome struct {
	state string
	why   error
}

// progress is what a lane has done.
type progress struct {
	mu       sync.Mutex
	attempts map[string]*attempt
	// working is since when the lane has been at work; zero while it is not.
	working time.Time
	tickets int // in the backlog when the lane last began
	// ended is when a ticket ended last, or new bytes came of one.
	ended time.Time
	// crossed is how many bytes have crossed since then, and awaited how many the tickets
	// under way have: more than that cross only when some cross again.
	crossed, awaited int64
	under            map[string]underWay
}

// underWay is a path that a lane is at work on.
type underWay struct {
	since time.Time
	bytes int64
}

// hashed is how many bytes a second are hashed at least. While a large file is hashed
// where it is, nothing crosses.
const hashed = 16 << 20

// progressOf is the progress of a lane.
func (e *Engine) progressOf(l replica.Lane) *progress {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.lanes == nil {
		e.lanes = map[replica.Lane]*progress{}
	}
	p := e.lanes[l]
	if p == nil {
		p = &progress{attempts: map[string]*attempt{}, under: map[string]underWay{}}
		e.lanes[l] = p
	}
	return p
}

// Stall is a lane at work that makes no progress.
type Stall struct {
	// Since is when it last made some; zero while it does, or has nothing to do.
	Since time.Time
	// Path is what has been under way longest; "" when nothing is.
	Path string
	// Waiting is how many tickets were tried in vain.
	Waiting int
}

// Stalled tells whether a lane has been at work for StalledAfter without progress.
func (e *Engine) Stalled(l replica.Lane) Stall {
	p, now := e.progressOf(l), e.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	last := p.ended
	if last.Before(p.working) {
		last = p.working
	}
	if p.working.IsZero() || now.Sub(last) < StalledAfter {
		return Stall{}
	}
	s := Stall{Since: last, Waiting: p.waiting(now)}
	if s.Waiting == 0 && p.tickets == 0 && len(p.under) == 0 {
		return Stall{}
	}
	oldest := now
	for key, u := range p.under {
		if p.attempts[key] == nil && now.Sub(u.since) < StalledAfter+time.Duration(u.bytes/hashed)*time.Second {
			if u.bytes > 0 {
				return Stall{}
			}
		}
		if u.since.Before(oldest) || u.since.Equal(oldest) && key < s.Path {
			oldest, s.Path = u.since, key
		}
	}
	return s
}

// begin notes that a lane has so much to do; without tickets it is idle.
func (p *progress) begin(now time.Time, tickets int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tickets = tickets
	switch {
	case tickets == 0 && p.waiting(now) == 0:
		p.working = time.Time{}
	case p.working.IsZero() && tickets > 0:
		p.working = now
	}
	p.awaited, p.crossed = 0, 0
}

// start notes that a path is under way, of so many bytes.
func (p *progress) start(now time.Time, key string, bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.under[key] = underWay{now, bytes}
	p.awaited += bytes
}

func (p *progress) stop(key string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.under, key)
}

// cross notes that bytes have crossed: progress, unless they cross again.
func (p *progress) cross(now time.Time, bytes int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.crossed += int64(bytes); p.crossed <= p.awaited {
		p.ended = now
	}
}

// end notes that tickets have ended.
func (p *progress) end(now time.Time, tickets []replica.Ticket) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = now
	for _, t := range tickets {
		if a := p.attempts[t.Key]; a != nil && a.tries > 1 {
			a.ended = now
		} else {
			delete(p.attempts, t.Key)
		}
	}
	if len(p.attempts) > mostAttempts/2 {
		maps.DeleteFunc(p.attempts, func(_ string, a *attempt) bool { return !a.ended.IsZero() })
	}
}

// waiting is how many failed tickets are retried; p.mu must be held.
func (p *progress) waiting(now time.Time) (n int) {
	for _, a := range p.attempts {
		if a.ended.IsZero() && now.Sub(a.lastTry) < goneAfter {
			n++
		}
	}
	return n
}

// drop forgets what was tried of tickets that are no more.
func (p *progress) drop(key string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.attempts, key)
}

// tried notes that a ticket did not end. It returns for how long the ticket is to be left
// alone, and what is to be reported of it, if anything.
func (p *progress) tried(now time.Time, key string, o outcome) (pause time.Duration, report error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.attempts[key]
	if a == nil && len(p.attempts) >= mostAttempts {
		return retryMost, nil
	}
	if a == nil || !a.ended.IsZero() && now.Sub(a.ended) > StalledAfter {
		a = &attempt{since: now}
		p.attempts[key] = a
	}
	a.ended, a.lastTry = time.Time{}, now
	if o.state != "" && o.state != a.state {
		a.state, a.same = o.state, 0
	}
	a.tries++
	a.same++
	busy := errors.Is(o.why, errBusy) // who is at work on it has a watch of its own
	if !busy {
		a.last = o.why
	}
	switch {
	case !busy && (a.same >= mostTries || a.tries > 1 && now.Sub(a.since) >= StalledAfter):
		return 0, &stuckError{a.tries, now.Sub(a.since), a.last}
	case a.same < freeTries:
		return 0, nil
	}
	return min(retryFirst<<min(a.same-freeTries, 10), retryMost), nil
}
