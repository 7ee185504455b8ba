package records

import (
	"context"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

const siteColumns = `SELECT s.name, s.note, s.version, (SELECT COUNT(*) FROM servers v WHERE v.site_id = s.id) FROM sites s`

func scanSite(s scanner) (site model.Site, err error) {
	err = s.Scan(&site.Name, &site.Note, &site.Version, &site.Servers)
	return site, err
}

// Sites lists sites by name.
func (q Queries) Sites(ctx context.Context, page Page) ([]model.Site, error) {
	rows, err := q.run.QueryContext(ctx, siteColumns+` WHERE s.name_key > ? ORDER BY s.name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanSite)
}

// Site finds a site by name.
func (q Queries) Site(ctx context.Context, name string) (model.Site, error) {
	return one(q.run.QueryRowContext(ctx, siteColumns+` WHERE s.name_key = ?`, namespace.Key(name)), scanSite,
		notFound("site", name, "list the sites with: bspan site list"))
}

// AddSite adds a site.
func (tx *Tx) AddSite(ctx context.Context, s model.Site) error {
	_, _, err := tx.exec(ctx, `INSERT INTO sites (name, name_key, note) VALUES (?, ?, ?)`, s.Name, namespace.Key(s.Name), s.Note)
	return taken(err, "name", "site", s.Name)
}

// UpdateSite changes a site, found by its former name.
func (tx *Tx) UpdateSite(ctx context.Context, former string, s model.Site) error {
	err := tx.expectVersion(ctx, "site "+former, `UPDATE sites SET name = ?, name_key = ?, note = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		s.Name, namespace.Key(s.Name), s.Note, namespace.Key(former), s.Version)
	return taken(err, "name", "site", s.Name)
}

// RemoveSite removes a site without servers, and its legs.
func (tx *Tx) RemoveSite(ctx context.Context, s model.Site) error {
	err := tx.expectVersion(ctx, "site "+s.Name, `DELETE FROM sites WHERE name_key = ? AND version = ?`, namespace.Key(s.Name), s.Version)
	if number(err) != errStillNeeded {
		return err
	}
	names, listErr := tx.serversAt(ctx, s.Name)
	if listErr != nil {
		return listErr
	}
	if len(names) == 0 { // then it is named by locations
		paths, err := tx.onlyFor(ctx, s.Name)
		if err != nil {
			return err
		}
		return fault.New(fault.Needed, "say for whom they are instead: bspan namespace rank --only-for", "locations are only for people at %s: %s", s.Name, shorten(paths))
	}
	return fault.New(fault.Needed, "remove them or give them another site first", "servers stand at %s: %s", s.Name, strings.Join(names, ", "))
}

// onlyFor lists the signposts with locations that are only for people at a site.
func (q Queries) onlyFor(ctx context.Context, site string) ([]string, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT DISTINCT CONCAT('/', n.name, '/', e.path) FROM location_sites o JOIN sites s ON s.id = o.site_id JOIN locations l ON l.id = o.location_id
		JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id WHERE s.name_key = ? ORDER BY 1`, namespace.Key(site))
	return collect(rows, err, func(s scanner) (path string, err error) { err = s.Scan(&path); return path, err })
}

func (q Queries) serversAt(ctx context.Context, site string) ([]string, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT v.name FROM servers v JOIN sites s ON s.id = v.site_id WHERE s.name_key = ? ORDER BY v.name_key`, namespace.Key(site))
	return collect(rows, err, func(s scanner) (name string, err error) { err = s.Scan(&name); return name, err })
}

const legColumns = `SELECT a.name, b.name, l.mbit, l.rtt_ms, l.cost, COALESCE(l.back_mbit, 0), COALESCE(l.back_cost, 0), l.version FROM legs l
	JOIN sites a ON a.id = l.low_site JOIN sites b ON b.id = l.high_site`

func scanLeg(s scanner) (l namespace.Leg, err error) {
	err = s.Scan(&l.From, &l.To, &l.Mbit, &l.RTT, &l.Cost, &l.BackMbit, &l.BackCost, &l.Version)
	return l, err
}

// Legs lists all legs.
func (q Queries) Legs(ctx context.Context) ([]namespace.Leg, error) {
	rows, err := q.run.QueryContext(ctx, legColumns+` ORDER BY a.name_key, b.name_key`)
	return collect(rows, err, scanLeg)
}

// Leg finds the leg between two sites, whichever is named first.
func (q Queries) Leg(ctx context.Context, from, to string) (namespace.Leg, error) {
	low, high := namespace.Key(from), namespace.Key(to)
	return one(q.run.QueryRowContext(ctx, legColumns+` WHERE (a.name_key = ? AND b.name_key = ?) OR (a.name_key = ? AND b.name_key = ?)`, low, high, high, low), scanLeg,
		fault.New(fault.NotFound, "list the legs with: bspan site legs", "no leg connects %s and %s", from, to))
}

// AddLeg adds the leg between two sites, which must exist.
func (tx *Tx) AddLeg(ctx context.Context, l namespace.Leg) error {
	back := l.Turned()
	_, _, err := tx.exec(ctx, `INSERT INTO legs (low_site, high_site, mbit, rtt_ms, cost, back_mbit, back_cost)
		SELECT LEAST(a.id, b.id), GREATEST(a.id, b.id), IF(a.id < b.id, ?, ?), ?, IF(a.id < b.id, ?, ?), NULLIF(IF(a.id < b.id, ?, ?), 0), NULLIF(IF(a.id < b.id, ?, ?), 0)
		FROM sites a, sites b WHERE a.name_key = ? AND b.name_key = ?`,
		l.Mbit, back.Mbit, l.RTT, l.Cost, back.Cost, l.BackMbit, back.BackMbit, l.BackCost, back.BackCost, namespace.Key(l.From), namespace.Key(l.To))
	return err
}

const theLeg = ` l JOIN sites a ON a.name_key = ? JOIN sites b ON b.name_key = ?`
const isTheLeg = ` WHERE l.low_site = LEAST(a.id, b.id) AND l.high_site = GREATEST(a.id, b.id) AND l.version = ?`

// UpdateLeg changes a leg. l.Version is what the caller last read.
func (tx *Tx) UpdateLeg(ctx context.Context, l namespace.Leg) error {
	back := l.Turned()
	return tx.expectVersion(ctx, "the leg between "+l.From+" and "+l.To,
		`UPDATE legs`+theLeg+` SET l.mbit = IF(a.id < b.id, ?, ?), l.rtt_ms = ?, l.cost = IF(a.id < b.id, ?, ?),
		l.back_mbit = NULLIF(IF(a.id < b.id, ?, ?), 0), l.back_cost = NULLIF(IF(a.id < b.id, ?, ?), 0), l.version = l.version + 1`+isTheLeg,
		namespace.Key(l.From), namespace.Key(l.To), l.Mbit, back.Mbit, l.RTT, l.Cost, back.Cost, l.BackMbit, back.BackMbit, l.BackCost, back.BackCost, l.Version)
}

// RemoveLeg removes a leg. l.Version is what the caller last read.
func (tx *Tx) RemoveLeg(ctx context.Context, l namespace.Leg) error {
	return tx.expectVersion(ctx, "the leg between "+l.From+" and "+l.To, `DELETE l FROM legs`+theLeg+isTheLeg, namespace.Key(l.From), namespace.Key(l.To), l.Version)
}
