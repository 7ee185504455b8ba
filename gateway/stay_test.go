package gateway

import (
	"testing"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

func TestStays(t *testing.T) {
	direction := func(server string, usable bool) namespace.Direction {
		return namespace.Direction{Location: namespace.Location{Server: server, Share: "x"}, Usable: usable}
	}
	near, far := direction("near", true), direction("far", true)
	away := direction("near", false)
	s, now := newStays(), time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)
	d := model.Directions{Signpost: "/n/a", TTL: 60, Returns: "later", Directions: []namespace.Direction{near, far}}
	first := func(account string, at time.Time, list ...namespace.Direction) string {
		d.Directions = list
		return s.arrange(account, d, at)[0].Server
	}
	if got := first("ada", now, near, far); got != "near" {
		t.Errorf("before anything: %s", got)
	}
	s.led("ada", d, far.Target(), now) // near was away
	for _, c := range []struct {
		what, account string
		after         time.Duration
		list          []namespace.Direction
		want          string
	}{
		{"near is well again", "ada", 10 * time.Second, []namespace.Direction{near, far}, "far"},
		{"somebody else", "ben", 10 * time.Second, []namespace.Direction{near, far}, "near"},
		{"far is away", "ada", 10 * time.Second, []namespace.Direction{near, direction("far", false)}, "near"},
		{"near is still away", "ada", 10 * time.Second, []namespace.Direction{far, away}, "far"},
		{"directions ran out", "ada", 61 * time.Second, []namespace.Direction{near, far}, "near"},
	} {
		if got := first(c.account, now.Add(c.after), c.list...); got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
	// Being led there again does not make the stay longer.
	s.led("ada", d, far.Target(), now.Add(50*time.Second))
	if got := first("ada", now.Add(61*time.Second), near, far); got != "near" {
		t.Errorf("after a longer stay: %s", got)
	}
	d.Returns = "at-once"
	if got := first("ada", now.Add(time.Second), near, far); got != "near" {
		t.Errorf("at once: %s", got)
	}
}
