package work

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/records"
	"bridgespan/standin/standintest"
)

// A lease is renewed for as long as it is held, by nobody else meanwhile, and can be taken
// at once when it was released.
func TestLease(t *testing.T) {
	db, _ := standintest.Records(t)
	const short = 2 * time.Second
	l, err := (&Leases{DB: db, Holder: "one", Length: short}).Take(t.Context(), "dig")
	if err != nil || l == nil {
		t.Fatal(l, err)
	}
	ctx, stop := l.Context(t.Context())
	defer stop(nil)
	renewed := 0
	for last := l.requested.Load(); renewed < 4; { // longer than it lasts without that
		if now := l.requested.Load(); now != last {
			renewed, last = renewed+1, now
		}
		other, err := (&Leases{DB: db, Holder: "two", Length: short}).Take(t.Context(), "dig")
		if err != nil || other != nil || l.Check() != nil || ctx.Err() != nil {
			t.Fatalf("it was not held: %v, %v, %v, %v", other, err, l.Check(), ctx.Err())
		}
	}
	if err := db.Tell(ctx, "test", "held", time.Now()); err != nil {
		t.Error(err)
	}
	l.Release()
	if l.Check() == nil || !errors.Is(context.Cause(ctx), ErrLost) {
		t.Errorf("after it was released: %v, %v", l.Check(), context.Cause(ctx))
	}
	next, err := (&Leases{DB: db, Holder: "two", Length: short}).Take(t.Context(), "dig")
	if err != nil || next == nil {
		t.Fatal(next, err)
	}
	defer next.Release()
	if err := db.Tell(context.WithoutCancel(ctx), "test", "late", time.Now()); !errors.Is(err, records.ErrTakenOver) {
		t.Errorf("what was left of the work writes: %v", err)
	}
}

// Leases of an instance are renewed beside each other: one under which something slow is written keeps no
// other waiting, and is renewed once that has ended.
func TestLeasesAreRenewedTogether(t *testing.T) {
	db, _ := standintest.Records(t)
	all := &Leases{DB: db, Holder: "one", Length: 2 * time.Second}
	var list []*Lease
	for _, name := range []string{"dig", "plant", "water"} {
		l, err := all.Take(t.Context(), name)
		if err != nil || l == nil {
			t.Fatal(l, err)
		}
		defer l.Release()
		list = append(list, l)
	}
	tick := time.NewTicker(time.Millisecond)
	defer tick.Stop()
	renewed := func(l *Lease) {
		t.Helper()
		for last := l.requested.Load(); l.requested.Load() == last; <-tick.C {
			if err := l.Check(); err != nil {
				t.Fatalf("%s was lost", l.kept.Name)
			}
		}
	}
	ctx, stop := list[0].Context(t.Context())
	defer stop(nil)
	if err := db.Change(ctx, func(*records.Tx) error { renewed(list[1]); renewed(list[2]); return nil }); err != nil {
		t.Error(err)
	}
	for _, l := range list {
		renewed(l)
	}
}

// When the records do not answer, the work ends before anybody else can have the lease.
func TestLeaseIsLostInTime(t *testing.T) {
	db, server := standintest.Records(t)
	const short = 2 * time.Second
	asked := time.Now()
	l, err := (&Leases{DB: db, Holder: "one", Length: short}).Take(t.Context(), "dig")
	if err != nil || l == nil {
		t.Fatal(l, err)
	}
	ctx, stop := l.Context(t.Context())
	defer stop(nil)
	server.Stop()
	<-ctx.Done()
	if took := time.Since(asked); !errors.Is(context.Cause(ctx), ErrLost) || l.Check() == nil || took > 3*short {
		t.Errorf("after %v: %v, %v", took, context.Cause(ctx), l.Check())
	}
	l.Release()
}

// Check knows that the lease ran out while this process stood still, before anything of
// it could go on.
func TestCheckGoesByTheClock(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &Lease{length: 20 * time.Second}
		l.held, l.lose = context.WithCancelCause(t.Context())
		requested := time.Now()
		l.requested.Store(&requested)
		time.Sleep(17 * time.Second)
		if err := l.Check(); err != nil {
			t.Errorf("after 17 s: %v", err)
		}
		time.Sleep(2 * time.Second)
		if err := l.Check(); !errors.Is(err, ErrLost) {
			t.Errorf("after 19 s: %v", err)
		}
	})
}

// Work that is done again and again is done by one instance at a time, goes on after a
// fault of ours, and is taken over when that instance ends.
func TestKeep(t *testing.T) {
	db, _ := standintest.Records(t)
	did := make(chan string)
	keep := func(holder string) (end func()) {
		ctx, stop := context.WithCancel(t.Context())
		done, first := make(chan struct{}), true
		go func() {
			defer close(done)
			(&Leases{DB: db, Holder: holder, Length: time.Second}).Keep(ctx, "rounds", func(ctx context.Context) time.Duration {
				select {
				case did <- holder:
				case <-ctx.Done():
				}
				if first {
					first = false
					panic("a stone was in the way")
				}
				return time.Millisecond
			})
		}()
		return func() { stop(); <-done }
	}
	end := keep("one")
	if who := <-did; who != "one" {
		t.Fatal(who)
	}
	endOther := keep("two")
	for range 5 {
		if who := <-did; who != "one" {
			t.Errorf("%s did it as well", who)
		}
	}
	end()
	for who := <-did; who != "two"; who = <-did {
		t.Errorf("%s does it still", who)
	}
	endOther()
}
