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
	few    []claim        // of most work, all that it has claimed
	first  [2]claim       // room for those
	many   map[place]bool // what else it has, true: to change it
}

type claim struct {
	place
	change bool
}

// mostFew is how many claims are looked through one by one.
const mostFew = 8

func (e *Engine) newHold() *hold {
	h := &hold{claims: &e.claims}
	h.few = h.first[:0]
	return h
}

// rely claims that nobody else changes what is at a path.
func (h *hold) rely(r *Replica, key string) bool { return h.claim(place{r.ID, key}, false) }

// change claims that nobody else changes what is at a path, or relies on it.
func (h *hold) change(r *Replica, key string) bool { return h.claim(place{r.ID, key}, true) }

// has tells what was claimed of a path.
func (h *hold) has(p place) (change, has bool) {
	for i := range h.few {
		if h.few[i].place == p {
			return h.few[i].change, true
		}
	}
	change, has = h.many[p]
	return change, has
}

func (h *hold) note(p place, change bool) {
	for i := range h.few {
		if h.few[i].place == p {
			h.few[i].change = change
			return
		}
	}
	if len(h.few) < mostFew {
		h.few = append(h.few, claim{p, change})
		return
	}
	if h.many == nil {
		h.many = map[place]bool{}
	}
	h.many[p] = change
}

func (h *hold) claim(p place, change bool) bool {
	changes, has := h.has(p)
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
	h.claims.held[p] = n
	h.note(p, change)
	return true
}

// release gives back all that was claimed.
func (h *hold) release() {
	h.claims.mu.Lock()
	defer h.claims.mu.Unlock()
	for _, c := range h.few {
		h.claims.giveBack(c.place)
	}
	for p := range h.many {
		h.claims.giveBack(p)
	}
	h.few = h.few[:0]
	clear(h.many)
}

// giveBack gives one claim back; c.mu must be held.
func (c *claims) giveBack(p place) {
	if n := c.held[p]; n > 1 {
		c.held[p] = n - 1
	} else {
		delete(c.held, p)
	}
}
