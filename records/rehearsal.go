package records

import (
	"context"
	"sync"

	"bridgespan/model"
)

// Rehearsal gathers the changes that would be recorded: under it every
// transaction is carried out whole, checks and all, and then taken back.
type Rehearsal struct {
	mu      sync.Mutex
	changes []model.Change
}

type rehearsalKey struct{}

// Rehearse returns a context in which nothing is kept.
func Rehearse(ctx context.Context) (context.Context, *Rehearsal) {
	r := &Rehearsal{}
	return context.WithValue(ctx, rehearsalKey{}, r), r
}

// Changes are what would have been changed, in order.
func (r *Rehearsal) Changes() []model.Change {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.changes
}

// Rehearsing reports whether changes are only rehearsed: then nothing outside of
// the records may be changed either.
func Rehearsing(ctx context.Context) bool { return rehearsalIn(ctx) != nil }

func rehearsalIn(ctx context.Context) *Rehearsal {
	r, _ := ctx.Value(rehearsalKey{}).(*Rehearsal)
	return r
}

// backTo drops what a transaction told that failed, or is tried again.
func (r *Rehearsal) backTo(told int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.changes = r.changes[:told]
}

func (r *Rehearsal) add(c model.Change) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.changes = append(r.changes, c)
}
