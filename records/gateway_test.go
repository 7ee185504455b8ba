package records_test

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/core/lock"
	"bridgespan/records"
)

func testGateway(t *testing.T, db *records.DB) {
	t.Run("Locks", func(t *testing.T) { testGatewayLocks(t, db) })
	t.Run("Bounds", func(t *testing.T) { testLockBounds(t, db) })
	t.Run("Race", func(t *testing.T) { testLockRace(t, db) })
	t.Run("Properties", func(t *testing.T) { testGatewayProperties(t, db) })
}

func testGatewayLocks(t *testing.T, db *records.DB) {
	ctx, now := t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	take := func(l lock.Lock) error {
		l.Path, l.Account = l.Key, "ada"
		if l.Until.IsZero() {
			l.Until = now.Add(time.Minute)
		}
		return db.TakeGatewayLock(ctx, l, now)
	}
	for _, l := range []lock.Lock{{Token: "t1", Key: "/g/a/b"}, {Token: "t2", Key: "/g/a", Shared: true}, {Token: "t3", Key: "/g/ab", Deep: true, Owner: "<x/>"}} {
		if err := take(l); err != nil {
			t.Fatalf("%s: %v", l.Key, err)
		}
	}
	var locked *records.Locked
	for _, l := range []lock.Lock{{Token: "n", Key: "/g/a/b"}, {Token: "n", Key: "/g", Deep: true}, {Token: "n", Key: "/g/ab/c"}, {Token: "n", Key: "/g/a"}} {
		if err := take(l); !errors.As(err, &locked) || locked.By.Account != "ada" || locked.By.Path == "" {
			t.Errorf("a second lock on %s: %v", l.Key, err)
		}
	}
	tokens := func(key string, at time.Time) string {
		held, err := db.GatewayLocks(ctx, key, at)
		if err != nil {
			t.Fatal(err)
		}
		var list []string
		for _, l := range held {
			list = append(list, l.Token)
		}
		return strings.Join(list, " ")
	}
	for key, want := range map[string]string{"/g": "t1 t2 t3", "/g/a": "t1 t2", "/g/a/b": "t1 t2", "/g/a/b/c": "t1 t2", "/g/ab": "t3", "/g/ab/x": "t3", "/h": "", "/": "t1 t2 t3", "/g/a%": ""} {
		if got := tokens(key, now); got != want {
			t.Errorf("around %s: %q, want %q", key, got, want)
		}
	}
	if got := tokens("/g", now.Add(2*time.Minute)); got != "" {
		t.Errorf("after they ran out: %q", got)
	}
	if held, err := db.RefreshGatewayLock(ctx, "t1", now.Add(time.Hour), now); err != nil || !held {
		t.Errorf("refreshed: %v, %v", held, err)
	}
	if got := tokens("/g", now.Add(2*time.Minute)); got != "t1" {
		t.Errorf("after refreshing one: %q", got)
	}
	if held, _ := db.RefreshGatewayLock(ctx, "t2", now.Add(time.Hour), now.Add(2*time.Minute)); held {
		t.Error("a lock that ran out was refreshed")
	}
	if was, err := db.ReleaseGatewayLock(ctx, "t3"); err != nil || !was {
		t.Errorf("released: %v, %v", was, err)
	}
	if was, _ := db.ReleaseGatewayLock(ctx, "t3"); was {
		t.Error("released twice")
	}
	if err := db.ForgetGatewayName(ctx, "/g/a"); err != nil || tokens("/", now) != "" {
		t.Errorf("after the folder is gone: %q, %v", tokens("/", now), err)
	}
}

// testLockRace: of many who want the same lock at the same time one gets it.
// One person, and one name, bear so many locks and no more.
func testLockBounds(t *testing.T, db *records.DB) {
	ctx, at := t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	take := func(n int, key, account string) error {
		return db.TakeGatewayLock(ctx, lock.Lock{Token: fmt.Sprint(key, account, n), Path: key, Key: key, Account: account, Shared: true, Until: at.Add(time.Hour)}, at)
	}
	for n := range records.MostLocksAtKey {
		if err := take(n, "/bounds/one", fmt.Sprint("somebody", n)); err != nil {
			t.Fatal(err)
		}
	}
	if err := take(0, "/bounds/one", "one more"); !errors.Is(err, records.ErrTooManyLocks) {
		t.Errorf("one more at a name: %v", err)
	}
	for n := range records.MostLocksOfAccount {
		if err := take(n, fmt.Sprint("/bounds/", n), "hoarder"); err != nil {
			t.Fatal(err)
		}
	}
	if err := take(0, "/bounds/last", "hoarder"); !errors.Is(err, records.ErrTooManyLocks) {
		t.Errorf("one more of a person: %v", err)
	}
	if err := take(0, "/bounds/last", "somebody else"); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	if err := db.ForgetGatewayName(ctx, "/bounds"); err != nil {
		t.Error(err)
	}
}

func testLockRace(t *testing.T, db *records.DB) {
	now := time.Now().UTC()
	var group sync.WaitGroup
	var mu sync.Mutex
	won, lost := 0, 0
	for i := range 16 {
		group.Go(func() {
			l := lock.Lock{Token: fmt.Sprint("race", i), Key: "/race/file", Path: "/race/file", Account: "ada", Until: now.Add(time.Minute)}
			if i%2 == 1 {
				l.Key, l.Deep = "/race", true
			}
			err := db.TakeGatewayLock(t.Context(), l, now)
			var locked *records.Locked
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				won++
			case errors.As(err, &locked):
				lost++
			default:
				t.Errorf("%d: %v", i, err)
			}
		})
	}
	group.Wait()
	if won != 1 || lost != 15 {
		t.Errorf("%d got the lock, %d did not", won, lost)
	}
}

func testGatewayProperties(t *testing.T, db *records.DB) {
	ctx := t.Context()
	set := func(key, value string) {
		t.Helper()
		if err := db.ChangeGatewayProperties(ctx, key, func(kept []byte) ([]byte, error) {
			if value == "" {
				return nil, nil
			}
			return append(kept, value...), nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	in := func(key string) string {
		found, err := db.GatewayPropertiesIn(ctx, key)
		if err != nil {
			t.Fatal(err)
		}
		var list []string
		for _, k := range slices.Sorted(maps.Keys(found)) {
			list = append(list, k+"="+string(found[k]))
		}
		return strings.Join(list, " ")
	}
	set("/p", "0")
	set("/p/a", "1")
	set("/p/a", "2")
	set("/p/a/x", "3")
	set("/p/ab", "4")
	if got := in("/p"); got != "/p/a=12 /p/ab=4" {
		t.Errorf("in the folder: %s", got)
	}
	refused := errors.New("refused")
	if err := db.ChangeGatewayProperties(ctx, "/p/a", func([]byte) ([]byte, error) { return []byte("lost"), refused }); !errors.Is(err, refused) || in("/p") != "/p/a=12 /p/ab=4" {
		t.Errorf("a refused change: %v, %s", err, in("/p"))
	}
	set("/q/a/old", "9")
	if err := db.CopyGatewayProperties(ctx, "/p/a", "/q/a", true, false); err != nil {
		t.Fatal(err)
	}
	if in("/q") != "/q/a=12" || in("/q/a") != "/q/a/x=3" || in("/p/a") != "/p/a/x=3" {
		t.Errorf("copied: %s, %s, %s", in("/q"), in("/q/a"), in("/p/a"))
	}
	if err := db.CopyGatewayProperties(ctx, "/p/a", "/r", false, false); err != nil || in("/") != "/p=0 /r=12" || in("/r") != "" {
		t.Errorf("copied alone: %s, %s, %v", in("/"), in("/r"), err)
	}
	if err := db.CopyGatewayProperties(ctx, "/p", "/s", true, true); err != nil || in("/p") != "" || in("/s") != "/s/a=12 /s/ab=4" || in("/s/a") != "/s/a/x=3" {
		t.Errorf("moved: %s, %s, %v", in("/p"), in("/s"), err)
	}
	set("/s/ab", "")
	if kept, err := db.GatewayProperties(ctx, "/s/ab"); err != nil || kept != nil {
		t.Errorf("removed: %q, %v", kept, err)
	}
}
