package proof

import (
	"context"
	"fmt"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/model"
	"bridgespan/mover/gate"
	"bridgespan/service/replicas/sets"
)

// gateTo is the gate through which contents of a replica are read; nil unless that
// is asked for.
func (v *verifier) gateTo(seed, r model.Replica) *gate.Gate {
	if !v.asked.WithinCalendar {
		return nil
	}
	look := func(ctx context.Context) (calendar.Week, error) {
		set, err := v.DB.ReplicaSet(ctx, v.set.Name)
		return sets.WeekBetween(&set, seed.ID, r.ID), err
	}
	return gate.New(sets.WeekBetween(&v.set, seed.ID, r.ID), look, func(ctx context.Context, until time.Time, closed bool) error {
		if !closed {
			return v.job.Unpark(ctx)
		}
		v.job.Park(closedWords(seed, r, until))
		return nil
	})
}

func closedWords(seed, r model.Replica, until time.Time) string {
	if until.IsZero() {
		return fmt.Sprintf("the lane between %s and %s is closed, and its calendar never opens it", seed.Name, r.Name)
	}
	return fmt.Sprintf("the lane between %s and %s is closed until %s", seed.Name, r.Name, until.Local().Format("Mon 2 Jan 15:04"))
}
