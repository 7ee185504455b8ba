package sets

import (
	"cmp"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/forecast"
	"bridgespan/core/namespace"
	"bridgespan/core/plan"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// AtEnds is what a small file takes at both ends of a lane, beside its round trips.
const AtEnds = 200 * time.Millisecond

// UnseenFor is how long it takes until a scan sees a change at a replica, in the mean and at most: changes happen at any moment
// between two scans. In the mean an event notification tells of it, where they come.
func UnseenFor(set *model.ReplicaSet, r *model.Replica) (mean, most time.Duration) {
	look := time.Duration(r.LookMs) * time.Millisecond
	pause := min(max(PauseShare*look, LeastPause), MostPause)
	if r.Swept {
		pause = r.Sweep()
	}
	mean, most = (pause+look)/2, pause+look
	if set.Notifies(r) {
		mean = min(mean, model.NotifiedWithin)
	}
	return mean, most
}

// WaysOf are the lanes of a set with speed, round trip, backlog and calendar, as they are opened and closed now.
func WaysOf(set *model.ReplicaSet, legs []namespace.Leg, at time.Time) (ways []forecast.Way) {
	site := map[int64]string{}
	for _, r := range set.Replicas {
		site[r.ID] = r.Site
	}
	for _, l := range set.Lanes {
		week, err := calendar.Parse("calendar", OrText(l.Calendar, set.Calendar))
		switch {
		case err != nil || l.Closed:
			week = calendar.Week{}
		case l.OpenUntil != nil && at.Before(*l.OpenUntil):
			week = calendar.Always()
		}
		route := plan.Between(legs, site[l.FromID], site[l.ToID])
		ways = append(ways, forecast.Way{Lane: replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}, Mbit: cmp.Or(route.Mbit, UnknownMbit), RTT: route.RTT, Calendar: week, Waits: l.Backlog.Bytes})
	}
	return ways
}
