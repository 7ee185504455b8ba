package events

import (
	"testing"
	"time"

	"bridgespan/model"
	"bridgespan/standin/standintest"
)

func next(t *testing.T, w *Watcher) model.Event {
	t.Helper()
	select {
	case e := <-w.C:
		return e
	case <-time.After(10 * time.Second):
		t.Fatal("no event came")
		return model.Event{}
	}
}

func TestHub(t *testing.T) {
	db, _ := standintest.Records(t)
	ctx := t.Context()
	tell := func(subject string) {
		t.Helper()
		if err := db.Tell(ctx, "site", subject, time.Now().UTC()); err != nil {
			t.Fatal(err)
		}
	}
	tell("before the start")
	h := NewHub(db)
	early := h.Watch(0)
	go h.Run(ctx)
	if e := next(t, early); e.Topic != Reset {
		t.Errorf("a watcher from before the start hears %+v", e)
	}
	for _, subject := range []string{"one", "two", "three"} {
		tell(subject)
		h.Kick()
		if e := next(t, early); e.Subject != subject {
			t.Errorf("%+v, want %s", e, subject)
		}
	}
	// Whoever comes back hears what it missed, once.
	late := h.Watch(h.recent[0].ID)
	if a, b := next(t, late), next(t, late); a.Subject != "two" || b.Subject != "three" {
		t.Errorf("missed events %+v, %+v", a, b)
	}
	// Whoever was away for too long is told to read everything again.
	if e := next(t, h.Watch(-5)); e.Topic != Reset {
		t.Errorf("after a long absence: %+v", e)
	}
}

// A watcher that does not keep up misses events, and is told so.
func TestSlowWatcher(t *testing.T) {
	h := &Hub{watchers: map[*Watcher]struct{}{}}
	w := h.Watch(0)
	for i := range queue + 50 {
		h.hand(model.Event{ID: int64(i + 1), Topic: "site"})
	}
	for range queue {
		next(t, w)
	}
	h.hand(model.Event{ID: 1000, Topic: "site"})
	if e := next(t, w); e.Topic != Reset {
		t.Errorf("after missing events: %+v", e)
	}
	if e := next(t, w); e.ID != 1000 {
		t.Errorf("then: %+v", e)
	}
	w.Close()
	if len(h.watchers) != 0 {
		t.Error("a closed watcher is kept")
	}
}
