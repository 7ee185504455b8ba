package access

import (
	"container/list"
	"context"
	"crypto/sha256"
	"math"
	"sync"
	"time"

	"bridgespan/core/fault"
)

// Throttle slows down the guessing of passwords: after a few failures in a row for one
// name from one address, and after many for whatever names from one address, the next try
// must wait, longer each time. A try is reserved before it is judged, so that many at once
// are no more than many in a row. The zero value is ready to use.
type Throttle struct {
	// AtOnce is how many tries from one address are judged at a time, and Queue how many
	// more may wait for that; 0 is no bound. Without them, who sends many tries at once
	// holds up everybody else.
	AtOnce, Queue int

	mu    sync.Mutex
	known map[[32]byte]*failures // by a hash: what is sent here is not kept
	used  list.List              // of *failures, the one that was used last at the end
}

// failures are those of one name from one address, or of one address.
type failures struct {
	key     [32]byte
	place   *list.Element
	limit   limit
	count   int
	pending int // tries that are being judged
	waiting int // tries that wait until fewer are
	until   time.Time
	last    time.Time
	proven  [32]byte      // the hash of a password that was right; it is not held up by guesses
	ended   chan struct{} // closed when a try ends; nil while nobody waits for that
}

// limit is how many failures are free, and how long the waits become.
type limit struct {
	free    int
	longest time.Duration
}

var (
	ofName    = limit{5, 5 * time.Minute}
	ofAddress = limit{50, 30 * time.Second}
)

const (
	forgetAfter = 15 * time.Minute
	mostTracked = 20_000
	mostPassed  = 100 // how many are looked at for one to be forgotten
)

// Try is a try that is being judged. One of Failed, Succeeded and Abandon must be called.
type Try struct {
	throttle      *Throttle
	name, address *failures // nil when the password is a proven one, or the try has ended
	proof         *failures // those of the name, when it is
	secret        [32]byte
	now           func() time.Time
}

// Begin reserves a try to sign in with a name and a password from an address. It waits
// while as many are being judged as are free, and returns a fault when the try must come
// later.
func (t *Throttle) Begin(ctx context.Context, name, address, password string) (*Try, error) {
	return t.begin(ctx, name, address, password, time.Now)
}

func (t *Throttle) begin(ctx context.Context, name, address, password string, now func() time.Time) (*Try, error) {
	for {
		try, wait, err := t.reserve(name, address, password, now)
		if wait == nil {
			return try, err
		}
		select {
		case <-ctx.Done():
		case <-wait:
		}
		t.waited(address)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
}

// waited notes that a try from an address waits no more.
func (t *Throttle) waited(address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if f := t.known[hashed("address", address)]; f != nil && f.waiting > 0 {
		f.waiting--
	}
}

// reserve reserves a try, or returns what to wait for before it is tried again.
func (t *Throttle) reserve(name, address, password string, now func() time.Time) (*Try, <-chan struct{}, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	try := &Try{throttle: t, secret: hashed("password", password), now: now}
	key := hashed("name", name, address)
	if f := t.known[key]; f != nil && f.proven == try.secret && now().Sub(f.last) < forgetAfter {
		try.proof = f
		return try, nil, nil
	}
	var err error
	if try.address, err = t.of(hashed("address", address), ofAddress, now()); err != nil {
		return nil, nil, err
	}
	if try.name, err = t.of(key, ofName, now()); err != nil {
		return nil, nil, err
	}
	for _, f := range []*failures{try.name, try.address} {
		if wait := f.until.Sub(now()); wait > 0 {
			return nil, nil, fault.New(fault.Throttled, "wait, or ask an administrator for a new password",
				"too many failed sign-ins; the next is possible in %d s", int(math.Ceil(wait.Seconds())))
		}
		full := f == try.address && t.AtOnce > 0 && f.pending >= t.AtOnce
		if f.pending == 0 || !full && f.count+f.pending < f.limit.free {
			continue
		}
		if t.Queue > 0 && try.address.waiting >= t.Queue {
			return nil, nil, fault.New(fault.Throttled, "wait a moment", "too many sign-ins from your address are under way")
		}
		if f.ended == nil {
			f.ended = make(chan struct{})
		}
		try.address.waiting++
		return nil, f.ended, nil
	}
	try.name.pending++
	try.address.pending++
	return try, nil, nil
}

func hashed(parts ...string) [32]byte {
	h := sha256.New()
	for _, p := range parts {
		sum := sha256.Sum256([]byte(p)) // of one length each, so that none runs into the next
		h.Write(sum[:])
	}
	return [32]byte(h.Sum(nil))
}

// of are the failures of a key. Where there is no room for it, it must wait: who is made
// to wait now is not forgotten for others.
func (t *Throttle) of(key [32]byte, l limit, now time.Time) (*failures, error) {
	f := t.known[key]
	if f == nil {
		if len(t.known) >= mostTracked && !t.forgetOne(now) {
			return nil, fault.New(fault.Throttled, "wait a minute", "too many failed sign-ins by too many")
		}
		f = &failures{key: key, limit: l}
		f.place = t.used.PushBack(f)
		if t.known == nil {
			t.known = map[[32]byte]*failures{}
		}
		t.known[key] = f
	}
	t.used.MoveToBack(f.place)
	if now.Sub(f.last) > forgetAfter {
		f.count = 0
	}
	return f, nil
}

// forgetOne forgets the failures that were used longest ago, of those that nobody has to
// wait for.
func (t *Throttle) forgetOne(now time.Time) bool {
	passed := 0
	for e := t.used.Front(); e != nil && passed < mostPassed; e = e.Next() {
		f := e.Value.(*failures)
		if f.pending == 0 && f.waiting == 0 && !f.until.After(now) {
			t.used.Remove(e)
			delete(t.known, f.key)
			return true
		}
		passed++
	}
	return false
}

// Failed notes that the password was wrong.
func (try *Try) Failed() {
	try.end(func(f *failures) {
		f.count, f.last = f.count+1, try.now()
		if f == try.proof {
			f.proven = [32]byte{}
		}
		if over := f.count - f.limit.free; over >= 0 {
			f.until = f.last.Add(min(f.limit.longest, time.Second<<min(over, 16)))
		}
	})
}

// Succeeded notes that the password was right: that name has no failures then. Those of
// the address stay, or who has one right password could guess the others.
func (try *Try) Succeeded() {
	try.end(func(f *failures) {
		if f == try.name {
			f.count, f.until, f.last, f.proven = 0, time.Time{}, try.now(), try.secret
		}
	})
}

// Abandon notes that the password was not judged. After Failed or Succeeded it does
// nothing.
func (try *Try) Abandon() { try.end(func(*failures) {}) }

func (try *Try) end(note func(*failures)) {
	try.throttle.mu.Lock()
	defer try.throttle.mu.Unlock()
	if try.proof != nil {
		note(try.proof) // it was right before
	}
	for _, f := range []*failures{try.name, try.address} {
		if f == nil {
			continue
		}
		note(f)
		f.pending--
		if f.ended != nil {
			close(f.ended)
			f.ended = nil
		}
	}
	try.name, try.address, try.proof = nil, nil, nil
}
