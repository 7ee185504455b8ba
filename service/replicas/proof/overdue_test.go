package proof

import (
	"strings"
	"testing"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
)

// What waits is overdue when it has waited three times as long as the lane was to take,
// by its backlog, its leg and its calendar.
func TestOverdue(t *testing.T) {
	at := time.Date(2026, 11, 25, 12, 0, 0, 0, time.Local) // a Wednesday
	const gib = 1 << 30
	for name, c := range map[string]struct {
		waited   time.Duration
		backlog  int64
		calendar string
		change   func(*model.ReplicaSet)
		overdue  bool
	}{
		"a moment":                        {time.Minute, 10, "full", nil, false},
		"three minutes":                   {3 * time.Minute, 10, "full", nil, false},
		"longer than that":                {4 * time.Minute, 10, "full", nil, true},
		"much to carry":                   {4 * time.Minute, gib, "full", nil, false}, // 86 s at 100 Mbit/s
		"much to carry, for long":         {30 * time.Minute, gib, "full", nil, true}, // three times 86 s
		"much to carry, slowly":           {30 * time.Minute, gib, "10", nil, false},  // 860 s at 10 Mbit/s
		"a lane that is closed by day":    {4 * time.Hour, 10, "off; mon-sun 20-24 full", nil, false},
		"closed by day, for days":         {70 * time.Hour, 10, "off; mon-sun 20-24 full", nil, true},
		"a lane that never opens":         {60 * time.Hour, 10, "off", nil, false},
		"closed by hand":                  {time.Hour, 10, "full", func(s *model.ReplicaSet) { s.Lanes[0].Closed = true }, false},
		"a set that is paused":            {time.Hour, 10, "full", func(s *model.ReplicaSet) { s.Paused = true }, false},
		"replicas that take long to scan": {4 * time.Minute, 10, "full", func(s *model.ReplicaSet) { s.Replicas[0].LookMs = 60_000 }, false},
		"another lane":                    {time.Hour, 10, "full", func(s *model.ReplicaSet) { s.Lanes[0].FromID = 7 }, false},
	} {
		t.Run(name, func(t *testing.T) {
			set := model.ReplicaSet{Calendar: c.calendar, Replicas: []model.Replica{{ID: 1, Name: "oak", Site: "Lowland"}, {ID: 2, Name: "elm", Site: "Upland"}},
				Lanes: []model.Lane{{From: "oak", To: "elm", FromID: 1, ToID: 2, Backlog: model.Backlog{Files: 1, Bytes: c.backlog}}}}
			if c.change != nil {
				c.change(&set)
			}
			l := &lateness{set: set, legs: []namespace.Leg{{From: "Lowland", To: "Upland", Mbit: 100, RTT: 10, Cost: 1}}}
			got := l.overdue(records.Waiting{Lane: replica.Lane{From: 1, To: 2}, Since: at.Add(-c.waited)}, at)
			if (got != "") != c.overdue || c.overdue && !strings.Contains(got, "oak to elm") {
				t.Errorf("overdue: %q", got)
			}
		})
	}
}
