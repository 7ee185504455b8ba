package access

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/fault"
)

// guess tries a password that is wrong.
func guess(t *Throttle, name, address string, at time.Time) error {
	try, err := t.begin(context.Background(), name, address, "wrong", func() time.Time { return at })
	if err == nil {
		try.Failed()
	}
	return err
}

func TestThrottle(t *testing.T) {
	var throttle Throttle
	now := time.Unix(1000, 0)
	for i := range ofName.free {
		if err := guess(&throttle, "ada", "here", now); err != nil {
			t.Fatalf("after %d failures: %v", i, err)
		}
	}
	at := now
	for last := time.Duration(0); last < ofName.longest; {
		if fault.KindOf(guess(&throttle, "ada", "here", at)) != fault.Throttled {
			t.Fatalf("after a wait of %s another try is free", last)
		}
		f := throttle.known[hashed("name", "ada", "here")]
		wait := f.until.Sub(at)
		if wait < last || wait > ofName.longest {
			t.Fatalf("a wait of %s after one of %s", wait, last)
		}
		last, at = wait, f.until
		if err := guess(&throttle, "ada", "here", at); err != nil {
			t.Fatalf("after the wait: %v", err)
		}
	}
	for name, address := range map[string]string{"ben": "here", "ada": "there"} {
		if err := guess(&throttle, name, address, at); err != nil {
			t.Errorf("%s from %s is slowed down, too: %v", name, address, err)
		}
	}
	if err := guess(&throttle, "ada", "here", at.Add(forgetAfter+time.Hour)); err != nil {
		t.Errorf("a day later: %v", err)
	}
}

// A password that was right has its name forgiven, and is not held up by the guesses of
// others; those who share an address are not forgiven.
func TestThrottleSuccess(t *testing.T) {
	var throttle Throttle
	now := time.Unix(1000, 0)
	clock := func() time.Time { return now }
	for range ofName.free - 1 {
		_ = guess(&throttle, "ada", "here", now)
	}
	try, err := throttle.begin(t.Context(), "ada", "here", "right", clock)
	if err != nil {
		t.Fatal(err)
	}
	try.Succeeded()
	if n := throttle.known[hashed("address", "here")].count; n != ofName.free-1 {
		t.Errorf("%d failures of the address are left", n)
	}
	for range 2 * ofName.free {
		_ = guess(&throttle, "ada", "here", now)
	}
	try, err = throttle.begin(t.Context(), "ada", "here", "right", clock)
	if err != nil {
		t.Fatalf("after the guesses of others: %v", err)
	}
	try.Failed() // it was changed
	if try, err = throttle.begin(t.Context(), "ada", "here", "right", clock); fault.KindOf(err) != fault.Throttled {
		t.Errorf("a password that is right no more: %v, %v", try, err)
	}
}

// Many tries at once are no more than many in a row.
func TestThrottleAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var throttle Throttle
		var mu sync.Mutex
		judged := 0
		var all sync.WaitGroup
		for i := range 150 {
			all.Go(func() {
				try, err := throttle.Begin(t.Context(), "ada", "here", fmt.Sprint("guess ", i))
				if err != nil {
					return
				}
				mu.Lock()
				judged++
				mu.Unlock()
				time.Sleep(time.Millisecond) // of the clock of the bubble
				try.Failed()
			})
		}
		all.Wait()
		if judged != ofName.free {
			t.Errorf("%d of 150 tries at once were judged", judged)
		}
	})
}

// Who signs in well may do so as often at once as they like.
func TestThrottleLetsGoodOnesBy(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var throttle Throttle
		var all sync.WaitGroup
		for range 100 {
			all.Go(func() {
				try, err := throttle.Begin(t.Context(), "ada", "here", "right")
				if err != nil {
					t.Error(err)
					return
				}
				time.Sleep(time.Millisecond)
				try.Succeeded()
			})
		}
		all.Wait()
		ctx, stop := context.WithCancel(t.Context())
		var waits []*Try
		for range ofName.free {
			try, err := throttle.Begin(ctx, "ben", "here", "x")
			if err != nil {
				t.Fatal(err)
			}
			waits = append(waits, try)
		}
		stop()
		if _, err := throttle.Begin(ctx, "ben", "here", "x"); err != context.Canceled {
			t.Errorf("somebody who does not wait any more: %v", err)
		}
		for _, try := range waits {
			try.Abandon()
			try.Abandon()
		}
		if f := throttle.known[hashed("name", "ben", "here")]; f.pending != 0 || f.count != 0 {
			t.Errorf("after tries that nobody judged: %+v", f)
		}
	})
}

// However many names are tried, and however long they are, little is kept, and nobody who
// has to wait is forgotten.
func TestThrottleIsBounded(t *testing.T) {
	var throttle Throttle
	now := time.Unix(1000, 0)
	for range ofName.free {
		_ = guess(&throttle, "locked", "away", now)
	}
	long := strings.Repeat("x", 1<<20)
	for i := range 3 {
		_ = guess(&throttle, long+fmt.Sprint(i), "long", now)
	}
	for i := range 2 * mostTracked {
		_ = guess(&throttle, fmt.Sprint(i), fmt.Sprint("from ", i%(mostTracked/10)), now)
	}
	if len(throttle.known) > mostTracked || throttle.used.Len() != len(throttle.known) {
		t.Errorf("%d are tracked, %d in order", len(throttle.known), throttle.used.Len())
	}
	if fault.KindOf(guess(&throttle, "locked", "away", now)) != fault.Throttled {
		t.Error("a lock-out was forgotten")
	}
	for range ofAddress.free {
		_ = guess(&throttle, fmt.Sprint(len(throttle.known), time.Now().UnixNano()), "one", now)
	}
	if fault.KindOf(guess(&throttle, "anybody", "one", now)) != fault.Throttled {
		t.Error("one address may guess at as many names as it likes")
	}
}

// From one address a few tries are judged at a time, a few more wait, and the others are
// refused at once; those of other addresses do not notice.
func TestThrottleQueue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		throttle := Throttle{AtOnce: 2, Queue: 3}
		var judged, refused, most atomic.Int64
		end := make(chan struct{})
		var all sync.WaitGroup
		for i := range 20 {
			all.Go(func() {
				try, err := throttle.Begin(t.Context(), fmt.Sprint("somebody", i), "here", "wrong")
				if err != nil {
					refused.Add(1)
					return
				}
				most.Store(max(most.Load(), judged.Add(1)))
				<-end
				judged.Add(-1)
				try.Abandon()
			})
		}
		synctest.Wait()
		if judged.Load() != 2 || refused.Load() != 15 {
			t.Errorf("%d are judged, and %d were refused", judged.Load(), refused.Load())
		}
		try, err := throttle.Begin(t.Context(), "ada", "there", "right")
		if err != nil {
			t.Fatal(err)
		}
		try.Succeeded()
		// One that gives up makes room for another one.
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		if _, err := throttle.Begin(ctx, "ben", "here", "wrong"); fault.KindOf(err) != fault.Throttled {
			t.Errorf("where the queue is full: %v", err)
		}
		close(end)
		all.Wait()
		if most.Load() > 2 {
			t.Errorf("%d were judged at a time", most.Load())
		}
		if try, err = throttle.Begin(t.Context(), "ben", "here", "right"); err != nil {
			t.Fatal(err)
		}
		try.Succeeded()
	})
}
