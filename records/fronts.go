package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

const frontColumns = `SELECT f.id, v.name, f.share, n.name, f.branch, s.name, COALESCE(NULLIF(v.people_name, ''), v.address), f.note, f.leave_out_failing, f.check_domain, f.check_account,
	f.state, f.trouble, f.since, f.folders, f.links, f.left_out, f.foreign_names, f.written, f.caught_up, f.caught_up_changes, f.last_check, f.leaving, f.let_go, f.version
	FROM fronts f JOIN servers v ON v.id = f.server_id JOIN sites s ON s.id = v.site_id JOIN namespaces n ON n.id = f.namespace_id`

func scanFront(s scanner) (f model.Front, err error) {
	var since, written, caught sql.NullTime
	var left, foreign, check []byte
	var leaving bool
	err = s.Scan(&f.ID, &f.Server, &f.Share, &f.Namespace, &f.Branch, &f.Site, &f.Host, &f.Comment, &f.LeaveOutFailing, &f.CheckDomain, &f.CheckAccount,
		&f.State, &f.Trouble, &since, &f.Folders, &f.Links, &left, &foreign, &written, &caught, &f.CaughtUpChanges, &check, &leaving, &f.LetGo, &f.Version)
	if leaving {
		f.State, f.Trouble = model.FrontLeaving, ""
	}
	f.Since, f.Written, f.CaughtUp = timeIn(since), timeIn(written), timeIn(caught)
	return f, errors.Join(err, optional(left, &f.LeftOut), optional(foreign, &f.Foreign), optional(check, &f.Check))
}

// optional reads what may not be there.
func optional(text []byte, into any) error {
	if len(text) == 0 {
		return nil
	}
	return json.Unmarshal(text, into)
}

// Fronts lists the fronts of a namespace, or all of them when it is "", by server and share.
func (q Queries) Fronts(ctx context.Context, name string) ([]model.Front, error) {
	rows, err := q.run.QueryContext(ctx, frontColumns+` WHERE ? = '' OR n.name = ? ORDER BY v.name_key, f.share_key`, name, name)
	return collect(rows, err, scanFront)
}

// Front finds a front.
func (q Queries) Front(ctx context.Context, server, share string) (model.Front, error) {
	return one(q.run.QueryRowContext(ctx, frontColumns+` WHERE v.name_key = ? AND f.share_key = ?`, namespace.Key(server), namespace.Key(share)), scanFront,
		fault.New(fault.NotFound, "list the fronts with: bspan front list", "there is no front %s/%s", server, share))
}

// FrontSecret returns the sealed password of the account that checks a front; nil when none does.
func (q Queries) FrontSecret(ctx context.Context, id int64) (sealed []byte, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT check_secret FROM fronts WHERE id = ?`, id).Scan(&sealed)
	return sealed, err
}

// AddFront adds a front that nobody checks; its server and namespace must exist.
func (tx *Tx) AddFront(ctx context.Context, f model.Front) error {
	_, _, err := tx.exec(ctx, `INSERT INTO fronts (namespace_id, branch, server_id, share, share_key, note, leave_out_failing)
		SELECT n.id, ?, v.id, ?, ?, ?, ? FROM namespaces n, servers v WHERE n.name = ? AND v.name_key = ?`,
		[]byte(f.Branch), f.Share, namespace.Key(f.Share), f.Comment, f.LeaveOutFailing, f.Namespace, namespace.Key(f.Server))
	return taken(err, "share", "front", f.Share)
}

// UpdateFront changes the settings of a front. A nil secret leaves the old one, unless nobody checks it.
func (tx *Tx) UpdateFront(ctx context.Context, f model.Front, secret []byte) error {
	return tx.expectVersion(ctx, "front "+f.Server+"/"+f.Share, `UPDATE fronts SET branch = ?, note = ?, leave_out_failing = ?, check_domain = ?, check_account = ?, check_secret = IF(? = '', NULL, COALESCE(?, check_secret)), version = version + 1
		WHERE id = ? AND version = ?`, []byte(f.Branch), f.Comment, f.LeaveOutFailing, f.CheckDomain, f.CheckAccount, f.CheckAccount, secret, f.ID, f.Version)
}

// LeaveFront asks for a front to be written no more, or takes that back.
func (tx *Tx) LeaveFront(ctx context.Context, id int64, leaving bool) error {
	_, _, err := tx.exec(ctx, `UPDATE fronts SET leaving = ?, let_go = FALSE, version = version + 1 WHERE id = ?`, leaving, id)
	return err
}

// LetGoOfFront says that nobody writes a front that is leaving.
func (q Queries) LetGoOfFront(ctx context.Context, id int64) error {
	_, _, err := q.exec(ctx, `UPDATE fronts SET let_go = TRUE WHERE id = ? AND leaving`, id)
	return err
}

// RemoveFront removes what is known of a front.
func (tx *Tx) RemoveFront(ctx context.Context, id int64) error {
	_, _, err := tx.exec(ctx, `DELETE FROM fronts WHERE id = ?`, id)
	return err
}

// StoreFront keeps how a front is.
func (tx *Tx) StoreFront(ctx context.Context, f model.Front) error {
	left, err := json.Marshal(f.LeftOut)
	if err != nil {
		return err
	}
	foreign, err := json.Marshal(f.Foreign)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `UPDATE fronts SET state = ?, trouble = ?, since = ?, folders = ?, links = ?, left_out = ?, foreign_names = ?, written = ?, caught_up = ?, caught_up_changes = ? WHERE id = ?`,
		f.State, f.Trouble, f.Since, f.Folders, f.Links, left, foreign, f.Written, f.CaughtUp, f.CaughtUpChanges, f.ID)
	return err
}

// StoreFrontCheck keeps a check of a front.
func (q Queries) StoreFrontCheck(ctx context.Context, id int64, check model.Check) error {
	text, err := json.Marshal(check)
	if err == nil {
		_, _, err = q.exec(ctx, `UPDATE fronts SET last_check = ? WHERE id = ?`, text, id)
	}
	return err
}

// FrontsAt lists the shares of the fronts at a server.
func (q Queries) FrontsAt(ctx context.Context, server string) ([]string, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT f.share FROM fronts f JOIN servers v ON v.id = f.server_id WHERE v.name_key = ? ORDER BY f.share_key`, namespace.Key(server))
	return collect(rows, err, func(s scanner) (name string, err error) { return name, s.Scan(&name) })
}
