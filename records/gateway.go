package records

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/lock"
	"bridgespan/core/namespace"
)

// MostGatewayKey is how long, in bytes, the key of a name may be that a client
// of a gateway locks or keeps properties at.
const MostGatewayKey = 2048

const lockColumns = `SELECT token, path, path_key, account, owner, shared, deep, until FROM gateway_locks`

func scanLock(s scanner) (l lock.Lock, err error) {
	var key []byte
	err = s.Scan(&l.Token, &l.Path, &key, &l.Account, &l.Owner, &l.Shared, &l.Deep, &l.Until)
	l.Key = string(key)
	return l, err
}

func placeholders(n int) string { return strings.TrimSuffix(strings.Repeat("?, ", n), ", ") }

// span is where the keys below a key begin and end.
func span(key string) (first, end []byte) {
	key = strings.TrimSuffix(key, "/")
	return []byte(key + "/"), []byte(key + "0") // '0' is the character after '/'
}

// GatewayLocks lists the locks at a key, at those above it, and at those below
// it, that are held at a time.
func (q Queries) GatewayLocks(ctx context.Context, key string, at time.Time) ([]lock.Lock, error) {
	above := lock.Above(key)
	first, end := span(key)
	args := []any{at, first, end}
	for _, k := range above {
		args = append(args, []byte(k))
	}
	rows, err := q.run.QueryContext(ctx, lockColumns+` WHERE until > ? AND (path_key >= ? AND path_key < ? OR path_key IN (`+placeholders(len(above))+`)) ORDER BY token`, args...)
	return collect(rows, err, scanLock)
}

// AllGatewayLocks lists the locks that are held at a time, by path.
func (q Queries) AllGatewayLocks(ctx context.Context, at time.Time, limit int) ([]lock.Lock, error) {
	rows, err := q.run.QueryContext(ctx, lockColumns+` WHERE until > ? ORDER BY path_key, token LIMIT ?`, at, limit)
	return collect(rows, err, scanLock)
}

// KeptLock is a lock as it is kept: with a number, and when it was taken.
type KeptLock struct {
	lock.Lock
	ID    int64
	Since time.Time
}

const keptLockColumns = `SELECT id, since, token, path, account, shared, deep, until FROM gateway_locks`

func scanKeptLock(s scanner) (l KeptLock, err error) {
	err = s.Scan(&l.ID, &l.Since, &l.Token, &l.Path, &l.Account, &l.Shared, &l.Deep, &l.Until)
	return l, err
}

// GatewayLocksAfter lists the locks that are held at a time and whose path or account
// contains a text, after the one that is numbered after.
func (q Queries) GatewayLocksAfter(ctx context.Context, text string, at time.Time, after int64, limit int) ([]KeptLock, error) {
	rows, err := q.run.QueryContext(ctx, keptLockColumns+` WHERE until > ? AND id > ? AND (? = '' OR INSTR(path, ?) > 0 OR INSTR(account, ?) > 0) ORDER BY id LIMIT ?`, at, after, text, text, text, limit)
	return collect(rows, err, scanKeptLock)
}

// GatewayLock finds a lock by its number.
func (q Queries) GatewayLock(ctx context.Context, id int64, at time.Time) (KeptLock, error) {
	return one(q.run.QueryRowContext(ctx, keptLockColumns+` WHERE id = ? AND until > ?`, id, at), scanKeptLock,
		fault.New(fault.NotFound, "list them again: it may have ended", "there is no lock %d", id))
}

// EndGatewayLock ends a lock, as ReleaseGatewayLock does, within a change.
func (tx *Tx) EndGatewayLock(ctx context.Context, token string) error {
	_, _, err := tx.exec(ctx, `DELETE FROM gateway_locks WHERE token = ?`, token)
	return err
}

// How many locks one account may hold, and how many one resource may bear.
const (
	MostLocksOfAccount = 1000
	MostLocksAtKey     = 100
)

// ErrTooManyLocks is returned for one lock more than these.
var ErrTooManyLocks = errors.New("too many locks")

func (tx *Tx) roomForLock(ctx context.Context, l lock.Lock) error {
	var ofAccount, atKey int
	err := tx.run.QueryRowContext(ctx, `SELECT (SELECT COUNT(*) FROM gateway_locks WHERE account = ?), (SELECT COUNT(*) FROM gateway_locks WHERE path_key = ?)`, l.Account, []byte(l.Key)).Scan(&ofAccount, &atKey)
	if err == nil && (ofAccount >= MostLocksOfAccount || atKey >= MostLocksAtKey) {
		err = fmt.Errorf("%w: %d of %s, %d at this name", ErrTooManyLocks, ofAccount, l.Account, atKey)
	}
	return err
}

// Locked is the error of a lock that another one forbids.
type Locked struct{ By lock.Lock }

func (e *Locked) Error() string { return "locked by " + e.By.Account }

// TakeGatewayLock keeps a lock, unless one that is held forbids it: then the
// error is *Locked. Locks that ran out are dropped.
func (db *DB) TakeGatewayLock(ctx context.Context, l lock.Lock, at time.Time) error {
	return db.Change(ctx, func(tx *Tx) error {
		if _, _, err := tx.exec(ctx, `UPDATE gateway_turns SET turn = turn + 1 WHERE id = 1`); err != nil {
			return err
		}
		if _, _, err := tx.exec(ctx, `DELETE FROM gateway_locks WHERE until <= ?`, at); err != nil {
			return err
		}
		held, err := tx.GatewayLocks(ctx, l.Key, at)
		if err == nil {
			err = tx.roomForLock(ctx, l)
		}
		if err != nil {
			return err
		}
		if by, conflict := lock.Conflict(held, l.Key, l.Deep, l.Shared); conflict {
			return &Locked{by}
		}
		_, _, err = tx.exec(ctx, `INSERT INTO gateway_locks (token, path_key, path, account, owner, shared, deep, until, since) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			l.Token, []byte(l.Key), l.Path, l.Account, l.Owner, l.Shared, l.Deep, l.Until, at)
		return err
	})
}

// RefreshGatewayLock lets a lock run on. It reports whether it is held.
func (db *DB) RefreshGatewayLock(ctx context.Context, token string, until, at time.Time) (held bool, err error) {
	err = db.Change(ctx, func(tx *Tx) error {
		rows, _, err := tx.exec(ctx, `UPDATE gateway_locks SET until = ? WHERE token = ? AND until > ?`, until, token, at)
		held = rows > 0
		return err
	})
	return held, err
}

// ReleaseGatewayLock gives a lock back. It reports whether it was there.
func (db *DB) ReleaseGatewayLock(ctx context.Context, token string) (was bool, err error) {
	err = db.Change(ctx, func(tx *Tx) error {
		rows, _, err := tx.exec(ctx, `DELETE FROM gateway_locks WHERE token = ?`, token)
		was = rows > 0
		return err
	})
	return was, err
}

// ForgetGatewayName drops the locks and properties at a key and below it.
func (db *DB) ForgetGatewayName(ctx context.Context, key string) error {
	return db.Change(ctx, func(tx *Tx) error { return tx.forgetGatewayName(ctx, key) })
}

func (tx *Tx) forgetGatewayName(ctx context.Context, key string) error {
	first, end := span(key)
	for _, table := range []string{"gateway_locks", "gateway_properties"} {
		if _, _, err := tx.exec(ctx, `DELETE FROM `+table+` WHERE path_key = ? OR path_key >= ? AND path_key < ?`, []byte(key), first, end); err != nil {
			return err
		}
	}
	return nil
}

// GatewayProperties are the properties kept at a key; nil when there are none.
func (q Queries) GatewayProperties(ctx context.Context, key string) (kept []byte, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT properties FROM gateway_properties WHERE path_key = ?`, []byte(key)).Scan(&kept)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return kept, unavailable(err)
}

type keptProperties struct{ key, properties []byte }

// GatewayPropertiesIn are the properties kept at the names in a folder, by key.
func (q Queries) GatewayPropertiesIn(ctx context.Context, key string) (map[string][]byte, error) {
	above := sha256.Sum256([]byte(key))
	rows, err := q.run.QueryContext(ctx, `SELECT path_key, properties FROM gateway_properties WHERE above = ?`, above[:])
	list, err := collect(rows, err, func(s scanner) (k keptProperties, err error) { return k, s.Scan(&k.key, &k.properties) })
	found := map[string][]byte{}
	for _, k := range list {
		found[string(k.key)] = k.properties
	}
	return found, err
}

// ChangeGatewayProperties replaces what is kept at a key by what change makes
// of it; nil keeps nothing.
func (db *DB) ChangeGatewayProperties(ctx context.Context, key string, change func(kept []byte) ([]byte, error)) error {
	return db.Change(ctx, func(tx *Tx) error {
		var kept []byte
		err := tx.run.QueryRowContext(ctx, `SELECT properties FROM gateway_properties WHERE path_key = ? FOR UPDATE`, []byte(key)).Scan(&kept)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return unavailable(err)
		}
		if kept, err = change(kept); err != nil {
			return err
		}
		if kept == nil {
			_, _, err = tx.exec(ctx, `DELETE FROM gateway_properties WHERE path_key = ?`, []byte(key))
			return err
		}
		return tx.putGatewayProperties(ctx, key, kept)
	})
}

func (tx *Tx) putGatewayProperties(ctx context.Context, key string, kept []byte) error {
	above := sha256.Sum256([]byte(path.Dir(key)))
	_, _, err := tx.exec(ctx, `REPLACE INTO gateway_properties (path_key, above, properties) VALUES (?, ?, ?)`, []byte(key), above[:], kept)
	return err
}

// CopyGatewayProperties makes the properties at a key, and when deep at those
// below it, those of another one too. What the other one had is dropped. When
// moved is true the first one has none afterwards, and no locks either.
func (db *DB) CopyGatewayProperties(ctx context.Context, from, to string, deep, moved bool) error {
	return db.Change(ctx, func(tx *Tx) error {
		if err := tx.dropGatewayProperties(ctx, to); err != nil {
			return err
		}
		first, end := span(from)
		rows, err := tx.run.QueryContext(ctx, `SELECT path_key, properties FROM gateway_properties WHERE path_key = ? OR ? AND path_key >= ? AND path_key < ?`, []byte(from), deep, first, end)
		list, err := collect(rows, err, func(s scanner) (k keptProperties, err error) { return k, s.Scan(&k.key, &k.properties) })
		if err != nil {
			return err
		}
		for _, k := range list {
			key := to + strings.TrimPrefix(string(k.key), from)
			if len(key) > MostGatewayKey { // no name so long can keep any
				continue
			}
			if err := tx.putGatewayProperties(ctx, key, k.properties); err != nil {
				return err
			}
		}
		if moved {
			return tx.forgetGatewayName(ctx, from)
		}
		return nil
	})
}

func (tx *Tx) dropGatewayProperties(ctx context.Context, key string) error {
	first, end := span(key)
	_, _, err := tx.exec(ctx, `DELETE FROM gateway_properties WHERE path_key = ? OR path_key >= ? AND path_key < ?`, []byte(key), first, end)
	return err
}

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
