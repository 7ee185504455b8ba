package replicas

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/model"
	"bridgespan/tree"
)

func weekOf(t *testing.T, text string) calendar.Week {
	t.Helper()
	w, err := calendar.Parse("calendar", text)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// told counts what a gate tells: how often that it is closed, and that it opened.
type told struct{ closed, opened int }

func (c *told) tell(_ time.Time, closed bool) {
	if closed {
		c.closed++
	} else {
		c.opened++
	}
}

func TestGate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		same := func(w calendar.Week) func(context.Context) (calendar.Week, error) {
			return func(context.Context) (calendar.Week, error) { return w, nil }
		}
		var none *gate
		if err := errors.Join(none.await(t.Context()), none.pass(t.Context(), 1<<30)); err != nil {
			t.Errorf("no gate: %v", err)
		}
		// Midnight in the bubble is some hour here.
		began := time.Now()
		opens := began.Local().Truncate(time.Hour).Add(5 * time.Hour)
		week := calendar.Week{}
		for h := range week {
			week[h] = calendar.Off
		}
		hour := (int(opens.Weekday())+6)%7*24 + opens.Hour()
		week[hour] = 8 // a megabyte a second
		var c told
		g := newGate(week, same(week), c.tell)
		if err := g.await(t.Context()); err != nil || time.Since(began) < 4*time.Hour || time.Since(began) > 5*time.Hour+gateEvery || c.opened != 1 || c.closed == 0 {
			t.Errorf("it opened after %v and told %+v, %v", time.Since(began), c, err)
		}
		began = time.Now()
		n, err := io.Copy(io.Discard, tree.Paced(t.Context(), strings.NewReader(strings.Repeat("x", 10_000_000)), g.pass))
		if took := time.Since(began); err != nil || n != 10_000_000 || took < 9*time.Second || took > 11*time.Second {
			t.Errorf("%d bytes took %v, %v", n, took, err)
		}
	})
}

// Somebody opens a gate that never opens by itself.
func TestGateIsOpened(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var c told
		now := weekOf(t, "off")
		g := newGate(now, func(context.Context) (calendar.Week, error) { return now, nil }, c.tell)
		ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
		defer cancel()
		if err := g.await(ctx); !errors.Is(err, context.DeadlineExceeded) || c.opened != 0 {
			t.Errorf("while it is closed: %v, %+v", err, c)
		}
		now = calendar.Always()
		began := time.Now()
		if err := g.await(t.Context()); err != nil || time.Since(began) > gateEvery || c.opened != 1 {
			t.Errorf("when it was opened: %v after %v, %+v", err, time.Since(began), c)
		}
	})
}

func TestWeekBetween(t *testing.T) {
	set := &model.ReplicaSet{Calendar: "full", Replicas: []model.Replica{{ID: 1}, {ID: 2}, {ID: 3}}, Lanes: []model.Lane{{FromID: 1, ToID: 2, Calendar: "off"}, {FromID: 3, ToID: 1, Closed: true}}}
	for name, c := range map[string]struct {
		from, to int64
		closed   bool
	}{
		"its own":           {1, 2, true},
		"closed by hand":    {1, 3, true},
		"that of the set":   {2, 3, false},
		"of the way back":   {2, 1, true},
		"of the way itself": {3, 1, true},
	} {
		week := weekBetween(set, c.from, c.to)
		if closed := week.At(time.Now()) == calendar.Off; closed != c.closed {
			t.Errorf("%s: %v", name, closed)
		}
	}
}
