package gateway

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// Lives of sessions with file servers.
const (
	idleMost   = 5 * time.Minute // an unused session is closed
	sessionAge = 5 * time.Minute // an older one is replaced: its account may have changed
	dialMost   = 4 * time.Second // a server that takes longer is passed over
)

// pool keeps sessions with file servers open between requests, each for one
// person at one server, so that a person signs in there once.
type pool struct {
	servers  Servers
	age      time.Duration // of a session, at most
	refusals refusals

	mu   sync.Mutex
	kept map[poolKey]*kept
	done chan struct{}
}

// poolKey holds a hash of the password: a changed one makes another session.
type poolKey struct {
	hostPort, domain, account string
	unsigned                  bool
	password                  [32]byte
}

// kept is one session; ready is closed when session and err are set.
type kept struct {
	ready   chan struct{}
	session endpoint.Endpoint
	err     error

	mu    sync.Mutex
	trees map[string]tree.Tree

	begun time.Time

	// Under the pool's lock:
	used    time.Time
	users   int
	dropped bool // out of the pool; whoever gives it back last closes it
}

func newPool(servers Servers, age time.Duration) *pool {
	p := &pool{servers: servers, age: age, kept: map[poolKey]*kept{}, done: make(chan struct{})}
	guard.Go(p.sweep)
	return p
}

// at is the person at a server: somebody who names no domain is of the server's.
func (who person) at(l namespace.Listener) person {
	if who.domain == "" {
		who.domain = l.Domain
	}
	return who
}

func keyOf(listens namespace.Listener, who person) poolKey {
	who = who.at(listens)
	return poolKey{listens.HostPort, who.domain, namespace.Key(who.account), listens.Unsigned, sha256.Sum256([]byte(who.password))}
}

// borrow returns the session of a person at a server, signing in if needed.
// The caller must give it back.
func (p *pool) borrow(ctx context.Context, listens namespace.Listener, who person) (*kept, error) {
	if p.servers.Quarantined(listens.Server) {
		return nil, tree.ErrUntrusted
	}
	key, credentials := keyOf(listens, who), refusedBy(listens, who.at(listens))
	p.mu.Lock()
	k, ok := p.kept[key]
	if ok && time.Since(k.begun) > p.age {
		p.drop(key, k)
		ok = false
	}
	if !ok {
		if p.refusals.has(credentials, time.Now()) {
			p.mu.Unlock()
			return nil, fmt.Errorf("%w, as another server of its domain has a moment ago", smb.ErrSignIn)
		}
		k = &kept{ready: make(chan struct{}), trees: map[string]tree.Tree{}, begun: time.Now(), used: time.Now()}
		p.kept[key] = k
	}
	k.users++
	p.mu.Unlock()
	if !ok {
		k.err = guard.Call(func() (err error) {
			k.session, err = p.dial(context.WithoutCancel(ctx), listens, who.at(listens))
			return err
		})
		p.refusals.note(credentials, k.err, time.Now())
		close(k.ready)
	}
	select {
	case <-k.ready:
	case <-ctx.Done():
		p.giveBack(k)
		return nil, ctx.Err()
	}
	if k.err != nil {
		p.giveBack(k)
		p.forget(key, k)
		return nil, k.err
	}
	return k, nil
}

func (p *pool) dial(ctx context.Context, l namespace.Listener, who person) (endpoint.Endpoint, error) {
	return endpoint.SMB(ctx, smb.Target{Address: l.HostPort, Domain: who.domain, Account: who.account, Password: who.password, Unsigned: l.Unsigned, Timeout: dialMost,
		Untrusted: func(why error) { p.servers.Distrust(l.Server, why) }})
}

func (p *pool) giveBack(k *kept) {
	p.mu.Lock()
	defer p.mu.Unlock()
	k.users--
	k.used = time.Now()
	k.closeIfDone()
}

// closeIfDone closes a session that is out of the pool and in nobody's hands.
func (k *kept) closeIfDone() {
	if k.dropped && k.users == 0 && k.session != nil {
		session := k.session
		k.session = nil
		guard.Go(func() { session.Close() })
	}
}

// forget takes a session out of the pool, because it is broken or refused.
func (p *pool) forget(key poolKey, k *kept) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.drop(key, k)
}

// drop is forget under the pool's lock.
func (p *pool) drop(key poolKey, k *kept) {
	if p.kept[key] == k {
		delete(p.kept, key)
	}
	k.dropped = true
	k.closeIfDone()
}

// tree opens a share, or the folder of one, over a session, once.
func (k *kept) tree(ctx context.Context, share, sub string) (tree.Tree, error) {
	key := share + "\x00" + sub
	k.mu.Lock()
	defer k.mu.Unlock()
	if t, ok := k.trees[key]; ok {
		return t, nil
	}
	t, err := k.session.Tree(ctx, share, sub)
	if err == nil {
		k.trees[key] = t
	}
	return t, err
}

// sweep closes sessions that nobody used for a while.
func (p *pool) sweep() {
	tick := time.NewTicker(idleMost / 4)
	defer tick.Stop()
	for {
		select {
		case <-p.done:
			return
		case now := <-tick.C:
			p.closeIdle(now.Add(-idleMost))
		}
	}
}

func (p *pool) closeIdle(before time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, k := range p.kept {
		if k.users == 0 && k.used.Before(before) && k.session != nil {
			delete(p.kept, key)
			k.dropped = true
			k.closeIfDone()
		}
	}
}

func (p *pool) close() {
	close(p.done)
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, k := range p.kept {
		delete(p.kept, key)
		if k.session != nil {
			k.session.Close()
		}
	}
}

// passOver reports whether err is a reason to try the next location: the
// server, not the person or the path, is at fault.
func passOver(err error) bool {
	return errors.Is(err, tree.ErrUnreachable) || errors.Is(err, smb.ErrNoShare) || errors.Is(err, context.DeadlineExceeded)
}
