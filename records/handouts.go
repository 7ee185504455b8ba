package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/mapping"
)

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
