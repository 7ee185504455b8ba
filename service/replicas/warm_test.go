package replicas

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

func TestWarmth(t *testing.T) {
	w := warmth{began: time.Now()}
	w.add("busy", 8)
	w.add("calm", 1)
	w.add("busy", 3)
	if got := w.warmest(); !slices.Equal(got, []string{"busy", "calm"}) {
		t.Errorf("the warmest are %v", got)
	}
	w.began = w.began.Add(-5 * halfLife) // they fade
	if got := w.warmest(); !slices.Equal(got, []string{"busy"}) {
		t.Errorf("after a while the warmest are %v", got)
	}
	for i := range 2 * mostWarm {
		w.add(fmt.Sprint("folder ", i), 1)
	}
	if len(w.folders) > mostWarm || len(w.warmest()) != warmTogether {
		t.Errorf("%d are remembered, %d looked at together", len(w.folders), len(w.warmest()))
	}
}
