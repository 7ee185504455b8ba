package replication

import (
	"slices"
	"sync"

	"bridgespan/core/replica"
)

// claims say what somebody is at work on: of each path at a replica, either one
// who may change it, or any number who rely on it. A claim is tried and never
// waited for, so that nobody waits in a circle; what is taken is done later.
//
// Lanes that are never idle would leave a scan no moment to claim what it has to
// note. So a scan that is refused a path has it awaited from then on: tasks of lanes
// are refused it, too, until a scan has looked at the folder of that path again.
// The zero value has none.
type claims struct {
	mu   sync.Mutex
	held map[place]int // how many rely on it; changing when one may change it
	// awaited are paths by the folders that they are in, each with the number of the
	// scan that was last refused it.
	awaited map[place]map[string]uint64
	scans   uint64
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
	yields bool           // it is refused what is awaited
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

// newHold is for a scan, or for another one who notes what a replica shows.
func (e *Engine) newHold() *hold {
	h := &hold{claims: &e.claims}
	h.few = h.first[:0]
	return h
}

// newTaskHold is for the task of a lane: it gives way to scans.
func (e *Engine) newTaskHold() *hold {
	h := e.newHold()
	h.yields = true
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
	case h.yields && !has && h.claims.isAwaited(p):
		return false
	case n == changing, change && (n > 1 || n == 1 && !has):
		if !h.yields {
			h.claims.await(p)
		}
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

// mostAwaited bounds how many folders have paths that are awaited. Beyond that, a scan
// tries a path that it was refused again without having lanes kept from it.
const mostAwaited = 10_000

// await notes that a scan was refused a path; c.mu must be held.
func (c *claims) await(p place) {
	folder := place{p.replica, parentKey(p.key)}
	if c.awaited[folder] == nil {
		if c.awaited == nil {
			c.awaited = map[place]map[string]uint64{}
		}
		if len(c.awaited) >= mostAwaited {
			return
		}
		c.awaited[folder] = map[string]uint64{}
	}
	c.awaited[folder][p.key] = c.scans
}

// isAwaited reports whether a scan was refused a path; c.mu must be held.
func (c *claims) isAwaited(p place) bool {
	if len(c.awaited) == 0 {
		return false
	}
	_, is := c.awaited[place{p.replica, parentKey(p.key)}][p.key]
	return is
}

// newScan is the number of a scan that begins.
func (c *claims) newScan() uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.scans++
	return c.scans
}

// lookedAt ends the waiting for paths in a folder that a scan was not refused again.
func (c *claims) lookedAt(folder place, scan uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	paths := c.awaited[folder]
	for key, last := range paths {
		if last < scan {
			delete(paths, key)
		}
	}
	if len(paths) == 0 {
		delete(c.awaited, folder)
	}
}

// allLookedAt is lookedAt for all folders of a replica.
func (c *claims) allLookedAt(id replica.ID, scan uint64) {
	for _, key := range c.awaitedIn(id) {
		c.lookedAt(place{id, key}, scan)
	}
}

// awaitedIn are the keys of the folders of a replica that have to be looked at again.
func (c *claims) awaitedIn(id replica.ID) (folders []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for folder := range c.awaited {
		if folder.replica == id {
			folders = append(folders, folder.key)
		}
	}
	slices.Sort(folders)
	return folders
}
