package worker

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

func TestWarmth(t *testing.T) {
	w := hotFolders{began: time.Now()}
	w.add("busy", 8)
	w.add("calm", 1)
	w.add("busy", 3)
	if got := w.hottest(); !slices.Equal(got, []string{"busy", "calm"}) {
		t.Errorf("the hottest are %v", got)
	}
	w.began = w.began.Add(-5 * halfLife) // they fade
	if got := w.hottest(); !slices.Equal(got, []string{"busy"}) {
		t.Errorf("after a while the hottest are %v", got)
	}
	for i := range 2 * mostHot {
		w.add(fmt.Sprint("folder ", i), 1)
	}
	if len(w.folders) > mostHot || len(w.hottest()) != hotTogether {
		t.Errorf("%d are remembered, %d looked at together", len(w.folders), len(w.hottest()))
	}
}

// Where people change something is looked at all over sooner, and less and less often
// when they do no more.
func TestNextShare(t *testing.T) {
	var share time.Duration
	for i, c := range []struct {
		changed int64
		want    time.Duration
	}{{100, 4}, {0, 8}, {0, 16}, {0, 20}, {0, 20}, {1, 4}, {3, 4}} {
		if share = nextShare(share, c.changed); share != c.want {
			t.Errorf("after look %d the pause is %d times as long, want %d", i, share, c.want)
		}
	}
	if share := nextShare(0, 0); share != 4 {
		t.Errorf("after a first look that found nothing: %d", share)
	}
}

// Where nothing changes, looks become seldom; a change makes them frequent again.
func TestHotFoldersRest(t *testing.T) {
	var w hotFolders
	w.add("a", 1)
	for since, want := range map[time.Duration]time.Duration{0: hotPause, 2 * time.Minute: 5 * time.Second, time.Hour: mostResting} {
		w.changed = time.Now().Add(-since)
		if rest := w.rest(); rest.Round(time.Second/10) != want {
			t.Errorf("%v after a change: %v", since, rest)
		}
	}
	if w.add("b", 1); w.rest() != hotPause {
		t.Error("a change does not make looks frequent again")
	}
}
