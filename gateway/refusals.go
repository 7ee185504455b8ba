package gateway

import (
	"crypto/sha256"
	"errors"
	"sync"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/tree/smb"
)

// refusals are the credentials that servers refused a short while ago. All servers of a
// domain have the same accounts: when one has refused a password, the others are not
// asked. Each would count a bad sign-in, and a few of those lock an account.
type refusals struct {
	mu     sync.Mutex
	until  map[refusedKey]time.Time
	pruned time.Time
}

// refusedKey is credentials at a domain; of accounts that are a server's own, at its address.
type refusedKey struct {
	domain, hostPort, account string
	password                  [32]byte
}

const (
	refusedFor   = 30 * time.Second
	mostRefusals = 10_000
)

func refusedBy(l namespace.Listener, who person) refusedKey {
	k := refusedKey{domain: namespace.Key(who.domain), account: namespace.Key(who.account), password: sha256.Sum256([]byte(who.password))}
	if k.domain == "" {
		k.hostPort = l.HostPort
	}
	return k
}

// has reports whether credentials were refused a short while ago.
func (r *refusals) has(k refusedKey, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return now.Before(r.until[k])
}

// note remembers that a server refused credentials. One that would have let them in as a
// guest has not asked its domain.
func (r *refusals) note(k refusedKey, err error, now time.Time) {
	if !errors.Is(err, smb.ErrSignIn) || errors.Is(err, smb.ErrGuest) {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.until) >= mostRefusals && now.Sub(r.pruned) > refusedFor/10 {
		r.pruned = now
		for old, until := range r.until {
			if !now.Before(until) {
				delete(r.until, old)
			}
		}
	}
	if r.until == nil {
		r.until = map[refusedKey]time.Time{}
	}
	if len(r.until) < mostRefusals { // beyond that the throttle holds whoever tries so much
		r.until[k] = now.Add(refusedFor)
	}
}
