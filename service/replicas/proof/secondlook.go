package proof

import (
	"context"
	"errors"
	"slices"
	"time"

	"bridgespan/core/replica"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/records"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// What differs is looked at once more when the set has had the time to see it:
// so many differences, after at most so long.
const (
	mostDoubts = 2000
	seenWithin = 2 * time.Minute
)

// lookTwice looks once more at what differed and nothing explained: while trees
// are compared, people go on working in them. A set that is paused sees nothing.
func (v *verifier) lookTwice(ctx context.Context, c *compare.Comparison, first, second *end) error {
	if len(v.kept.Doubts) == 0 || v.set.Paused {
		return nil
	}
	if err := v.keep(ctx); err != nil {
		return err
	}
	looked, err := v.awaitLooks(ctx, first.replica, second.replica)
	if err != nil || !looked { // a replica that is not looked at explains nothing
		return err
	}
	for _, f := range v.kept.Doubts {
		why, err := v.doubted(ctx, c, first, second, f.Difference)
		if err != nil {
			return err
		}
		if why == "" {
			continue
		}
		if err := v.DB.ExplainFinding(ctx, v.job.ID, f.Seq, why); err != nil {
			return err
		}
		r := v.replica()
		r.Counts.Explain(f.Difference)
		for i := range r.Differences {
			if d := &r.Differences[i]; d.Path == f.Path && d.Kind == f.Kind {
				d.Explained, d.Overdue, d.Why = true, false, why
			}
		}
	}
	return nil
}

// awaitLooks has replicas looked at, and waits until they were; it reports
// whether that was in time.
func (v *verifier) awaitLooks(ctx context.Context, replicas ...model.Replica) (bool, error) {
	since := sets.Now()
	for _, r := range replicas {
		if err := v.Look(ctx, v.set.Name, r.Name); err != nil {
			return false, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, seenWithin)
	defer cancel()
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		set, err := v.DB.ReplicaSet(ctx, v.set.Name)
		if err == nil && !slices.ContainsFunc(replicas, func(r model.Replica) bool { return !lookedSince(set, r.ID, since) }) {
			return true, nil
		}
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return false, nil
			}
			return false, ctx.Err()
		case <-tick.C:
		}
	}
}

// lookedSince reports whether all of a replica was looked at, from its beginning
// to its end, since a moment.
func lookedSince(set model.ReplicaSet, id int64, since time.Time) bool {
	for _, r := range set.Replicas {
		if r.ID == id && r.Looked != nil {
			return r.Looked.Add(-time.Duration(r.LookMs) * time.Millisecond).After(since)
		}
	}
	return false
}

// doubted says why a difference is none after all; "" when it is one.
func (v *verifier) doubted(ctx context.Context, c *compare.Comparison, first, second *end, d verify.Difference) (string, error) {
	a, b, again, err := c.Again(ctx, d.Path, d.Kind == verify.Content)
	if err != nil {
		return "", err
	}
	if !slices.ContainsFunc(again, func(other verify.Difference) bool { return other.Kind == d.Kind && !other.Explained }) {
		return "it was changed while it was compared", nil
	}
	for _, now := range []struct {
		at   *end
		item *verify.Item
	}{{first, a}, {second, b}} {
		rec, err := v.DB.ReplicaRecord(ctx, replica.ID(now.at.replica.ID), tree.Key(d.Path, false))
		if err != nil {
			return "", err
		}
		if changedSince(rec, now.item) {
			return "it was changed at " + now.at.replica.Name + " since that was last looked at", nil
		}
	}
	still := []verify.Difference{d}
	v.onTheirWay(ctx, first, second, still)
	if !still[0].Explained {
		return "", nil
	}
	return still[0].Why, nil
}

// changedSince reports whether what is at a path is not what was seen there last.
func changedSince(seen replica.Record, now *verify.Item) bool {
	switch {
	case now == nil || seen.Kind == replica.None:
		return (now == nil) != (seen.Kind == replica.None)
	case now.Folder || seen.Kind == replica.Folder:
		return now.Folder != (seen.Kind == replica.Folder)
	}
	return now.Size != seen.Seen.Size || now.Modified.Sub(seen.Seen.Modified).Abs() > time.Millisecond
}

// doubt keeps what differs and nothing explains, to be looked at once more.
func (v *verifier) doubt(f records.Finding) {
	if !f.Explained && f.Kind != verify.InUse && f.Kind != verify.Unreadable && len(v.kept.Doubts) < mostDoubts {
		v.kept.Doubts = append(v.kept.Doubts, f)
	}
}
