// Package gate lets work and its bytes pass by a calendar: not at all in hours that
// are off, and no faster than an hour allows.
package gate

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"bridgespan/core/calendar"
)

// Gate lets work and its bytes pass by a calendar. A nil gate is always open. Its methods
// may be called from several goroutines.
type Gate struct {
	look func(ctx context.Context) (calendar.Week, error)
	tell func(ctx context.Context, until time.Time, closed bool) error

	limiter *rate.Limiter
	mu      sync.Mutex
	week    calendar.Week
}

// Burst is how many bytes may pass at once.
const Burst = 256 << 10

// Every is how often a gate that is closed is looked at.
const Every = 2 * time.Second

// New makes a gate that goes by a week. look and tell are those of a gate: look finds out
// what the calendar is by now, and may be nil when it stays; tell is told that the gate
// is closed, and until when, the zero time when it never opens by itself; and with false
// that it has opened. An error of it is that of Await.
func New(week calendar.Week, look func(context.Context) (calendar.Week, error), tell func(context.Context, time.Time, bool) error) *Gate {
	return &Gate{look: look, tell: tell, limiter: rate.NewLimiter(rate.Inf, Burst), week: week}
}

// now is what may pass now, and when that changes.
func (g *Gate) now() (calendar.Rate, time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	at := time.Now()
	return g.week.At(at), g.week.Next(at)
}

// Await waits until the gate is open.
func (g *Gate) Await(ctx context.Context) error {
	if g == nil {
		return nil
	}
	waited := false
	for {
		r, until := g.now()
		if r != calendar.Off {
			if waited {
				return g.tell(ctx, time.Time{}, false)
			}
			return nil
		}
		waited = true
		if err := g.tell(ctx, until, true); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(Every):
		}
		if g.look == nil {
			continue
		}
		if week, err := g.look(ctx); err == nil {
			g.mu.Lock()
			g.week = week
			g.mu.Unlock()
		}
	}
}

// Pass lets bytes pass as fast as the hour allows. What is under way when the gate
// closes comes to its end, no faster than before.
func (g *Gate) Pass(ctx context.Context, bytes int) error {
	if g == nil {
		return nil
	}
	if r, _ := g.now(); r != calendar.Off {
		SetLimit(g.limiter, r)
	}
	return Through(ctx, g.limiter, bytes)
}

// SetLimit makes a limiter let through what an hour allows.
func SetLimit(l *rate.Limiter, r calendar.Rate) {
	limit := rate.Inf
	if r > 0 {
		limit = rate.Limit(float64(r) * 1e6 / 8)
	}
	if l.Limit() != limit {
		l.SetLimit(limit)
	}
}

// Through waits until so many bytes may pass a limiter.
func Through(ctx context.Context, l *rate.Limiter, bytes int) error {
	for bytes > 0 {
		part := min(bytes, Burst)
		if err := l.WaitN(ctx, part); err != nil {
			return err
		}
		bytes -= part
	}
	return nil
}
