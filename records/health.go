package records

import (
	"context"
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
// looked at: those never looked at, those that were not well or not as before
// and were last looked at before soon, and all last looked at before steady.
// Longest waiting first.
func (q Queries) LocationsDue(ctx context.Context, soon, steady time.Time, limit int) ([]Watched, error) {
	rows, err := q.run.QueryContext(ctx, watchedColumns+` WHERE COALESCE(v.reachable, TRUE) AND (l.health_tried IS NULL OR l.health_tried < ?
		OR l.health_tried < ? AND (l.health_misses > 0 OR l.health NOT IN ('', 'well', 'read-only', 'refused'))) ORDER BY l.health_tried LIMIT ?`, steady, soon, limit)
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

// StoreLook keeps that a location was looked at. When what counts changed, it
// is added to the location's history.
func (tx *Tx) StoreLook(ctx context.Context, w Watched, changed bool, at time.Time) error {
	if !changed {
		_, _, err := tx.exec(ctx, `UPDATE locations SET health_tried = ?, health_misses = ? WHERE id = ?`, at, w.Misses, w.ID)
		return err
	}
	rows, _, err := tx.exec(ctx, `UPDATE locations SET health = ?, health_text = ?, health_since = ?, health_tried = ?, health_misses = ? WHERE id = ?`, w.Health, w.Text, at, at, w.Misses, w.ID)
	if err != nil || rows == 0 { // removed meanwhile
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO location_health (location_id, at, health, text) VALUES (?, ?, ?, ?)`, w.ID, at, w.Health, w.Text)
	return err
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
	_, _, err := tx.exec(ctx, `UPDATE locations l JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id SET l.health_tried = NULL WHERE n.name = ? AND e.path_key = ?`,
		name, []byte(namespace.Key(path)))
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
