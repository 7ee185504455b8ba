// Package events carries the news that something changed to whoever shows it.
//
// Changes write their events into the database in the same transaction; every
// instance of the service follows that table and tells its own watchers. So a
// watcher hears of changes made through any instance, and of none that was
// rolled back.
package events

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"bridgespan/model"
	"bridgespan/records"
)

// Hub follows the events of the database and hands them to watchers.
type Hub struct {
	db   *records.DB
	kick chan struct{}

	mu       sync.Mutex
	watchers map[*Watcher]struct{}
	recent   []model.Event // the last ones handed out, in order
	last     int64
}

// Topics that concern nobody in particular.
const (
	// Reset tells a watcher that it missed something and must read everything again.
	Reset = "reset"
)

const (
	followEvery = 800 * time.Millisecond // for changes by other instances, which are to be seen within a second; own changes kick
	overlap     = 256                    // numbers may appear late: a transaction that began earlier commits later
	recentMost  = 1024
	queue       = 256
)

// NewHub makes a hub; Run must be called for it to follow.
func NewHub(db *records.DB) *Hub {
	return &Hub{db: db, kick: make(chan struct{}, 1), watchers: map[*Watcher]struct{}{}}
}

// Kick makes the hub look at once, after a change by this instance.
func (h *Hub) Kick() {
	select {
	case h.kick <- struct{}{}:
	default:
	}
}

// Run follows the events until ctx ends.
func (h *Hub) Run(ctx context.Context) {
	started := false
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	clean := time.NewTicker(10 * time.Minute)
	defer clean.Stop()
	for {
		if err := h.look(ctx, &started); err != nil && ctx.Err() == nil {
			slog.Debug("events cannot be read now", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-h.kick:
		case now := <-clean.C:
			_ = h.db.ForgetEvents(ctx, now)
		}
	}
}

func (h *Hub) look(ctx context.Context, started *bool) error {
	if !*started {
		last, err := h.db.LastEvent(ctx)
		if err != nil {
			return err
		}
		// Watchers that came before could have missed what happened until now.
		h.mu.Lock()
		h.last = last
		for w := range h.watchers {
			w.offer(model.Event{ID: last, Topic: Reset})
		}
		h.mu.Unlock()
		*started = true
		return nil
	}
	events, err := h.db.Events(ctx, max(0, h.last-overlap))
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, e := range events {
		if e.ID <= h.last && (h.seen(e.ID) || len(h.recent) == 0 || e.ID < h.recent[0].ID) {
			continue
		}
		h.hand(e)
	}
	return nil
}

func (h *Hub) seen(id int64) bool {
	return slices.ContainsFunc(h.recent, func(e model.Event) bool { return e.ID == id })
}

func (h *Hub) hand(e model.Event) {
	h.last = max(h.last, e.ID)
	h.recent = append(h.recent, e)
	if len(h.recent) > recentMost {
		h.recent = slices.Clone(h.recent[len(h.recent)-recentMost/2:])
	}
	for w := range h.watchers {
		w.offer(e)
	}
}

// Watcher receives events until it is closed.
type Watcher struct {
	// C carries the events. Reset comes when the watcher was too slow.
	C    chan model.Event
	hub  *Hub
	full bool
}

// Watch begins to watch. after is the number of the last event the watcher has
// seen, 0 for none; what it missed since comes first.
func (h *Hub) Watch(after int64) *Watcher {
	w := &Watcher{C: make(chan model.Event, queue), hub: h}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.watchers[w] = struct{}{}
	if after == 0 {
		return w
	}
	if len(h.recent) == 0 && after < h.last || len(h.recent) > 0 && after < h.recent[0].ID-1 {
		w.offer(model.Event{ID: h.last, Topic: Reset})
		return w
	}
	for _, e := range h.recent {
		if e.ID > after {
			w.offer(e)
		}
	}
	return w
}

// offer never waits: a watcher that does not keep up is told to start again.
func (w *Watcher) offer(e model.Event) {
	if w.full && len(w.C) < queue/2 {
		w.full = false
		w.C <- model.Event{ID: e.ID, Topic: Reset}
	}
	select {
	case w.C <- e:
	default:
		w.full = true
	}
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.hub.mu.Lock()
	defer w.hub.mu.Unlock()
	delete(w.hub.watchers, w)
}
