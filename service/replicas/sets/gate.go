package sets

import (
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// WeekBetween is when the lane between two replicas is open, as it is opened and
// closed now; that of the way back where none leads there, and else of the set.
func WeekBetween(set *model.ReplicaSet, from, to int64) calendar.Week {
	ways := WaysOf(set, nil, time.Now())
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
