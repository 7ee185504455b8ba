package gateway

import (
	"context"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/lock"
)

// shelf is a state in memory that can go away.
type shelf struct {
	State
	locks []lock.Lock
	away  bool
}

func (s *shelf) GatewayLocks(_ context.Context, key string, _ time.Time) (list []lock.Lock, err error) {
	if s.away {
		return nil, fault.New(fault.Unavailable, "wait", "the database is away")
	}
	for _, l := range s.locks {
		if l.Covers(key) || lock.Below(l.Key, key) {
			list = append(list, l)
		}
	}
	return list, nil
}

func (s *shelf) AllGatewayLocks(context.Context, time.Time, int) ([]lock.Lock, error) {
	return s.locks, nil
}

// While the database is away the locks that were last seen go on counting, and
// those that ran out do not.
func TestLocksWithoutDatabase(t *testing.T) {
	long, short := time.Now().Add(time.Hour), time.Now().Add(-time.Second)
	s := &shelf{locks: []lock.Lock{{Token: "1", Key: "/g/a", Deep: true, Until: long}, {Token: "2", Key: "/g/b", Until: long}, {Token: "3", Key: "/g/c", Until: short}}}
	b := newBook(s)
	b.load(t.Context())
	around := func(key string) int {
		held, err := b.around(t.Context(), key)
		if err != nil {
			t.Errorf("around %s: %v", key, err)
		}
		return len(held)
	}
	s.away = true
	for key, want := range map[string]int{"/g/a/x": 1, "/g/b": 1, "/g": 2, "/g/b/x": 1, "/g/c": 0, "/h": 0} {
		if got := around(key); got != want {
			t.Errorf("around %s: %d locks, want %d", key, got, want)
		}
	}
	s.away, s.locks = false, s.locks[:1] // the second was given back at another gateway
	if around("/g/b") != 0 {
		t.Error("a lock that was given back is told")
	}
	s.away = true
	if around("/g/b") != 0 || around("/g/a") != 1 {
		t.Error("what was seen last does not count")
	}
}

func TestTimeout(t *testing.T) {
	for header, want := range map[string]time.Duration{"": lockUsual, "Second-60": time.Minute, "Infinite, Second-60": lockMost, "Second-4100000000": lockMost, "Second-0": time.Second, "Extend-1, Second-5": 5 * time.Second, "Second-x": lockUsual} {
		if got := timeout(header); got != want {
			t.Errorf("%q: %s, want %s", header, got, want)
		}
	}
}

func TestTokensAreTheirOwn(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		token := newToken()
		if len(token) != len("urn:uuid:")+36 || token[23] != '4' || seen[token] {
			t.Fatalf("token %s", token)
		}
		seen[token] = true
	}
}

func TestMatches(t *testing.T) {
	for header, want := range map[string]bool{`"a"`: true, `"b", "a"`: true, "*": true, `"b"`: false, `W/"a"`: false, "": false} {
		if got := matches(header, `"a"`); got != want {
			t.Errorf("%s: %v", header, got)
		}
	}
}
