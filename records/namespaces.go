package records

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/mapping"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

const namespaceColumns = `SELECT n.name, n.note, n.ttl, n.returns, n.hiding, n.version,
	(SELECT COUNT(*) FROM entries e WHERE e.namespace_id = n.id AND e.kind = 'folder'),
	(SELECT COUNT(*) FROM entries e WHERE e.namespace_id = n.id AND e.kind = 'signpost') FROM namespaces n`

func scanNamespace(s scanner) (n model.Namespace, err error) {
	err = s.Scan(&n.Name, &n.Note, &n.TTL, &n.Returns, &n.Hiding, &n.Version, &n.Folders, &n.Signposts)
	return n, err
}

// Namespaces lists namespaces by name.
func (q Queries) Namespaces(ctx context.Context, page Page) ([]model.Namespace, error) {
	rows, err := q.run.QueryContext(ctx, namespaceColumns+` WHERE n.name > ? ORDER BY n.name LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanNamespace)
}

// Namespace finds a namespace by name.
func (q Queries) Namespace(ctx context.Context, name string) (model.Namespace, error) {
	return one(q.run.QueryRowContext(ctx, namespaceColumns+` WHERE n.name = ?`, name), scanNamespace,
		notFound("namespace", name, "list the namespaces with: bspan namespace list"))
}

// AddNamespace adds an empty namespace.
func (tx *Tx) AddNamespace(ctx context.Context, n model.Namespace) error {
	_, _, err := tx.exec(ctx, `INSERT INTO namespaces (name, note, ttl, returns, hiding) VALUES (?, ?, ?, ?, ?)`, n.Name, n.Note, n.TTL, n.Returns, n.Hiding)
	return taken(err, "name", "namespace", n.Name)
}

// UpdateNamespace changes all but the name.
func (tx *Tx) UpdateNamespace(ctx context.Context, n model.Namespace) error {
	return tx.expectVersion(ctx, "namespace "+n.Name, `UPDATE namespaces SET note = ?, ttl = ?, returns = ?, hiding = ?, version = version + 1 WHERE name = ? AND version = ?`,
		n.Note, n.TTL, n.Returns, n.Hiding, n.Name, n.Version)
}

// RemoveNamespace removes a namespace with all of its entries.
func (tx *Tx) RemoveNamespace(ctx context.Context, n model.Namespace) error {
	if _, _, err := tx.exec(ctx, `DELETE e FROM entries e JOIN namespaces n ON n.id = e.namespace_id WHERE n.name = ? AND n.version = ?`, n.Name, n.Version); err != nil {
		return err
	}
	err := tx.expectVersion(ctx, "namespace "+n.Name, `DELETE FROM namespaces WHERE name = ? AND version = ?`, n.Name, n.Version)
	if number(err) != errStillNeeded {
		return err
	}
	fronts, err := tx.Fronts(ctx, n.Name)
	if err != nil || len(fronts) == 0 {
		return err
	}
	return fault.New(fault.Needed, "remove them first: bspan front remove "+fronts[0].Server+"/"+fronts[0].Share, "people come to /%s through %d fronts", n.Name, len(fronts))
}

const entryColumns = `SELECT e.id, e.path, e.kind, e.note, e.ttl, e.letter, e.version FROM entries e JOIN namespaces n ON n.id = e.namespace_id`

func scanEntry(s scanner) (e namespace.Entry, err error) {
	err = s.Scan(&e.ID, &e.Path, &e.Kind, &e.Note, &e.TTL, &e.Letter, &e.Version)
	return e, err
}

// Entries lists the entries of a namespace in order of path, with their
// locations. page.After is the key of the last path already seen.
func (q Queries) Entries(ctx context.Context, name string, page Page) ([]namespace.Entry, error) {
	rows, err := q.run.QueryContext(ctx, entryColumns+` WHERE n.name = ? AND e.path_key > ? ORDER BY e.path_key LIMIT ?`, name, []byte(page.After), page.Limit)
	return q.filled(ctx, name, rows, err)
}

// EntriesInNeed lists the first signposts of a namespace, in order of path, of
// which a location is held, does not answer or was not found well.
func (q Queries) EntriesInNeed(ctx context.Context, name string, limit int) ([]namespace.Entry, error) {
	rows, err := q.run.QueryContext(ctx, entryColumns+` WHERE n.name = ? AND e.id IN (SELECT l.entry_id FROM locations l JOIN servers v ON v.id = l.server_id
		WHERE l.state = 'held' OR v.reachable = FALSE OR l.health NOT IN ('', 'well', 'read-only')) ORDER BY e.path_key LIMIT ?`, name, limit)
	return q.filled(ctx, name, rows, err)
}

func (q Queries) filled(ctx context.Context, name string, rows *sql.Rows, err error) ([]namespace.Entry, error) {
	entries, err := collect(rows, err, scanEntry)
	if err != nil {
		return nil, err
	}
	return entries, q.fillLocations(ctx, name, entries)
}

// Entry finds an entry by its number, with its locations.
func (q Queries) Entry(ctx context.Context, name string, id int64) (namespace.Entry, error) {
	return q.entry(ctx, name, entryColumns+` WHERE n.name = ? AND e.id = ?`, id, fmt.Sprint("number ", id))
}

// EntryAt finds an entry by its path, with its locations.
func (q Queries) EntryAt(ctx context.Context, name, path string) (namespace.Entry, error) {
	return q.entry(ctx, name, entryColumns+` WHERE n.name = ? AND e.path_key = ?`, []byte(namespace.Key(path)), "/"+name+"/"+path)
}

func (q Queries) entry(ctx context.Context, name, query string, arg any, what string) (namespace.Entry, error) {
	e, err := one(q.run.QueryRowContext(ctx, query, name, arg), scanEntry,
		fault.New(fault.NotFound, "see what is there with: bspan namespace tree "+name, "namespace %s has no entry %s", name, what))
	if err != nil {
		return e, err
	}
	one := []namespace.Entry{e}
	err = q.fillLocations(ctx, name, one)
	return one[0], err
}

// smbPort is where SMB clients go.
const smbPort = "445"

const locationColumns = `SELECT l.entry_id, l.id, v.name, l.share, l.sub, s.name, l.state, l.why, l.placement, v.reachable, v.address, v.port, v.domain, v.unsigned_messages, v.certificate, v.people_name, v.since,
	l.weight, l.health, l.health_text, l.health_since, l.verified_at
	FROM locations l JOIN servers v ON v.id = l.server_id JOIN sites s ON s.id = v.site_id`

type entryLocation struct {
	entry int64
	namespace.Location
}

// scanLocation reads a location; an open one that cannot be used, or whose
// server does not answer, is failing.
func scanLocation(s scanner) (l entryLocation, err error) {
	var reachable *bool
	var address, port, certificate, people, text string
	var since, found, verified sql.NullTime
	err = s.Scan(&l.entry, &l.ID, &l.Server, &l.Share, &l.Sub, &l.Site, &l.State, &l.Why, &l.Rank, &reachable, &address, &port, &l.Listens.Domain, &l.Listens.Unsigned, &certificate, &people, &since,
		&l.Weight, &l.Health, &text, &found, &verified)
	if err != nil {
		return l, err
	}
	l.Listens.Server, l.Listens.HostPort = l.Server, net.JoinHostPort(address, port)
	switch {
	case certificate != "":
		l.Listens.Unled = "no file service runs there"
	case port != smbPort:
		l.Listens.Unled = "it listens at port " + port + ", and clients go to " + smbPort
	default:
		l.Listens.People = cmp.Or(people, address)
	}
	if verified.Valid {
		l.Verified = &verified.Time
	}
	if reachable != nil && !*reachable {
		l.Health, text, found = namespace.Silent, l.Server+" does not answer", since
	}
	if found.Valid {
		l.Since = &found.Time
	}
	l.Set, l.SetWhy = l.State, l.Why
	if l.State == namespace.Open && l.Health.Failing() {
		l.State, l.Why = namespace.Failing, cmp.Or(text, l.Health.Words())
	}
	return l, nil
}

// locations reads locations, with the sites that they are for alone.
func (q Queries) locations(ctx context.Context, query string, args ...any) ([]entryLocation, error) {
	rows, err := q.run.QueryContext(ctx, query, args...)
	list, err := collect(rows, err, scanLocation)
	if err != nil || len(list) == 0 {
		return list, err
	}
	at := make(map[int64]*entryLocation, len(list))
	var ids []any
	for i := range list {
		at[list[i].ID] = &list[i]
		ids = append(ids, list[i].ID)
	}
	which := ` WHERE o.location_id IN (` + placeholders(len(ids)) + `)`
	if len(ids) > wholeFrom {
		which, ids = "", nil // few locations are for some sites alone
	}
	rows, err = q.run.QueryContext(ctx, `SELECT o.location_id, f.name FROM location_sites o JOIN sites f ON f.id = o.site_id`+which+` ORDER BY f.name`, ids...)
	_, err = collect(rows, err, func(s scanner) (site string, err error) {
		var id int64
		err = s.Scan(&id, &site)
		if l := at[id]; l != nil {
			l.OnlyFor = append(l.OnlyFor, site)
		}
		return site, err
	})
	return list, err
}

// wholeFrom is from how many entries or locations on all are read at once, instead of those that
// are named: more than a page has.
const wholeFrom = 2000

// fillLocations adds the locations to entries: one query for a few entries by
// their numbers, one for the whole namespace when there are many.
func (q Queries) fillLocations(ctx context.Context, name string, entries []namespace.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	index := make(map[int64]*namespace.Entry, len(entries))
	var ids []any
	for i := range entries {
		index[entries[i].ID] = &entries[i]
		ids = append(ids, entries[i].ID)
	}
	query := locationColumns + ` WHERE l.entry_id IN (` + placeholders(len(ids)) + `) ORDER BY l.id`
	if len(ids) > wholeFrom {
		query = locationColumns + ` JOIN entries e ON e.id = l.entry_id JOIN namespaces n ON n.id = e.namespace_id WHERE n.name = ? ORDER BY l.id`
		ids = []any{name}
	}
	locations, err := q.locations(ctx, query, ids...)
	for _, l := range locations {
		if e := index[l.entry]; e != nil {
			e.Locations = append(e.Locations, l.Location)
		}
	}
	return err
}

// LockNamespace takes the namespace for the rest of the transaction, so that
// checks on its tree stay true until the commit.
func (tx *Tx) LockNamespace(ctx context.Context, name string) error {
	_, err := one(tx.run.QueryRowContext(ctx, `SELECT name FROM namespaces WHERE name = ? FOR UPDATE`, name),
		func(s scanner) (n string, err error) { err = s.Scan(&n); return n, err },
		notFound("namespace", name, "list the namespaces with: bspan namespace list"))
	return err
}

// AddEntry adds an entry without its locations and returns its number.
func (tx *Tx) AddEntry(ctx context.Context, name string, e namespace.Entry) (int64, error) {
	_, id, err := tx.exec(ctx, `INSERT INTO entries (namespace_id, path, path_key, kind, note, ttl) SELECT id, ?, ?, ?, ?, ? FROM namespaces WHERE name = ?`,
		[]byte(e.Path), []byte(namespace.Key(e.Path)), e.Kind, e.Note, e.TTL, name)
	return id, taken(err, "path", "entry", "/"+name+"/"+e.Path)
}

// TouchEntry changes note and ttl of an entry and raises its version.
func (tx *Tx) TouchEntry(ctx context.Context, e namespace.Entry) error {
	return tx.expectVersion(ctx, "entry "+e.Path, `UPDATE entries SET note = ?, ttl = ?, version = version + 1 WHERE id = ? AND version = ?`, e.Note, e.TTL, e.ID, e.Version)
}

// RemoveEntry removes an entry and its locations.
func (tx *Tx) RemoveEntry(ctx context.Context, e namespace.Entry) error {
	return tx.expectVersion(ctx, "entry "+e.Path, `DELETE FROM entries WHERE id = ? AND version = ?`, e.ID, e.Version)
}

// CountBelow counts the entries below a path.
func (q Queries) CountBelow(ctx context.Context, name, path string) (n int, err error) {
	prefix, end := below(path)
	err = q.run.QueryRowContext(ctx, `SELECT COUNT(*) FROM entries e JOIN namespaces n ON n.id = e.namespace_id
		WHERE n.name = ? AND e.path_key >= ? AND e.path_key < ?`, name, prefix, end).Scan(&n)
	return n, unavailable(err)
}

// AddLocation adds a location to a signpost. The server must exist.
func (tx *Tx) AddLocation(ctx context.Context, entry int64, l namespace.Location) error {
	rows, id, err := tx.exec(ctx, `INSERT INTO locations (entry_id, server_id, share, sub, state, why, placement, weight)
		SELECT ?, id, ?, ?, ?, ?, ?, ? FROM servers WHERE name_key = ?`, entry, l.Share, []byte(l.Sub), l.Set, l.SetWhy, l.Rank, max(l.Weight, 1), namespace.Key(l.Server))
	if err == nil && rows == 0 { // it was removed since it was tried
		return notFound("server", l.Server, "list the servers with: bspan server list")
	}
	if err != nil {
		return err
	}
	return tx.setOnlyFor(ctx, id, l.OnlyFor)
}

// UpdateLocation changes state, rank, weight and the sites of a location.
func (tx *Tx) UpdateLocation(ctx context.Context, l namespace.Location) error {
	if err := tx.expectVersion(ctx, "location "+l.Target().String(), `UPDATE locations SET state = ?, why = ?, placement = ?, weight = ? WHERE id = ?`, l.Set, l.SetWhy, l.Rank, max(l.Weight, 1), l.ID); err != nil {
		return err
	}
	return tx.setOnlyFor(ctx, l.ID, l.OnlyFor)
}

func (tx *Tx) setOnlyFor(ctx context.Context, location int64, sites []string) error {
	if _, _, err := tx.exec(ctx, `DELETE FROM location_sites WHERE location_id = ?`, location); err != nil {
		return err
	}
	for _, site := range sites {
		rows, _, err := tx.exec(ctx, `INSERT IGNORE INTO location_sites (location_id, site_id) SELECT ?, id FROM sites WHERE name_key = ?`, location, namespace.Key(site))
		if err != nil {
			return err
		}
		if rows == 0 {
			return fault.Field("onlyFor", "list the sites with: bspan site list", "no site is called %q", site)
		}
	}
	return nil
}

// MoveBranch gives an entry and everything below it another path. It raises
// all of their versions.
func (tx *Tx) MoveBranch(ctx context.Context, name string, e namespace.Entry, to string) error {
	if err := tx.expectVersion(ctx, "entry "+e.Path, `UPDATE entries SET version = version + 1 WHERE id = ? AND version = ?`, e.ID, e.Version); err != nil {
		return err
	}
	from, fromKey, toKey := []byte(e.Path), []byte(namespace.Key(e.Path)), []byte(namespace.Key(to))
	var longest sql.NullInt64
	first, end := below(e.Path)
	const which = ` FROM entries e JOIN namespaces n ON n.id = e.namespace_id WHERE n.name = ? AND (e.id = ? OR e.path_key >= ? AND e.path_key < ?)`
	if err := tx.run.QueryRowContext(ctx, `SELECT MAX(LENGTH(e.path))`+which, name, e.ID, first, end).Scan(&longest); err != nil {
		return unavailable(err)
	}
	if over := int(longest.Int64) - len(from) + len(to); over > namespace.MaxPath {
		return fault.Field("path", "shorten it", "the longest path below would have %d bytes, at most %d are allowed", over, namespace.MaxPath)
	}
	_, _, err := tx.exec(ctx, `UPDATE entries e JOIN namespaces n ON n.id = e.namespace_id SET e.path = CONCAT(?, SUBSTRING(e.path, ?)), e.path_key = CONCAT(?, SUBSTRING(e.path_key, ?)),
		e.version = e.version + 1 WHERE n.name = ? AND (e.id = ? OR e.path_key >= ? AND e.path_key < ?)`,
		[]byte(to), len(from)+1, toKey, len(fromKey)+1, name, e.ID, first, end)
	return taken(err, "path", "entry", "/"+name+"/"+to)
}

// below is the range of the keys of everything below a path.
func below(path string) (first, end []byte) {
	return span(namespace.Key(path))
}

// RemoveLocation removes a location of a signpost.
func (tx *Tx) RemoveLocation(ctx context.Context, l namespace.Location) error {
	return tx.expectVersion(ctx, "location "+l.Target().String(), `DELETE FROM locations WHERE id = ?`, l.ID)
}

// Handout is what was handed out to somebody.
type Handout struct {
	For, From string
	At        time.Time
	Who       string
	Mappings  []mapping.Mapping
}

const handoutColumns = `SELECT h.account, h.site, h.at, h.who, h.content FROM handouts h JOIN namespaces n ON n.id = h.namespace_id`

func scanHandout(s scanner) (h Handout, err error) {
	var content []byte
	if err = s.Scan(&h.For, &h.From, &h.At, &h.Who, &content); err == nil {
		err = json.Unmarshal(content, &h.Mappings)
	}
	return h, err
}

// LastHandout is what was last handed out to an account for a site; nil when
// nothing was.
func (q Queries) LastHandout(ctx context.Context, name, account, site string) (*Handout, error) {
	h, err := scanHandout(q.run.QueryRowContext(ctx, handoutColumns+` WHERE n.name = ? AND h.account = ? AND h.site = ? ORDER BY h.id DESC LIMIT 1`, name, account, site))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &h, unavailable(err)
}

// LastHandouts lists what was last handed out to each account for each site.
func (q Queries) LastHandouts(ctx context.Context, name string) ([]Handout, error) {
	rows, err := q.run.QueryContext(ctx, handoutColumns+` WHERE n.name = ? AND h.id IN (SELECT MAX(id) FROM handouts GROUP BY namespace_id, account, site) ORDER BY h.account, h.site LIMIT 200`, name)
	return collect(rows, err, scanHandout)
}

// AddHandout keeps what is handed out.
func (tx *Tx) AddHandout(ctx context.Context, name string, h Handout) error {
	content, err := json.Marshal(h.Mappings)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO handouts (namespace_id, account, site, at, who, content) SELECT id, ?, ?, ?, ?, ? FROM namespaces WHERE name = ?`, h.For, h.From, h.At, h.Who, content, name)
	return err
}

// GiveLetter gives a drive letter to an entry; "" takes it back. It does not
// raise the entry's version: nobody else's change is about letters.
func (tx *Tx) GiveLetter(ctx context.Context, name string, entry int64, letter string) error {
	if letter != "" {
		var path string
		err := tx.run.QueryRowContext(ctx, `SELECT e.path FROM entries e JOIN namespaces n ON n.id = e.namespace_id WHERE n.name = ? AND e.letter = ? AND e.id <> ?`, name, letter, entry).Scan(&path)
		if err == nil {
			return fault.New(fault.Taken, "choose another letter, or take it from that one first", "%s: is the letter of /%s/%s", letter, name, path).At("letter")
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return unavailable(err)
		}
	}
	_, _, err := tx.exec(ctx, `UPDATE entries SET letter = ? WHERE id = ?`, letter, entry)
	return err
}
