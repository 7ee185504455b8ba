package gateway

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/lock"
	"bridgespan/records"
)

// State keeps what clients leave at names, for all gateways and across
// restarts: locks and properties. Keys are paths in the form in which paths
// are compared. [records.DB] is one.
type State interface {
	GatewayLocks(ctx context.Context, key string, at time.Time) ([]lock.Lock, error)
	AllGatewayLocks(ctx context.Context, at time.Time, limit int) ([]lock.Lock, error)
	TakeGatewayLock(ctx context.Context, l lock.Lock, at time.Time) error
	RefreshGatewayLock(ctx context.Context, token string, until, at time.Time) (bool, error)
	ReleaseGatewayLock(ctx context.Context, token string) (bool, error)
	ForgetGatewayName(ctx context.Context, key string) error
	GatewayProperties(ctx context.Context, key string) ([]byte, error)
	GatewayPropertiesIn(ctx context.Context, key string) (map[string][]byte, error)
	ChangeGatewayProperties(ctx context.Context, key string, change func(kept []byte) ([]byte, error)) error
	CopyGatewayProperties(ctx context.Context, from, to string, deep, moved bool) error
	KeepReplacement(ctx context.Context, r records.Replacement) (int64, error)
	SwapReplacement(ctx context.Context, id int64, placed bool, until time.Time) error
	ForgetReplacement(ctx context.Context, id int64) error
	Replacements(ctx context.Context, at time.Time, limit int) ([]records.Replacement, error)
}

// book is the locks as this gateway knows them. While the database is away the
// locks that were last seen go on counting, so that people can go on writing
// and nobody writes over a lock; new ones cannot be taken then.
type book struct {
	State
	mu   sync.Mutex
	seen map[string]lock.Lock // by token
}

// mostSeen bounds what is remembered of locks.
const mostSeen = 10000

func newBook(s State) *book { return &book{State: s, seen: map[string]lock.Lock{}} }

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// around lists the locks on a key, above it and below it.
func (b *book) around(ctx context.Context, key string) ([]lock.Lock, error) {
	at := now()
	held, err := b.GatewayLocks(ctx, key, at)
	if fault.KindOf(err) == fault.Unavailable && ctx.Err() == nil {
		slog.Warn("locks are those that were last seen, as the database is away")
		return b.remembered(key, at), nil
	}
	if err == nil {
		b.remember(key, held)
	}
	return held, err
}

func (b *book) remembered(key string, at time.Time) (list []lock.Lock) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range b.seen {
		if l.Until.After(at) && (l.Covers(key) || lock.Below(key, l.Key) || lock.Below(l.Key, key)) {
			list = append(list, l)
		}
	}
	return list
}

// remember replaces what was known of the locks around a key.
func (b *book) remember(key string, held []lock.Lock) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(held) == 0 && len(b.seen) == 0 {
		return
	}
	for token, l := range b.seen {
		if l.Key == key || lock.Below(key, l.Key) || lock.Below(l.Key, key) {
			delete(b.seen, token)
		}
	}
	for _, l := range held {
		if len(b.seen) < mostSeen {
			b.seen[l.Token] = l
		}
	}
}

// load reads the locks that are held, as at the start.
func (b *book) load(ctx context.Context) {
	held, err := b.AllGatewayLocks(ctx, now(), mostSeen)
	if err != nil {
		slog.Warn("locks could not be read; they will be when something is changed", "error", err)
		return
	}
	b.remember("/", held)
}

func (b *book) take(ctx context.Context, l lock.Lock) error {
	err := b.TakeGatewayLock(ctx, l, now())
	if err == nil {
		b.mu.Lock()
		b.seen[l.Token] = l
		b.mu.Unlock()
	}
	return err
}

func (b *book) release(ctx context.Context, token string) (bool, error) {
	was, err := b.ReleaseGatewayLock(ctx, token)
	if err == nil {
		b.mu.Lock()
		delete(b.seen, token)
		b.mu.Unlock()
	}
	return was, err
}

func (b *book) forget(ctx context.Context, key string) error {
	if len(key) > records.MostGatewayKey {
		return nil
	}
	return b.ForgetGatewayName(ctx, key)
}

// carry takes properties along when something is copied or moved.
func (b *book) carry(ctx context.Context, from, to string, deep, moved bool) error {
	if len(from) > records.MostGatewayKey || len(to) > records.MostGatewayKey {
		return nil
	}
	return b.CopyGatewayProperties(ctx, from, to, deep, moved)
}

// byWhom is the lock that forbids another one; false when err says something else.
func byWhom(err error) (lock.Lock, bool) {
	var locked *records.Locked
	if errors.As(err, &locked) {
		return locked.By, true
	}
	return lock.Lock{}, false
}
