package records

import (
	"context"
	"strings"

	"bridgespan/core/acl"
)

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
