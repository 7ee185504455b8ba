package replicas

import (
	"context"
	"fmt"
	"strings"
	"time"

	"bridgespan/core/finding"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// When something needs somebody.
const (
	silentFor   = time.Hour // a replica that was not looked at
	lateAfter   = 24 * time.Hour
	fullFor     = 10 * time.Minute // an intake in which something waits for room
	atticNearly = 0.9
	growsFor    = 3 // looks in a row, a third of an hour apart, at each of which a backlog is larger
)

// alerts are what needs somebody about a set, the worst first.
func (s *Service) alerts(ctx context.Context, set *model.ReplicaSet, at time.Time) error {
	set.Alerts = []finding.Finding{}
	if set.Paused {
		return nil
	}
	for i := range set.Replicas {
		replicaAlerts(set, &set.Replicas[i], at)
	}
	samples, err := s.DB.LaneSamples(ctx, set.ID, at.Add(-time.Hour-5*time.Minute))
	if err != nil {
		return err
	}
	for i := range set.Lanes {
		laneAlerts(set, &set.Lanes[i], samples, at)
	}
	troubles, err := s.DB.ReplicaTroubles(ctx, set.ID, 1000)
	if err != nil {
		return err
	}
	for _, t := range troubles {
		if t.Times < set.Retry.AlertAfter || len(set.Alerts) > 50 {
			continue
		}
		remedy := "mend what it says, or leave it out of the set"
		if t.InUse {
			remedy = "ask whoever holds it to close it"
			if t.Holder != "" {
				remedy = "ask to close it: " + t.Holder
			}
		}
		alert(set, finding.Warn, "tried-often", t.Replica, fmt.Sprintf("%s could not be carried %d times: %s", t.Path, t.Times, strings.TrimSuffix(t.Problem, ".")),
			"the replicas differ there", remedy, finding.To(finding.ShowTroubles, set.Name))
	}
	if v := set.Verified; v != nil && v.Differences > 0 {
		alert(set, finding.Fail, "differs", set.Name, fmt.Sprintf("the last verification found %s that nothing explains", sets.Count(v.Differences, "difference", "differences")),
			"people get other files or rights at one replica than at another", "see the differences", finding.To(finding.ShowVerification, set.Name, fmt.Sprint(v.Run)))
	}
	finding.Sort(set.Alerts)
	return nil
}

// alert adds what needs somebody about a set.
func alert(set *model.ReplicaSet, severity finding.Severity, code, about, found, meaning, remedy string, does *finding.Action) {
	set.Alerts = append(set.Alerts, finding.New(severity, code, about, found, meaning, remedy).With(does))
}

func replicaAlerts(set *model.ReplicaSet, r *model.Replica, at time.Time) {
	switch {
	case r.State == model.ReplicaFailing:
		alert(set, finding.Fail, "failing", r.Name, r.Trouble, "what people change there is not carried, and nothing is brought there", "check the server", finding.To(finding.CheckServer, r.Server))
	case r.Looked != nil && at.Sub(*r.Looked) > max(silentFor+r.Sweep(), 3*time.Duration(r.LookMs)*time.Millisecond):
		alert(set, finding.Warn, "silent", r.Name, fmt.Sprintf("%s was last scanned %s ago", r.Name, at.Sub(*r.Looked).Round(time.Minute)), "what people change there is not seen", "see whether the service runs, and what it logs", nil)
	}
	if since := r.IntakeFull; since != nil && at.Sub(*since) > fullFor {
		alert(set, finding.Warn, "intake-full", r.Name, fmt.Sprintf("files have waited for room in the intake of %s for %s: it holds %s of %s", r.Name, sets.Duration(at.Sub(*since)), sets.Size(r.IntakeUsed), sets.Size(r.IntakeQuota)),
			"they arrive later than the lanes to it would allow", "give it a larger quota", finding.To(finding.SetIntake, set.Name, r.Name))
	}
	if w := r.Removals; w != nil && r.Decision == replica.Undecided {
		alert(set, finding.Fail, "removals", r.Name, fmt.Sprintf("%s (%s) were removed at %s: more than %d%% of what it had", sets.Count(w.Files, "file", "files"), sets.Size(w.Bytes), r.Name, set.RemovalLimit),
			"the other replicas keep the files until somebody decides", "check whether the removals were intended, then apply them or restore the files", finding.To(finding.DecideRemovals, set.Name, r.Name))
	}
	if r.AccountsStale != nil {
		alert(set, finding.Warn, "accounts", r.Name, fmt.Sprintf("accounts were made, removed or mapped otherwise since those at %s were paired", r.Name),
			"who has no pair is not known there, and what they are let do counts for nobody", "look at the pairs, and pair them anew", finding.To(finding.ShowAccounts, set.Name))
	}
	if q := r.AtticQuota; q > 0 && float64(r.Attic.Bytes) > atticNearly*float64(q) {
		alert(set, finding.Warn, "attic-full", r.Name, fmt.Sprintf("the attic of %s keeps %s of %s", r.Name, sets.Size(r.Attic.Bytes), sets.Size(q)),
			fmt.Sprintf("the oldest is thrown away before %d days have passed", set.AtticDays), "give it a larger quota", finding.To(finding.SetAttic, set.Name, r.Name))
	}
}

func laneAlerts(set *model.ReplicaSet, l *model.Lane, samples []model.LaneSample, at time.Time) {
	about := l.From + " to " + l.To
	if o := l.Backlog.Oldest; o != nil && at.Sub(*o) > lateAfter && l.Backlog.Files > 0 {
		alert(set, finding.Warn, "late", about, fmt.Sprintf("the oldest of %s has waited for %s", sets.Count(l.Backlog.Files, "path", "paths"), sets.Duration(at.Sub(*o))),
			l.To+" is that far behind", "open the lane for a while", finding.To(finding.OpenLane, set.Name, l.From, l.To))
	}
	if l.State == model.LaneStalled {
		alert(set, finding.Fail, "stalled", about, fmt.Sprintf("no progress for %s: %s, and %s", stalledFor(l, at), sets.Count(l.Backlog.Files, "item waits", "items wait"), l.Trouble),
			"what waits does not reach "+l.To, "see what was tried", finding.To(finding.ShowTroubles, set.Name))
	}
	if l.State != model.LaneCarrying && l.State != model.LaneIdle {
		return
	}
	if first, ok := grows(l, samples, at); ok {
		alert(set, finding.Warn, "growing", about, fmt.Sprintf("the backlog grew from %s to %s within an hour, though the lane is open", sets.Size(first), sets.Size(l.Backlog.Bytes)),
			"more changes than it can carry", "let it carry faster or longer, or leave something out", nil)
	}
}

// grows reports whether a backlog was larger at every look of the last hour, and
// how large it was an hour ago.
func grows(l *model.Lane, samples []model.LaneSample, at time.Time) (first int64, ok bool) {
	var sizes []int64
	for i := range growsFor {
		from := at.Add(-time.Hour + time.Duration(i)*20*time.Minute)
		for _, s := range samples {
			if s.From == l.From && s.To == l.To && !s.At.Before(from) && s.At.Before(from.Add(5*time.Minute)) {
				sizes = append(sizes, s.BacklogBytes)
				break
			}
		}
	}
	if len(sizes) < growsFor {
		return 0, false
	}
	for i := 1; i < len(sizes); i++ {
		if sizes[i] <= sizes[i-1] {
			return 0, false
		}
	}
	return sizes[0], sizes[0] > 0 && l.Backlog.Bytes > sizes[len(sizes)-1]
}
