package replication

import (
	"context"
	"maps"
	"slices"

	"bridgespan/core/replica"
)

// A folder that was new when it was looked at waits in a backlog as a whole: one
// ticket stands for all that is right in it. It is taken away when all of that is
// done; what cannot be done now gets tickets of its own.

// wholeMost is how much may be in a folder that waits as a whole: all of it is
// carried at a time.
const wholeMost = 1000

// whole is a folder that is carried as a whole.
type whole struct {
	ticket replica.Ticket
	done   bool            // the folder itself is
	some   bool            // something in it is
	left   map[string]bool // what is in it, is not done, and has no ticket of its own
}

// unfold prepares what is right in the folder of a task that waits as a whole, at
// either end.
func (g *gathering) unfold(ctx context.Context, e *task) ([]*task, error) {
	t, saves := e.ticket, g.saves()
	there, err := g.Store.Children(ctx, g.from.ID, t.Key)
	if err != nil {
		return nil, err
	}
	var here []replica.Record
	// Nothing is known in a folder that is not there, but what was begun in it and broken
	// off: that is still to be settled.
	if !e.newFolder() || !g.known.nothingPending(g.to, t.Key) {
		if here, err = g.Store.Children(ctx, g.to.ID, t.Key); err != nil {
			return nil, err
		}
	}
	own, err := g.ownTickets(ctx, t.Key, there, here)
	if err != nil {
		return nil, err
	}
	w := &whole{ticket: t, left: map[string]bool{}}
	tickets := w.tickets(own, there, here)
	g.mu.Lock()
	if g.wholes == nil {
		g.wholes = map[string]*whole{}
	}
	g.wholes[t.Key] = w
	g.mu.Unlock()
	again := g.childrenOf(t.Key)
	tasks, _, err := g.prepare(ctx, g.missing(tickets), func(ctx context.Context, r replica.ID, keys ...string) ([]replica.Record, error) {
		switch {
		case saves != g.saves(): // they may have been others when they were claimed
			return again(ctx, r, keys...)
		case r == g.from.ID:
			return inOrder(there, keys), nil
		}
		return inOrder(here, keys), nil
	})
	return tasks, err
}

// saves are how often records of both ends were saved.
func (c *carry) saves() [2]uint64 { return [2]uint64{c.known.saved(c.from), c.known.saved(c.to)} }

// tickets are those of what is in the folder at either end: their own, or of the whole.
func (w *whole) tickets(own map[string]replica.Ticket, ends ...[]replica.Record) (tickets []replica.Ticket) {
	seen := map[string]bool{}
	for _, records := range ends {
		for i := range records {
			key := records[i].Key
			if seen[key] {
				continue
			}
			seen[key] = true
			ticket, has := own[key]
			if !has {
				ticket, w.left[key] = replica.Ticket{Key: key}, true
			}
			tickets = append(tickets, ticket)
		}
	}
	return tickets
}

// ownTickets are those of folders in a folder, which may wait as a whole, too.
func (g *gathering) ownTickets(ctx context.Context, folder string, there, here []replica.Record) (map[string]replica.Ticket, error) {
	isFolder := func(rec replica.Record) bool { return rec.Kind == replica.Folder }
	own := map[string]replica.Ticket{}
	if !slices.ContainsFunc(there, isFolder) && !slices.ContainsFunc(here, isFolder) {
		return own, nil
	}
	tickets, err := g.Store.BacklogIn(ctx, g.lane, folder, wholeMost)
	for _, t := range tickets {
		own[t.Key] = t
	}
	return own, err
}

// through notes that what a ticket is about is done, and reports whether that is a
// ticket of its own which can be taken away.
func (c *carry) through(t replica.Ticket) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if w := c.wholes[t.Key]; w != nil && t.Whole > 0 {
		w.done = true
		return false
	}
	if t.Seq != 0 {
		return true
	}
	if w := c.wholes[parentKey(t.Key)]; w != nil {
		delete(w.left, t.Key)
		w.some = true
	}
	c.done.Done++
	return false
}

// endWholes takes the tickets of whole folders away, as far as those are done. What
// is left of them has tickets of its own then, also among those that are given.
func (c *carry) endWholes(ctx context.Context, tickets ...[]replica.Ticket) error {
	own := map[string]uint64{}
	var done []replica.Ticket
	for _, key := range slices.Sorted(maps.Keys(c.wholes)) {
		switch w := c.wholes[key]; {
		case !w.done && !w.some: // it waits as it does, with all that is in it
		case w.done && len(w.left) == 0:
			done = append(done, w.ticket)
		default:
			if !w.done { // else what is done would be done again and again
				w.left[key] = true
			}
			split, err := c.Store.Split(ctx, c.lane, w.ticket, slices.Sorted(maps.Keys(w.left)))
			if err != nil {
				return err
			}
			c.progress.end(c.Now(), []replica.Ticket{w.ticket})
			for _, t := range split {
				own[t.Key] = t.Seq
			}
			if w.done {
				c.count(func(d *Carried) { d.Done++ })
			}
		}
	}
	for _, list := range tickets {
		for i := range list {
			if seq, split := own[list[i].Key]; split {
				list[i].Seq = seq
			}
		}
	}
	return c.takeAway(ctx, done)
}
