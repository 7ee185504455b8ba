package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

const serverColumns = `SELECT v.name, s.name, v.address, v.port, v.domain, v.account, v.certificate, v.note, v.reachable, v.since, v.trouble, v.last_check, v.unsigned_messages, v.viewers_browse, v.untrusted, v.version
	FROM servers v JOIN sites s ON s.id = v.site_id`

func scanServer(s scanner) (v model.Server, err error) {
	var check []byte
	var reachable sql.NullBool
	var since, untrusted sql.NullTime
	err = s.Scan(&v.Name, &v.Site, &v.Address, &v.Port, &v.Domain, &v.Account, &v.Certificate, &v.Note, &reachable, &since, &v.Trouble, &check, &v.Unsigned, &v.ViewersBrowse, &untrusted, &v.Version)
	v.Kind = model.ServerSMB
	if v.IsMover() {
		v.Kind = model.ServerMover
	}
	if reachable.Valid {
		v.Reachable = &reachable.Bool
	}
	if since.Valid {
		v.Since = &since.Time
	}
	if untrusted.Valid {
		v.Untrusted = &untrusted.Time
	}
	if err == nil && len(check) > 0 {
		err = json.Unmarshal(check, &v.Check)
	}
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

// AddServer adds a server; its site must exist.
func (tx *Tx) AddServer(ctx context.Context, v model.Server, secret []byte) error {
	_, _, err := tx.exec(ctx, `INSERT INTO servers (name, name_key, site_id, address, port, domain, account, certificate, secret, note, unsigned_messages, viewers_browse)
		VALUES (?, ?, (SELECT id FROM sites WHERE name_key = ?), ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		v.Name, namespace.Key(v.Name), namespace.Key(v.Site), v.Address, v.Port, v.Domain, v.Account, v.Certificate, secret, v.Note, v.Unsigned, v.ViewersBrowse)
	return taken(err, "name", "server", v.Name)
}

// UpdateServer changes a server, found by its former name. A nil secret leaves the old one.
func (tx *Tx) UpdateServer(ctx context.Context, former string, v model.Server, secret []byte) error {
	err := tx.expectVersion(ctx, "server "+former, `UPDATE servers SET name = ?, name_key = ?, site_id = (SELECT id FROM sites WHERE name_key = ?),
		address = ?, port = ?, domain = ?, account = ?, certificate = ?, secret = COALESCE(?, secret), note = ?, unsigned_messages = ?, viewers_browse = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		v.Name, namespace.Key(v.Name), namespace.Key(v.Site), v.Address, v.Port, v.Domain, v.Account, v.Certificate, secret, v.Note, v.Unsigned, v.ViewersBrowse, namespace.Key(former), v.Version)
	return taken(err, "name", "server", v.Name)
}

// RemoveServer removes a server that no signpost leads to.
func (tx *Tx) RemoveServer(ctx context.Context, v model.Server) error {
	err := tx.expectVersion(ctx, "server "+v.Name, `DELETE FROM servers WHERE name_key = ? AND version = ?`, namespace.Key(v.Name), v.Version)
	if number(err) != errStillNeeded {
		return err
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
