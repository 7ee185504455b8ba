package estate

import (
	"testing"
	"time"
)

// A server is waited for by what it usually takes, within bounds.
func TestPatience(t *testing.T) {
	var s Service
	if got := s.patience("fern"); got != tryTimeout {
		t.Errorf("of an unknown server %v", got)
	}
	for _, c := range []struct{ took, want time.Duration }{
		{time.Millisecond, leastPatience},
		{400 * time.Millisecond, 4 * time.Second},
		{time.Millisecond, 3600 * time.Millisecond}, // what took longer counts for a while
		{3 * time.Second, tryTimeout},
	} {
		s.noteGreeting("fern", c.took)
		if got := s.patience("fern"); got != c.want {
			t.Errorf("after a greeting in %v: %v, want %v", c.took, got, c.want)
		}
	}
}
