package replicas

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// gate lets work and its bytes pass by a calendar. A nil gate is always open.
type gate struct {
	// look finds out what the calendar is by now: somebody may open the gate.
	look func(ctx context.Context) (calendar.Week, error)
	// tell is told that the gate is closed, and until when; the zero time when it
	// never opens by itself. It is told again, with false, when it opens.
	tell func(until time.Time, closed bool)

	limiter *rate.Limiter
	mu      sync.Mutex
	week    calendar.Week
}

// gateEvery is how often a gate that is closed is looked at.
const gateEvery = 2 * time.Second

func newGate(week calendar.Week, look func(context.Context) (calendar.Week, error), tell func(time.Time, bool)) *gate {
	return &gate{look: look, tell: tell, limiter: rate.NewLimiter(rate.Inf, burst), week: week}
}

// now is what may pass now, and when that changes.
func (g *gate) now() (calendar.Rate, time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	at := time.Now()
	return g.week.At(at), g.week.Next(at)
}

// await waits until the gate is open.
func (g *gate) await(ctx context.Context) error {
	if g == nil {
		return nil
	}
	waited := false
	for {
		r, until := g.now()
		if r != calendar.Off {
			if waited {
				g.tell(time.Time{}, false)
			}
			return nil
		}
		waited = true
		g.tell(until, true)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(gateEvery):
		}
		if week, err := g.look(ctx); err == nil {
			g.mu.Lock()
			g.week = week
			g.mu.Unlock()
		}
	}
}

// pass lets bytes pass as fast as the hour allows. What is under way when the gate
// closes comes to its end, no faster than before.
func (g *gate) pass(ctx context.Context, bytes int) error {
	if g == nil {
		return nil
	}
	if r, _ := g.now(); r != calendar.Off {
		setLimit(g.limiter, r)
	}
	return passThrough(ctx, g.limiter, bytes)
}

// setLimit makes a limiter let through what an hour allows.
func setLimit(l *rate.Limiter, r calendar.Rate) {
	limit := rate.Inf
	if r > 0 {
		limit = rate.Limit(float64(r) * 1e6 / 8)
	}
	if l.Limit() != limit {
		l.SetLimit(limit)
	}
}

// passThrough waits until so many bytes may pass a limiter.
func passThrough(ctx context.Context, l *rate.Limiter, bytes int) error {
	for bytes > 0 {
		part := min(bytes, burst)
		if err := l.WaitN(ctx, part); err != nil {
			return err
		}
		bytes -= part
	}
	return nil
}

// weekBetween is when the lane between two replicas is open, as it is opened and
// closed now; that of the way back where none leads there, and else of the set.
func weekBetween(set *model.ReplicaSet, from, to int64) calendar.Week {
	ways := waysOf(set, nil, time.Now())
	for _, lane := range []replica.Lane{{From: replica.ID(from), To: replica.ID(to)}, {From: replica.ID(to), To: replica.ID(from)}} {
		for _, w := range ways {
			if w.Lane == lane {
				return w.Calendar
			}
		}
	}
	week, err := calendar.Parse("calendar", set.Calendar)
	if err != nil { // it was checked when it was set
		return calendar.Always()
	}
	return week
}
