package replicas

import (
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/model"
)

func weekOf(t *testing.T, text string) calendar.Week {
	t.Helper()
	w, err := calendar.Parse("calendar", text)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// In the bubble it is midnight on a Saturday, in UTC.
func TestGate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		time.Local = time.UTC
		var open *gate
		if _, closed := open.closed(time.Now()); closed || open.reader(t.Context(), nil) != nil {
			t.Error("no gate is closed")
		}
		began := time.Now()
		night := newGate(weekOf(t, "off; 5-6 8"))
		if until, closed := night.closed(began); !closed || !until.Equal(began.Add(5*time.Hour)) {
			t.Errorf("closed until %v, %v", until, closed)
		}
		time.Sleep(5 * time.Hour)
		if _, closed := night.closed(time.Now()); closed {
			t.Error("it does not open")
		}
		// 8 Mbit/s are a megabyte a second.
		began = time.Now()
		n, err := io.Copy(io.Discard, night.reader(t.Context(), strings.NewReader(strings.Repeat("x", 10_000_000))))
		if took := time.Since(began); err != nil || n != 10_000_000 || took < 9*time.Second || took > 11*time.Second {
			t.Errorf("%d bytes took %v, %v", n, took, err)
		}
		if until, closed := newGate(weekOf(t, "off")).closed(time.Now()); !closed || !until.IsZero() {
			t.Errorf("what is never open is closed until %v, %v", until, closed)
		}
	})
}

func TestGateBetween(t *testing.T) {
	set := &model.ReplicaSet{Calendar: "full", Replicas: []model.Replica{{ID: 1}, {ID: 2}, {ID: 3}}, Lanes: []model.Lane{{FromID: 1, ToID: 2, Calendar: "off"}, {FromID: 3, ToID: 1, Closed: true}}}
	for name, c := range map[string]struct {
		from, to int64
		closed   bool
	}{
		"its own":          {1, 2, true},
		"closed by hand":   {1, 3, true},
		"that of the set":  {2, 3, false},
		"of the way there": {2, 1, true},
	} {
		if _, closed := gateBetween(set, c.from, c.to).closed(time.Now()); closed != c.closed {
			t.Errorf("%s: %v", name, closed)
		}
	}
}
