package gate

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/calendar"
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

func (c *told) tell(_ context.Context, _ time.Time, closed bool) error {
	if closed {
		c.closed++
	} else {
		c.opened++
	}
	return nil
}

func TestGate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		same := func(w calendar.Week) func(context.Context) (calendar.Week, error) {
			return func(context.Context) (calendar.Week, error) { return w, nil }
		}
		var none *Gate
		if err := errors.Join(none.Await(t.Context()), none.Pass(t.Context(), 1<<30)); err != nil {
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
		g := New(week, same(week), c.tell)
		if err := g.Await(t.Context()); err != nil || time.Since(began) < 4*time.Hour || time.Since(began) > 5*time.Hour+Every || c.opened != 1 || c.closed == 0 {
			t.Errorf("it opened after %v and told %+v, %v", time.Since(began), c, err)
		}
		began = time.Now()
		n, err := io.Copy(io.Discard, tree.Paced(t.Context(), strings.NewReader(strings.Repeat("x", 10_000_000)), g.Pass))
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
		g := New(now, func(context.Context) (calendar.Week, error) { return now, nil }, c.tell)
		ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
		defer cancel()
		if err := g.Await(ctx); !errors.Is(err, context.DeadlineExceeded) || c.opened != 0 {
			t.Errorf("while it is closed: %v, %+v", err, c)
		}
		now = calendar.Always()
		began := time.Now()
		if err := g.Await(t.Context()); err != nil || time.Since(began) > Every || c.opened != 1 {
			t.Errorf("when it was opened: %v after %v, %+v", err, time.Since(began), c)
		}
	})
}
