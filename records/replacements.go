package records

import (
	"context"
	"time"

	"bridgespan/core/namespace"
)

// Replacement is a folder that a gateway puts another one in the place of. All names are
// below the target.
type Replacement struct {
	ID     int64
	Target namespace.Target
	Final  string // the name of both
	Aside  string // where what was there is put meanwhile
	// Incoming is where what takes its place is before; Copied says that it was copied
	// there for that, and is nobody's else.
	Incoming string
	Copied   bool
	Placed   bool      // it is in its place: the old folder can go
	Until    time.Time // when another gateway may finish it
}

// KeepReplacement keeps a replacement before it begins, and returns its number.
func (q Queries) KeepReplacement(ctx context.Context, r Replacement) (int64, error) {
	_, id, err := q.exec(ctx, `INSERT INTO gateway_replacements (server, share, sub, final, aside, incoming, copied, until) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Target.Server, r.Target.Share, []byte(r.Target.Sub), []byte(r.Final), []byte(r.Aside), []byte(r.Incoming), r.Copied, r.Until)
	return id, err
}

// SwapReplacement notes that the folders are about to change places, or with placed that
// they have, and until when whoever does so has time for it.
func (q Queries) SwapReplacement(ctx context.Context, id int64, placed bool, until time.Time) error {
	_, _, err := q.exec(ctx, `UPDATE gateway_replacements SET placed = ?, until = ? WHERE id = ?`, placed, until, id)
	return err
}

// ForgetReplacement forgets a replacement that is over.
func (q Queries) ForgetReplacement(ctx context.Context, id int64) error {
	_, _, err := q.exec(ctx, `DELETE FROM gateway_replacements WHERE id = ?`, id)
	return err
}

// Replacements lists those that should be over at a time, the oldest first.
func (q Queries) Replacements(ctx context.Context, at time.Time, limit int) ([]Replacement, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id, server, share, sub, final, aside, incoming, copied, placed, until FROM gateway_replacements WHERE until < ? ORDER BY id LIMIT ?`, at, limit)
	return collect(rows, err, func(s scanner) (r Replacement, err error) {
		var sub, final, aside, incoming []byte
		err = s.Scan(&r.ID, &r.Target.Server, &r.Target.Share, &sub, &final, &aside, &incoming, &r.Copied, &r.Placed, &r.Until)
		r.Target.Sub, r.Final, r.Aside, r.Incoming = string(sub), string(final), string(aside), string(incoming)
		return r, err
	})
}
