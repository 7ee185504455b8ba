package replicas

import (
	"context"
	"io"
	"time"

	"golang.org/x/time/rate"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// gate lets bytes pass by a calendar. A nil gate is always open.
type gate struct {
	week    calendar.Week
	limiter *rate.Limiter
}

// gateBetween is the gate of the lane between two replicas, as it is opened and
// closed now; that of the way back where none leads there, and else of the set.
func gateBetween(set *model.ReplicaSet, from, to int64) *gate {
	ways := waysOf(set, nil, time.Now())
	for _, lane := range []replica.Lane{{From: replica.ID(from), To: replica.ID(to)}, {From: replica.ID(to), To: replica.ID(from)}} {
		for _, w := range ways {
			if w.Lane == lane {
				return newGate(w.Calendar)
			}
		}
	}
	week, err := calendar.Parse("calendar", set.Calendar)
	if err != nil {
		week = calendar.Always()
	}
	return newGate(week)
}

func newGate(week calendar.Week) *gate {
	return &gate{week, rate.NewLimiter(rate.Inf, burst)}
}

// closed reports whether nothing may pass now, and until when; the zero time when
// it never opens again.
func (g *gate) closed(at time.Time) (until time.Time, closed bool) {
	if g == nil || g.week.At(at) != calendar.Off {
		return time.Time{}, false
	}
	return g.week.Next(at), true
}

// reader reads as fast as the gate allows now.
func (g *gate) reader(ctx context.Context, content io.Reader) io.Reader {
	if g == nil {
		return content
	}
	return &gatedReader{ctx, g, content}
}

type gatedReader struct {
	ctx     context.Context
	gate    *gate
	content io.Reader
}

func (r *gatedReader) Read(buffer []byte) (int, error) {
	n, err := r.content.Read(buffer[:min(len(buffer), burst)])
	if n > 0 {
		g := r.gate
		if limit := limitOf(g.week.At(time.Now())); limit != g.limiter.Limit() && limit > 0 {
			g.limiter.SetLimit(limit)
		}
		if bad := g.limiter.WaitN(r.ctx, n); bad != nil {
			return n, bad
		}
	}
	return n, err
}

// limitOf is what an hour lets through, in bytes a second; 0 for nothing.
func limitOf(r calendar.Rate) rate.Limit {
	switch {
	case r == calendar.Off:
		return 0
	case r > 0:
		return rate.Limit(float64(r) * 1e6 / 8)
	}
	return rate.Inf
}
