package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

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

const serverColumns = `SELECT v.name, s.name, v.address, v.port, v.domain, v.account, v.certificate, v.note, v.reachable, v.since, v.trouble, v.last_check, v.unsigned_messages, v.viewers_browse, v.people_name, v.untrusted, v.cloud, COALESCE(b.name, ''), v.version
	FROM servers v JOIN sites s ON s.id = v.site_id LEFT JOIN servers b ON b.id = v.beside_id`

func scanServer(s scanner) (v model.Server, err error) {
	var check, cloud []byte
	var reachable sql.NullBool
	var since, untrusted sql.NullTime
	err = s.Scan(&v.Name, &v.Site, &v.Address, &v.Port, &v.Domain, &v.Account, &v.Certificate, &v.Note, &reachable, &since, &v.Trouble, &check, &v.Unsigned, &v.ViewersBrowse, &v.PeopleName, &untrusted, &cloud, &v.Beside, &v.Version)
	if reachable.Valid {
		v.Reachable = &reachable.Bool
	}
	if since.Valid {
		v.Since = &since.Time
	}
	if untrusted.Valid {
		v.Untrusted = &untrusted.Time
	}
	if err == nil {
		err = errors.Join(optional(check, &v.Check), optional(cloud, &v.Cloud))
	}
	v.Kind = v.KindOf()
	return v, err
}

// Servers lists servers by name.
func (q Queries) Servers(ctx context.Context, page Page) ([]model.Server, error) {
	rows, err := q.run.QueryContext(ctx, serverColumns+` WHERE v.name_key > ? ORDER BY v.name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanServer)
}

// Server finds a server by name.
func (q Queries) Server(ctx context.Context, name string) (model.Server, error) {
	return one(q.run.QueryRowContext(ctx, serverColumns+` WHERE v.name_key = ?`, namespace.Key(name)), scanServer,
		notFound("server", name, "list the servers with: bspan server list"))
}

// StoreServerSecret keeps the sealed password of a server's account in the place of one
// that is there still.
func (q Queries) StoreServerSecret(ctx context.Context, name string, former, sealed []byte) error {
	_, _, err := q.exec(ctx, `UPDATE servers SET secret = ? WHERE name_key = ? AND secret = ?`, sealed, namespace.Key(name), former)
	return err
}

// ServerSecret returns the sealed password of a server's account.
func (q Queries) ServerSecret(ctx context.Context, name string) ([]byte, error) {
	return one(q.run.QueryRowContext(ctx, `SELECT secret FROM servers WHERE name_key = ?`, namespace.Key(name)),
		func(s scanner) (b []byte, err error) { err = s.Scan(&b); return b, err },
		notFound("server", name, "list the servers with: bspan server list"))
}

// ProxySecret returns the sealed password of the user at the proxy of an account; nil when there is none.
func (q Queries) ProxySecret(ctx context.Context, name string) ([]byte, error) {
	return one(q.run.QueryRowContext(ctx, `SELECT proxy_secret FROM servers WHERE name_key = ?`, namespace.Key(name)),
		func(s scanner) (b []byte, err error) { err = s.Scan(&b); return b, err },
		notFound("server", name, "list the servers with: bspan server list"))
}

// SetProxySecret keeps that password; nil removes it.
func (tx *Tx) SetProxySecret(ctx context.Context, name string, sealed []byte) error {
	_, _, err := tx.exec(ctx, `UPDATE servers SET proxy_secret = ? WHERE name_key = ?`, sealed, namespace.Key(name))
	return err
}

// besideID finds the server of a key. It looks at a copy: a statement that changes a table may not look into it.
const besideID = `(SELECT b.id FROM (SELECT id, name_key FROM servers) b WHERE b.name_key = ?)`

// AddServer adds a server; its site must exist.
func (tx *Tx) AddServer(ctx context.Context, v model.Server, secret []byte) error {
	cloud, err := json.Marshal(v.Cloud)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO servers (name, name_key, site_id, address, port, domain, account, certificate, secret, note, unsigned_messages, viewers_browse, people_name, cloud, beside_id)
		VALUES (?, ?, (SELECT id FROM sites WHERE name_key = ?), ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, NULLIF(?, 'null'), `+besideID+`)`,
		v.Name, namespace.Key(v.Name), namespace.Key(v.Site), v.Address, v.Port, v.Domain, v.Account, v.Certificate, secret, v.Note, v.Unsigned, v.ViewersBrowse, v.PeopleName, cloud, namespace.Key(v.Beside))
	return taken(err, "name", "server", v.Name)
}

// UpdateServer changes a server, found by its former name. A nil secret leaves the old one.
func (tx *Tx) UpdateServer(ctx context.Context, former string, v model.Server, secret []byte) error {
	cloud, err := json.Marshal(v.Cloud)
	if err != nil {
		return err
	}
	err = tx.expectVersion(ctx, "server "+former, `UPDATE servers SET beside_id = `+besideID+`, name = ?, name_key = ?, site_id = (SELECT id FROM sites WHERE name_key = ?),
		address = ?, port = ?, domain = ?, account = ?, certificate = ?, secret = COALESCE(?, secret), note = ?, unsigned_messages = ?, viewers_browse = ?, people_name = ?, cloud = NULLIF(?, 'null'), version = version + 1 WHERE name_key = ? AND version = ?`,
		namespace.Key(v.Beside), v.Name, namespace.Key(v.Name), namespace.Key(v.Site), v.Address, v.Port, v.Domain, v.Account, v.Certificate, secret, v.Note, v.Unsigned, v.ViewersBrowse, v.PeopleName, cloud, namespace.Key(former), v.Version)
	return taken(err, "name", "server", v.Name)
}

// serversBeside are the movers on the host of a file server.
func (q Queries) serversBeside(ctx context.Context, server string) ([]string, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT v.name FROM servers v JOIN servers b ON b.id = v.beside_id WHERE b.name_key = ? ORDER BY v.name_key`, namespace.Key(server))
	return collect(rows, err, func(s scanner) (name string, err error) { err = s.Scan(&name); return name, err })
}

// RemoveServer removes a server that no signpost leads to.
func (tx *Tx) RemoveServer(ctx context.Context, v model.Server) error {
	err := tx.expectVersion(ctx, "server "+v.Name, `DELETE FROM servers WHERE name_key = ? AND version = ?`, namespace.Key(v.Name), v.Version)
	if number(err) != errStillNeeded {
		return err
	}
	beside, besideErr := tx.serversBeside(ctx, v.Name)
	if besideErr != nil {
		return besideErr
	}
	if len(beside) > 0 {
		return fault.New(fault.Needed, "say that it is beside none: bspan server edit "+beside[0]+" --beside \"\"", "permissions in the folders of %s name the accounts of %s", shorten(beside), v.Name)
	}
	fronts, frontsErr := tx.FrontsAt(ctx, v.Name)
	if frontsErr != nil {
		return frontsErr
	}
	if len(fronts) > 0 {
		return fault.New(fault.Needed, "remove them first: bspan front remove "+v.Name+"/"+fronts[0], "%s keeps the fronts %s", v.Name, shorten(fronts))
	}
	paths, listErr := tx.LedToFrom(ctx, v.Name, "")
	if listErr != nil {
		return listErr
	}
	if len(paths) == 0 {
		_, sets, err := tx.ReplicasAt(ctx, v.Name, "")
		if err != nil {
			return err
		}
		if len(sets) == 0 { // then its accounts are needed
			sets, err = tx.withAccountsOf(ctx, v.Name)
			if err != nil {
				return err
			}
			return fault.New(fault.Needed, "end those sets first, and make them anew with another seed", "the permissions of these replica sets are kept in accounts of %s: %s", v.Name, shorten(sets))
		}
		return fault.New(fault.Needed, "take it out of those sets first", "%s holds replicas of: %s", v.Name, shorten(sets))
	}
	return fault.New(fault.Needed, "remove those locations first, or say that they go too (detach)", "%d signposts lead to %s: %s", len(paths), v.Name, shorten(paths))
}

// Led is an entry with its namespace.
type Led struct {
	Namespace string
	namespace.Entry
}

// EntriesLedTo lists the entries with a location at a server.
func (q Queries) EntriesLedTo(ctx context.Context, server, share string) ([]Led, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT DISTINCT n.name, e.id FROM locations l JOIN servers v ON v.id = l.server_id
		JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id WHERE v.name_key = ? AND (? = '' OR LOWER(l.share) = LOWER(?)) ORDER BY n.name, e.path_key`, namespace.Key(server), share, share)
	list, err := collect(rows, err, func(s scanner) (l Led, err error) {
		err = s.Scan(&l.Namespace, &l.ID)
		return l, err
	})
	for i := range list {
		if err == nil {
			list[i].Entry, err = q.Entry(ctx, list[i].Namespace, list[i].ID)
		}
	}
	return list, err
}

func shorten(list []string) string {
	if len(list) > 5 {
		list = append(list[:5:5], "…")
	}
	return strings.Join(list, ", ")
}

// LedToFrom lists the full paths of the signposts that lead to a server, or to one share of it.
func (q Queries) LedToFrom(ctx context.Context, server, share string) ([]string, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT DISTINCT n.name, e.path FROM locations l JOIN servers v ON v.id = l.server_id
		JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id
		WHERE v.name_key = ? AND (? = '' OR LOWER(l.share) = LOWER(?)) ORDER BY n.name, e.path_key`, namespace.Key(server), share, share)
	return collect(rows, err, func(s scanner) (string, error) {
		var name, path string
		err := s.Scan(&name, &path)
		return "/" + name + "/" + path, err
	})
}

// StoreCheck keeps the last check of a server. It is an observation, not a change: the version stays.
func (q Queries) StoreCheck(ctx context.Context, name string, check model.Check) error {
	text, err := json.Marshal(check)
	if err != nil {
		return err
	}
	_, _, err = q.exec(ctx, `UPDATE servers SET last_check = ? WHERE name_key = ?`, text, namespace.Key(name))
	return err
}

// StoreReach keeps whether a server answers, and reports whether that is news.
func (q Queries) StoreReach(ctx context.Context, name string, reachable bool, trouble string, now time.Time) (bool, error) {
	trouble = strings.ToValidUTF8(trouble[:min(len(trouble), 1000)], "")
	rows, _, err := q.exec(ctx, `UPDATE servers SET reachable = ?, since = ?, trouble = ? WHERE name_key = ? AND (reachable IS NULL OR reachable <> ?)`,
		reachable, now, trouble, namespace.Key(name), reachable)
	return rows > 0, err
}

// StoreUntrusted keeps since when a server's answers cannot be trusted, and why; nil when
// they can be again.
func (q Queries) StoreUntrusted(ctx context.Context, name string, since *time.Time, trouble string) error {
	trouble = strings.ToValidUTF8(trouble[:min(len(trouble), 1000)], "")
	_, _, err := q.exec(ctx, `UPDATE servers SET untrusted = ?, trouble = ?, since = COALESCE(?, since), reachable = IF(? IS NULL, reachable, FALSE) WHERE name_key = ?`,
		since, trouble, since, since, namespace.Key(name))
	return err
}

const shareColumns = `SELECT v.name, h.name, h.note, h.kind, h.hidden, h.path, h.permissions, h.seen FROM shares h JOIN servers v ON v.id = h.server_id`

func scanShare(s scanner) (h model.Share, err error) {
	err = s.Scan(&h.Server, &h.Name, &h.Note, &h.Kind, &h.Hidden, &h.Path, &h.Permissions, &h.Seen)
	return h, err
}

// Shares lists the shares of a server, or of all when server is "".
func (q Queries) Shares(ctx context.Context, server string) ([]model.Share, error) {
	rows, err := q.run.QueryContext(ctx, shareColumns+` WHERE ? = '' OR v.name_key = ? ORDER BY v.name_key, h.name_key`, server, namespace.Key(server))
	return collect(rows, err, scanShare)
}

// ReplaceShares stores what a server lists now.
func (tx *Tx) ReplaceShares(ctx context.Context, server string, shares []model.Share) error {
	key := namespace.Key(server)
	if _, _, err := tx.exec(ctx, `DELETE h FROM shares h JOIN servers v ON v.id = h.server_id WHERE v.name_key = ?`, key); err != nil {
		return err
	}
	for _, h := range shares {
		if _, _, err := tx.exec(ctx, `INSERT IGNORE INTO shares (server_id, name, name_key, note, kind, hidden, path, permissions, seen)
			SELECT id, ?, ?, ?, ?, ?, ?, ?, ? FROM servers WHERE name_key = ?`, h.Name, namespace.Key(h.Name), h.Note, h.Kind, h.Hidden, h.Path, h.Permissions, h.Seen, key); err != nil {
			return err
		}
	}
	return nil
}

const directoryColumns = `SELECT name, sid, address, port, account, ca <> '', note, version FROM directories`

func scanDirectory(s scanner) (d model.Directory, err error) {
	err = s.Scan(&d.Name, &d.SID, &d.Address, &d.Port, &d.Account, &d.Private, &d.Note, &d.Version)
	return d, err
}

// Directories lists the domains by name.
func (q Queries) Directories(ctx context.Context) ([]model.Directory, error) {
	rows, err := q.run.QueryContext(ctx, directoryColumns+` ORDER BY name_key`)
	return collect(rows, err, scanDirectory)
}

// Directory finds a domain by name.
func (q Queries) Directory(ctx context.Context, name string) (model.Directory, error) {
	return one(q.run.QueryRowContext(ctx, directoryColumns+` WHERE name_key = ?`, namespace.Key(name)), scanDirectory,
		notFound("domain", name, "list the domains with: bspan directory list"))
}

// DirectorySecret returns the sealed password of a domain's account, and the
// certificate that vouches for it.
func (q Queries) DirectorySecret(ctx context.Context, name string) (secret []byte, ca string, err error) {
	_, err = one(q.run.QueryRowContext(ctx, `SELECT secret, ca FROM directories WHERE name_key = ?`, namespace.Key(name)),
		func(s scanner) (struct{}, error) { return struct{}{}, s.Scan(&secret, &ca) },
		notFound("domain", name, "list the domains with: bspan directory list"))
	return secret, ca, err
}

// AddDirectory adds a domain.
func (tx *Tx) AddDirectory(ctx context.Context, d model.Directory, secret []byte, ca string) error {
	_, _, err := tx.exec(ctx, `INSERT INTO directories (name, name_key, sid, address, port, account, secret, ca, note) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		d.Name, namespace.Key(d.Name), d.SID, d.Address, d.Port, d.Account, secret, ca, d.Note)
	return taken(err, "address", "domain", d.Name)
}

// RemoveDirectory removes a domain.
func (tx *Tx) RemoveDirectory(ctx context.Context, name string, version int64) error {
	return tx.expectVersion(ctx, "domain "+name, `DELETE FROM directories WHERE name_key = ? AND version = ?`, namespace.Key(name), version)
}
