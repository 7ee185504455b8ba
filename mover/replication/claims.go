package replication

import (
	"sync"

	"bridgespan/core/replica"
)

// claims say what somebody is at work on: of each path at a replica, either one
// who may change it, or any number who rely on it. A claim is tried and never
// waited for, so that nobody waits in a circle; what is taken is done later.
// The zero value has none.
type claims struct {
	mu   sync.Mutex
	held map[place]int // how many rely on it; changing when one may change it
}

// place is a path at a replica.
type place struct {
	replica replica.ID
	key     string
}

const changing = -1

// hold is what one piece of work has claimed.
type hold struct {
	claims *claims
	held   map[place]bool // true: to change it
}

func (e *Engine) newHold() *hold { return &hold{&e.claims, map[place]bool{}} }

// rely claims that nobody else changes what is at a path.
func (h *hold) rely(r *Replica, key string) bool { return h.claim(place{r.ID, key}, false) }

// change claims that nobody else changes what is at a path, or relies on it.
func (h *hold) change(r *Replica, key string) bool { return h.claim(place{r.ID, key}, true) }

func (h *hold) claim(p place, change bool) bool {
	changes, has := h.held[p]
	if has && (changes || !change) {
		return true
	}
	h.claims.mu.Lock()
	defer h.claims.mu.Unlock()
	if h.claims.held == nil {
		h.claims.held = map[place]int{}
	}
	n := h.claims.held[p]
	switch {
	case n == changing, change && (n > 1 || n == 1 && !has):
		return false
	case change:
		n = changing
	default:
		n++
	}
	h.claims.held[p], h.held[p] = n, change
	return true
}

// release gives back all that was claimed.
func (h *hold) release() {
	h.claims.mu.Lock()
	defer h.claims.mu.Unlock()
	for p := range h.held {
		if n := h.claims.held[p]; n > 1 {
			h.claims.held[p] = n - 1
		} else {
			delete(h.claims.held, p)
		}
	}
	clear(h.held)
}
