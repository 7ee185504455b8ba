package sets

import (
	"errors"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// CheckSettings checks the settings of a set that can be changed.
func CheckSettings(set *model.ReplicaSet) error {
	if len(set.Note) > 1000 {
		return fault.Field("note", "shorten it", "the note has %d bytes, at most 1000 are allowed", len(set.Note))
	}
	if _, err := calendar.Parse("calendar", set.Calendar); err != nil {
		return err
	}
	if set.AtticDays < 1 || set.AtticDays > 3650 {
		return fault.Field("atticDays", "use 1 to 3650", "attics cannot keep things for %d days", set.AtticDays)
	}
	if set.RemovalLimit < 0 || set.RemovalLimit > 100 {
		return fault.Field("removalLimit", "use 0 to 100", "%d is no percentage", set.RemovalLimit)
	}
	if r := set.Retry; r.FirstS < 1 || r.MostS < r.FirstS || r.AlertAfter < 1 {
		return fault.Field("retry.mostS", "use at least as long as at first", "what failed cannot be tried after %d to %d seconds", r.FirstS, r.MostS)
	}
	if _, err := filter.New(set.Filter); err != nil {
		var f *fault.Error
		if errors.As(err, &f) {
			return f.At("filter." + f.Field)
		}
		return err
	}
	return nil
}

// Edit changes the settings of a set.
func Edit(set *model.ReplicaSet, e model.EditReplicaSet) error {
	model.Take(&set.Note, e.Note)
	model.Take(&set.Calendar, e.Calendar)
	model.Take(&set.Filter, e.Filter)
	model.Take(&set.AtticDays, e.AtticDays)
	model.Take(&set.RemovalLimit, e.RemovalLimit)
	model.Take(&set.Retry, e.Retry)
	model.Take(&set.Paused, e.Paused)
	if e.Layout != nil && *e.Layout != set.Layout {
		if err := NoStubs(set, "layout"); err != nil {
			return err
		}
		set.Layout = *e.Layout
		Relay(set)
	}
	return CheckSettings(set)
}

// Decide sets what the next scan does with the pending removals of a replica.
func Decide(r *model.Replica, d *replica.Decision) error {
	switch {
	case d == nil:
		return nil
	case *d != replica.Apply && *d != replica.Restore:
		return fault.Field("removals", "use apply or restore", "%q is no decision", *d)
	case r.Removals == nil:
		return fault.Field("removals", "leave it out; the set shows the replicas with pending removals", "%s has no pending removals", r.Name)
	}
	r.Decision = *d
	return nil
}

// Relay lays lanes anew; those that are there already stay as they are.
func Relay(set *model.ReplicaSet) {
	former := map[replica.Lane]model.Lane{}
	for _, l := range set.Lanes {
		former[replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}] = l
	}
	var ids []replica.ID
	byID := map[replica.ID]string{}
	for _, r := range set.Replicas {
		ids = append(ids, replica.ID(r.ID))
		byID[replica.ID(r.ID)] = r.Name
	}
	set.Lanes = nil
	for _, l := range Lay(set.Layout, ids) {
		lane, there := former[l]
		if !there {
			lane = model.Lane{From: byID[l.From], To: byID[l.To], FromID: int64(l.From), ToID: int64(l.To)}
		}
		set.Lanes = append(set.Lanes, lane)
	}
}

func EditLane(l *model.Lane, e model.EditLane) error {
	model.Take(&l.Calendar, e.Calendar)
	model.Take(&l.Closed, e.Closed)
	if l.Calendar != "" {
		if _, err := calendar.Parse("calendar", l.Calendar); err != nil {
			return err
		}
	}
	if e.OpenMinutes == nil {
		return nil
	}
	l.OpenUntil = nil
	if *e.OpenMinutes > 0 {
		until := Now().Add(time.Duration(*e.OpenMinutes) * time.Minute)
		l.OpenUntil, l.Closed = &until, false
	}
	return nil
}

// LaneSettings is what a person decides about a lane.
func LaneSettings(l model.Lane) map[string]any {
	return map[string]any{"calendar": l.Calendar, "closed": l.Closed, "openUntil": l.OpenUntil}
}

// AsEdited is what a person decides about a set.
func AsEdited(set model.ReplicaSet) map[string]any {
	return map[string]any{"note": set.Note, "layout": set.Layout, "calendar": set.Calendar, "filter": set.Filter, "atticDays": set.AtticDays, "removalLimit": set.RemovalLimit, "retry": set.Retry, "paused": set.Paused}
}
