package records

import (
	"context"
	"slices"
	"strings"
	"time"

	"bridgespan/core/namespace"
)

// Watched is a location with what was found of it so far.
type Watched struct {
	ID        int64
	Namespace string
	Path      string // of the signpost, inside the namespace
	Target    namespace.Target
	Health    namespace.Health
	Text      string
	Misses    int
}

const watchedColumns = `SELECT l.id, n.name, e.path, v.name, l.share, l.sub, l.health, l.health_text, l.health_misses
	FROM locations l JOIN servers v ON v.id = l.server_id JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id`

func scanWatched(s scanner) (w Watched, err error) {
	err = s.Scan(&w.ID, &w.Namespace, &w.Path, &w.Target.Server, &w.Target.Share, &w.Target.Sub, &w.Health, &w.Text, &w.Misses)
	return w, err
}

// LocationsDue lists locations of servers that answer and that are due to be
// looked at, longest waiting first.
func (q Queries) LocationsDue(ctx context.Context, now time.Time, limit int) ([]Watched, error) {
	rows, err := q.run.QueryContext(ctx, watchedColumns+` JOIN (SELECT id FROM locations WHERE health_due <= ?
		AND server_id NOT IN (SELECT id FROM servers WHERE reachable = FALSE) ORDER BY health_due LIMIT ?) due ON due.id = l.id`, now, limit)
	return collect(rows, err, scanWatched)
}

// LocationsBelow lists the locations of an entry and of everything below it;
// of the whole namespace when path is "".
func (q Queries) LocationsBelow(ctx context.Context, name, path string) ([]Watched, error) {
	if path == "" {
		rows, err := q.run.QueryContext(ctx, watchedColumns+` WHERE n.name = ? ORDER BY e.path_key, l.id`, name)
		return collect(rows, err, scanWatched)
	}
	first, end := below(path)
	rows, err := q.run.QueryContext(ctx, watchedColumns+` WHERE n.name = ? AND (e.path_key = ? OR e.path_key >= ? AND e.path_key < ?) ORDER BY e.path_key, l.id`,
		name, []byte(namespace.Key(path)), first, end)
	return collect(rows, err, scanWatched)
}

// Looked is a location as it was found by a look.
type Looked struct {
	Watched
	Changed bool      // what counts is another health than before
	Due     time.Time // when it is to be looked at again
}

// StoreLooks keeps that locations were looked at. Where what counts changed, it
// is added to the location's history.
func (tx *Tx) StoreLooks(ctx context.Context, looks []Looked, at time.Time) error {
	for first := 0; first < len(looks); first += bulkRows {
		if err := tx.storeLooks(ctx, looks[first:min(first+bulkRows, len(looks))], at); err != nil {
			return err
		}
	}
	return nil
}

func (tx *Tx) storeLooks(ctx context.Context, looks []Looked, at time.Time) error {
	var ids, due, misses, changed, health, text []any
	for _, l := range looks {
		ids = append(ids, l.ID)
		due, misses = append(due, l.ID, l.Due), append(misses, l.ID, l.Misses)
		if l.Changed {
			changed, health, text = append(changed, l.ID), append(health, l.ID, l.Health), append(text, l.ID, l.Text)
		}
	}
	args := slices.Concat(due, misses, ids)
	if _, _, err := tx.exec(ctx, `UPDATE locations SET health_due = `+byID(len(looks))+`, health_misses = `+byID(len(looks))+` WHERE id IN (`+placeholders(len(ids))+`)`, args...); err != nil || len(changed) == 0 {
		return err
	}
	n := len(changed)
	args = slices.Concat(health, text, []any{at}, changed)
	if _, _, err := tx.exec(ctx, `UPDATE locations SET health = `+byID(n)+`, health_text = `+byID(n)+`, health_since = ? WHERE id IN (`+placeholders(n)+`)`, args...); err != nil {
		return err
	}
	// From the table itself: a location may have been removed meanwhile.
	_, _, err := tx.exec(ctx, `INSERT INTO location_health (location_id, at, health, text) SELECT id, health_since, health, health_text FROM locations WHERE id IN (`+placeholders(n)+`)`, changed...)
	return err
}

// byID is an expression that gives each of n locations its own value; its
// arguments are number and value of each.
func byID(n int) string { return "CASE id" + strings.Repeat(" WHEN ? THEN ?", n) + " END" }

// HealthMark is the number of the last change of health so far.
func (q Queries) HealthMark(ctx context.Context) (mark int64, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT COALESCE(MAX(id), 0) FROM location_health`).Scan(&mark)
	return mark, unavailable(err)
}

// lateMarks is by how much the number of a change of health may be lower than
// that of one seen before: what began earlier may have been committed later.
const lateMarks = 2000

// HealthSince lists the locations of entries of which one's health changed after
// a mark, by entry. Some that changed shortly before it are among them.
func (q Queries) HealthSince(ctx context.Context, mark int64) (map[int64][]namespace.Location, error) {
	list, err := q.locations(ctx, locationColumns+` JOIN (SELECT DISTINCT o.entry_id FROM location_health h JOIN locations o ON o.id = h.location_id WHERE h.id > ?) changed
		ON changed.entry_id = l.entry_id ORDER BY l.id`, mark-lateMarks)
	found := map[int64][]namespace.Location{}
	for _, l := range list {
		found[l.entry] = append(found[l.entry], l.Location)
	}
	return found, err
}

// Spell is a time in which a location was found in one way.
type Spell struct {
	Location int64
	At       time.Time
	Health   namespace.Health
	Text     string
}

// HealthOf lists how the locations of an entry were found, latest first.
func (q Queries) HealthOf(ctx context.Context, entry int64, limit int) ([]Spell, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT h.location_id, h.at, h.health, h.text FROM location_health h JOIN locations l ON l.id = h.location_id
		WHERE l.entry_id = ? ORDER BY h.id DESC LIMIT ?`, entry, limit)
	return collect(rows, err, func(s scanner) (p Spell, err error) {
		err = s.Scan(&p.Location, &p.At, &p.Health, &p.Text)
		return p, err
	})
}

// LookSoon makes the locations at a path due to be looked at.
func (tx *Tx) LookSoon(ctx context.Context, name, path string) error {
	_, _, err := tx.exec(ctx, `UPDATE locations l JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id SET l.health_due = DEFAULT WHERE n.name = ? AND e.path_key = ?`,
		name, []byte(namespace.Key(path)))
	return err
}

// LookSoonAt makes all locations in a share due to be looked at, but those
// already found without it.
func (tx *Tx) LookSoonAt(ctx context.Context, server, share string) error {
	_, _, err := tx.exec(ctx, `UPDATE locations l JOIN servers v ON v.id = l.server_id SET l.health_due = DEFAULT WHERE v.name = ? AND l.share = ? AND l.health <> 'share-missing' AND l.health_misses = 0`, server, share)
	return err
}

// SetVerified keeps by which run a location was last verified, and when it was
// found to hold what another one holds.
func (tx *Tx) SetVerified(ctx context.Context, location, run int64, at time.Time, equal bool) error {
	var when any
	if equal {
		when = at
	}
	_, _, err := tx.exec(ctx, `UPDATE locations SET verified_run = ?, verified_at = ? WHERE id = ?`, run, when, location)
	return err
}
