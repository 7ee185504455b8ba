package records

import (
	"context"
	"strings"

	"bridgespan/core/verify"
)

// Finding is a difference that a verification found at a replica.
type Finding struct {
	Seq     int64
	Replica string
	verify.Difference
}

// AddFindings adds what a verification found.
func (tx *Tx) AddFindings(ctx context.Context, run int64, found []Finding) error {
	var rows bulk
	for _, f := range found {
		rows.add(run, f.Seq, f.Replica, []byte(f.Path), f.Kind, short(f.First, 60_000), short(f.Second, 60_000), f.Explained, f.Overdue, short(f.Why, 255))
	}
	return rows.replacing(ctx, tx, `verify_findings (run_id, seq, replica, path, kind, first_text, second_text, explained, overdue, why)`)
}

// ForgetFindings removes what a verification found from a number on: it will be
// found again.
func (tx *Tx) ForgetFindings(ctx context.Context, run, from int64) error {
	_, _, err := tx.exec(ctx, `DELETE FROM verify_findings WHERE run_id = ? AND seq >= ?`, run, from)
	return err
}

// ExplainFinding says of a finding why nothing is wrong with it.
func (q Queries) ExplainFinding(ctx context.Context, run, seq int64, why string) error {
	_, _, err := q.exec(ctx, `UPDATE verify_findings SET explained = TRUE, overdue = FALSE, why = ? WHERE run_id = ? AND seq = ?`, short(why, 255), run, seq)
	return err
}

// FindingsAsked says which findings are asked for; zero fields ask for all.
type FindingsAsked struct {
	After         int64
	Replica, Kind string
	Part          string // of the path
	Unexplained   bool   // those alone
	Limit         int
}

// Findings lists what a verification found, in the order in which it was.
func (q Queries) Findings(ctx context.Context, run int64, a FindingsAsked) ([]Finding, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT seq, replica, path, kind, first_text, second_text, explained, overdue, why FROM verify_findings
		WHERE run_id = ? AND seq > ? AND (? = '' OR replica = ?) AND (? = '' OR kind = ?) AND (? = '' OR LOCATE(LOWER(?), LOWER(CONVERT(path USING utf8mb4))) > 0) AND (NOT ? OR NOT explained) ORDER BY seq LIMIT ?`,
		run, a.After, a.Replica, a.Replica, a.Kind, a.Kind, a.Part, strings.ToValidUTF8(a.Part, "?"), a.Unexplained, a.Limit)
	return collect(rows, err, func(s scanner) (f Finding, err error) {
		return f, s.Scan(&f.Seq, &f.Replica, &f.Path, &f.Kind, &f.First, &f.Second, &f.Explained, &f.Overdue, &f.Why)
	})
}

// Sum is the SHA-256 of a file.
type Sum struct {
	Path string
	Sum  [32]byte
}

// AddSums keeps the hashes of what a verification read.
func (tx *Tx) AddSums(ctx context.Context, run int64, sums []Sum) error {
	var rows bulk
	for _, s := range sums {
		rows.add(run, folderOf(s.Path), []byte(s.Path), s.Sum[:])
	}
	return rows.replacing(ctx, tx, `verify_sums (run_id, path_hash, path, sum)`)
}

// EachSum calls each with the hashes of what a verification read, until it
// returns an error.
func (q Queries) EachSum(ctx context.Context, run int64, each func(Sum) error) error {
	rows, err := q.run.QueryContext(ctx, `SELECT path, sum FROM verify_sums WHERE run_id = ? ORDER BY path`, run)
	if err != nil {
		return unavailable(err)
	}
	defer rows.Close()
	for rows.Next() {
		var s Sum
		var sum []byte
		if err := rows.Scan(&s.Path, &sum); err != nil {
			return err
		}
		copy(s.Sum[:], sum)
		if err := each(s); err != nil {
			return err
		}
	}
	return unavailable(rows.Err())
}
