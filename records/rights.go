package records

import (
	"context"
	"crypto/sha256"
	"fmt"
	"strings"
	"sync"

	"bridgespan/core/acl"
	"bridgespan/model"
)

// KeepDescriptor stores permissions, unless they are stored already, and
// returns their number.
func (q Queries) KeepDescriptor(ctx context.Context, d acl.Descriptor) (id int64, err error) {
	content := d.Binary()
	hash := sha256.Sum256(content)
	_, id, err = q.exec(ctx, `INSERT INTO descriptors (hash, content) VALUES (?, ?) ON DUPLICATE KEY UPDATE id = LAST_INSERT_ID(id)`, hash[:], content)
	return id, err
}

// SurveyDescriptor is what a survey saw of one set of permissions.
type SurveyDescriptor struct {
	Descriptor     acl.Descriptor
	Files, Folders int64
	Sample         string
}

// KeepSurveyDescriptors replaces what a survey saw of permissions.
func (tx *Tx) KeepSurveyDescriptors(ctx context.Context, run int64, seen []SurveyDescriptor) error {
	if _, _, err := tx.exec(ctx, `DELETE FROM survey_descriptors WHERE run_id = ?`, run); err != nil {
		return err
	}
	for _, s := range seen {
		id, err := tx.KeepDescriptor(ctx, s.Descriptor)
		if err != nil {
			return err
		}
		if _, _, err := tx.exec(ctx, `INSERT INTO survey_descriptors (run_id, descriptor_id, files, folders, sample) VALUES (?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE files = files + VALUES(files), folders = folders + VALUES(folders)`, run, id, s.Files, s.Folders, s.Sample); err != nil {
			return err
		}
	}
	return nil
}

// RightsObject is one object of a change of rights.
type RightsObject struct {
	Seq           int64
	Path          string
	Folder        bool
	Before, After acl.Descriptor
	State         string
	Trouble       string
}

// DescriptorIDs remembers the numbers of stored permissions, within bounds.
type DescriptorIDs map[acl.Descriptor]int64

// number is id as a column has it: nil for none.
func (ids DescriptorIDs) number(ctx context.Context, q Queries, d acl.Descriptor) (any, error) {
	id, err := ids.id(ctx, q, d)
	if err != nil || id == 0 {
		return nil, err
	}
	return id, nil
}

// id finds the number of permissions, which are stored when they are new; it is 0
// for none.
func (ids DescriptorIDs) id(ctx context.Context, q Queries, d acl.Descriptor) (int64, error) {
	if d.IsZero() {
		return 0, nil
	}
	if id, known := ids[d]; known {
		return id, nil
	}
	id, err := q.KeepDescriptor(ctx, d)
	if err == nil && len(ids) < mostDescriptors {
		ids[d] = id
	}
	return id, err
}

// numbers is id for whoever knows nothing of databases.
func (ids DescriptorIDs) numbers(ctx context.Context, q Queries) func(acl.Descriptor) (int64, error) {
	return func(d acl.Descriptor) (int64, error) { return ids.id(ctx, q, d) }
}

// mostDescriptors bounds how many permissions are remembered.
const mostDescriptors = 10_000

// descriptors remembers stored permissions by their numbers, within bounds. The zero
// value knows of none.
type descriptors struct {
	mu   sync.Mutex
	byID map[int64]acl.Descriptor
}

// numbered reads the permissions that have a number.
func (k *descriptors) numbered(ctx context.Context, q Queries, id int64) (acl.Descriptor, error) {
	k.mu.Lock()
	d, known := k.byID[id]
	k.mu.Unlock()
	if known {
		return d, nil
	}
	d, err := one(q.run.QueryRowContext(ctx, `SELECT content FROM descriptors WHERE id = ?`, id), func(s scanner) (acl.Descriptor, error) {
		var content []byte
		if err := s.Scan(&content); err != nil {
			return acl.Descriptor{}, err
		}
		return acl.FromBinary(content)
	}, fmt.Errorf("permissions number %d are not stored", id))
	if err != nil {
		return d, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.byID == nil || len(k.byID) >= mostDescriptors {
		k.byID = map[int64]acl.Descriptor{}
	}
	k.byID[id] = d
	return d, nil
}

// values gathers the rows of one INSERT.
type values struct {
	places strings.Builder
	args   []any
}

func (v *values) add(row ...any) {
	if len(v.args) > 0 {
		v.places.WriteString(", ")
	}
	v.places.WriteString("(?" + strings.Repeat(", ?", len(row)-1) + ")")
	v.args = append(v.args, row...)
}

// into inserts the rows; none is fine.
func (v *values) into(ctx context.Context, tx *Tx, table string) error {
	if len(v.args) == 0 {
		return nil
	}
	_, _, err := tx.exec(ctx, `INSERT INTO `+table+` VALUES `+v.places.String(), v.args...)
	return err
}

// replacing inserts the rows, or puts them in the place of those with their keys.
func (v *values) replacing(ctx context.Context, tx *Tx, table string) error {
	if len(v.args) == 0 {
		return nil
	}
	_, _, err := tx.exec(ctx, `REPLACE INTO `+table+` VALUES `+v.places.String(), v.args...)
	return err
}

// AddRightsObjects plans objects of a change of rights. ids remembers the
// numbers of descriptors from call to call.
func (tx *Tx) AddRightsObjects(ctx context.Context, run int64, objects []RightsObject, ids DescriptorIDs) error {
	var rows values
	for _, o := range objects {
		before, err := ids.number(ctx, tx.Queries, o.Before)
		if err != nil {
			return err
		}
		after, err := ids.number(ctx, tx.Queries, o.After)
		if err != nil {
			return err
		}
		rows.add(run, o.Seq, o.Path, o.Folder, before, after, "planned")
	}
	return rows.into(ctx, tx, `rights_objects (run_id, seq, path, folder, before_id, after_id, state)`)
}

// ForgetRightsObjects removes the plan of a change that is planned anew.
func (tx *Tx) ForgetRightsObjects(ctx context.Context, run int64) error {
	_, _, err := tx.exec(ctx, `DELETE FROM rights_objects WHERE run_id = ?`, run)
	return err
}

// RightsObjects lists objects of a change after a number, in one of the states
// given, in order or backwards.
func (q Queries) RightsObjects(ctx context.Context, run, after int64, backwards bool, limit int, states ...string) ([]RightsObject, error) {
	where, order := ` AND o.seq > ?`, ` ORDER BY o.seq`
	if backwards {
		where, order = ` AND o.seq < ?`, ` ORDER BY o.seq DESC`
	}
	args := []any{run, after}
	if len(states) > 0 {
		where += ` AND o.state IN (?` + strings.Repeat(`, ?`, len(states)-1) + `)`
		for _, s := range states {
			args = append(args, s)
		}
	}
	rows, err := q.run.QueryContext(ctx, `SELECT o.seq, o.path, o.folder, b.content, a.content, o.state, o.trouble FROM rights_objects o
		JOIN descriptors b ON b.id = o.before_id JOIN descriptors a ON a.id = o.after_id WHERE o.run_id = ?`+where+order+` LIMIT ?`, append(args, limit)...)
	return collect(rows, err, func(s scanner) (o RightsObject, err error) {
		var before, after []byte
		if err = s.Scan(&o.Seq, &o.Path, &o.Folder, &before, &after, &o.State, &o.Trouble); err != nil {
			return o, err
		}
		if o.Before, err = acl.FromBinary(before); err == nil {
			o.After, err = acl.FromBinary(after)
		}
		return o, err
	})
}

// MarkRightsObject keeps how an object of a change came out.
func (q Queries) MarkRightsObject(ctx context.Context, run, seq int64, state, trouble string) error {
	_, _, err := q.exec(ctx, `UPDATE rights_objects SET state = ?, trouble = ? WHERE run_id = ? AND seq = ?`, state, strings.ToValidUTF8(trouble[:min(len(trouble), 500)], ""), run, seq)
	return err
}

// RightsCounts counts the objects of a change by state.
func (q Queries) RightsCounts(ctx context.Context, run int64) (c model.RightsCounts, err error) {
	rows, err := q.run.QueryContext(ctx, `SELECT state, COUNT(*) FROM rights_objects WHERE run_id = ? GROUP BY state`, run)
	_, err = collect(rows, err, func(s scanner) (struct{}, error) {
		var state string
		var n int64
		err := s.Scan(&state, &n)
		switch state {
		case "planned":
			c.Planned = n
		case "done":
			c.Done = n
		case "failed":
			c.Failed = n
		case "undone":
			c.Undone = n
		}
		return struct{}{}, err
	})
	return c, err
}

// RightsDifference is where permissions differ: one of the two is zero when the
// path is missing there.
type RightsDifference struct {
	Seq           int64
	Path          string
	Folder        bool
	First, Second acl.Descriptor
	Unread        string // why it could not be read at one of both
}

// AddRightsDifferences adds what a comparison found. ids remembers the numbers
// of descriptors from call to call.
func (tx *Tx) AddRightsDifferences(ctx context.Context, run int64, found []RightsDifference, ids DescriptorIDs) error {
	var rows values
	for _, d := range found {
		first, err := ids.number(ctx, tx.Queries, d.First)
		if err != nil {
			return err
		}
		second, err := ids.number(ctx, tx.Queries, d.Second)
		if err != nil {
			return err
		}
		rows.add(run, d.Seq, d.Path, d.Folder, first, second, d.Unread)
	}
	return rows.into(ctx, tx, `rights_differences (run_id, seq, path, folder, first_id, second_id, unread)`)
}

// ForgetRightsDifferences removes what a comparison found from a number on: it
// will be found again.
func (tx *Tx) ForgetRightsDifferences(ctx context.Context, run, from int64) error {
	_, _, err := tx.exec(ctx, `DELETE FROM rights_differences WHERE run_id = ? AND seq >= ?`, run, from)
	return err
}

// RightsDifferences lists what a comparison found after a number, in the order
// of the paths, with part in the path unless it is "".
func (q Queries) RightsDifferences(ctx context.Context, run, after int64, part string, limit int) ([]RightsDifference, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT d.seq, d.path, d.folder, d.unread, a.content, b.content FROM rights_differences d
		LEFT JOIN descriptors a ON a.id = d.first_id LEFT JOIN descriptors b ON b.id = d.second_id
		WHERE d.run_id = ? AND d.seq > ? AND (? = '' OR LOCATE(LOWER(?), LOWER(CONVERT(d.path USING utf8mb4))) > 0) ORDER BY d.seq LIMIT ?`,
		run, after, part, strings.ToValidUTF8(part, "?"), limit)
	return collect(rows, err, func(s scanner) (d RightsDifference, err error) {
		var first, second []byte
		if err = s.Scan(&d.Seq, &d.Path, &d.Folder, &d.Unread, &first, &second); err != nil {
			return d, err
		}
		if d.First, err = readDescriptor(first); err == nil {
			d.Second, err = readDescriptor(second)
		}
		return d, err
	})
}

// readDescriptor reads permissions; those of nothing are zero.
func readDescriptor(content []byte) (acl.Descriptor, error) {
	if content == nil {
		return acl.Descriptor{}, nil
	}
	return acl.FromBinary(content)
}
