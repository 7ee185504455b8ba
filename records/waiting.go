package records

import (
	"context"
	"database/sql"
	"path"
	"strings"

	"bridgespan/core/replica"
	"bridgespan/model"
)

// Waiting lists what waits in a lane's backlog, in the order in which it is looked at.
// Paths are spelled as the sender has them.
func (q Queries) Waiting(ctx context.Context, lane replica.Lane, limit int) ([]model.WaitingPath, error) {
	var keys []string
	rows, err := q.run.QueryContext(ctx, `SELECT path_key, whole, queued, failed, later FROM replica_backlog WHERE from_id = ? AND to_id = ? ORDER BY seq LIMIT ?`, lane.From, lane.To, limit)
	list, err := collect(rows, err, func(s scanner) (w model.WaitingPath, err error) {
		var key []byte
		var later sql.NullTime
		if err = s.Scan(&key, &w.Within, &w.Since, &w.Tried, &later); err == nil {
			keys = append(keys, string(key))
			w.NextTry = timeIn(later)
		}
		return w, err
	})
	if err != nil {
		return nil, err
	}
	known, err := q.knownOf(ctx, lane.From, keys)
	if err != nil {
		return nil, err
	}
	partials, err := q.partials(ctx, lane.To)
	if err != nil {
		return nil, err
	}
	arrived := map[string]int64{}
	for _, p := range partials {
		arrived[p.Key] = p.Bytes
	}
	for i, key := range keys {
		list[i].Path = spelledOf(known, key)
		switch rec := known[key]; rec.Kind {
		case replica.None:
			list[i].Kind = model.WaitingGone
		case replica.Folder:
			list[i].Kind = model.WaitingFolder
		default:
			list[i].Kind, list[i].Bytes, list[i].Arrived = model.WaitingFile, rec.Size, min(arrived[key], rec.Size)
		}
	}
	return list, nil
}

// knownOf are the records of paths, and of the folders that they are in.
func (q Queries) knownOf(ctx context.Context, r replica.ID, keys []string) (map[string]replica.Record, error) {
	wanted := map[string]bool{}
	for _, key := range keys {
		for ; key != "." && !wanted[key]; key = path.Dir(key) {
			wanted[key] = true
		}
	}
	all := make([]string, 0, len(wanted))
	for key := range wanted {
		all = append(all, key)
	}
	records, err := q.replicaRecords(ctx, r, all, &descriptors{})
	return byKey(records), err
}

// spelledOf is how a path is spelled, as far as that is known.
func spelledOf(known map[string]replica.Record, key string) string {
	var names []string
	for ; key != "."; key = path.Dir(key) {
		name := known[key].Name
		if name == "" {
			name = path.Base(key)
		}
		names = append([]string{name}, names...)
	}
	if len(names) == 0 {
		return "."
	}
	return strings.Join(names, "/")
}
