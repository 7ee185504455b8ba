package transfer

import (
	"context"
	"time"
)

// fartherBy is by how much longer a source takes to answer than a destination that is nearer
// to us.
const fartherBy = 5 * time.Millisecond

// tellingAnswers is how many answers tell how far away an endpoint is: one may be late for
// other reasons.
const tellingAnswers = 3

// worthReading reports whether the file may be read whole to find out what of it has to
// cross: not where that reading is what crosses.
func (t *task) worthReading(ctx context.Context) (bool, error) {
	if !t.from.Tree.Capabilities().Far {
		return true, nil
	}
	for {
		source, err := t.from.distance(ctx)
		if err != nil {
			return false, err
		}
		destination, err := t.to.distance(ctx)
		if near := source.least <= destination.least+fartherBy; near || err != nil || source.n >= tellingAnswers {
			return near, err
		}
	}
}

// answers are how often an endpoint was asked, and how long it took to answer at least.
type answers struct {
	n     int
	least time.Duration
}

// distance asks an endpoint for its top, to find out how far away it is.
func (e *Endpoint) distance(ctx context.Context) (answers, error) {
	began := time.Now()
	if _, err := e.Tree.Stat(ctx, "."); err != nil && !absent(err) {
		return answers{}, err
	}
	took := time.Since(began)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.answers.n == 0 || took < e.answers.least {
		e.answers.least = took
	}
	e.answers.n++
	return e.answers, nil
}
