package replication

import (
	"context"
	"slices"

	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/mover/transfer"
)

// A folder that the receiver lacks is to be carried with the files in it. Backlogs
// are in the order in which paths were put there, many folders before the first of
// their files: what is in new folders is asked for by folder, and folders for which
// there is no room now wait, untouched, for another time. A folder that waits as a
// whole stands for all that is in it.

// roomFor are the first tickets that stand for no more than limit paths; at least one.
func roomFor(tickets []replica.Ticket, limit int) []replica.Ticket {
	for i, t := range tickets {
		if limit -= 1 + t.Whole; limit < 0 && i > 0 {
			return tickets[:i]
		}
	}
	return tickets
}

// gather completes the new folders among tasks with what waits in them, until
// there are about limit tasks, and leaves out the others.
func (c *carry) gather(ctx context.Context, tasks []*task, limit int) ([]*task, error) {
	g := &gathering{carry: c, present: map[string]bool{}, left: map[string]bool{}}
	for _, e := range tasks {
		g.present[e.ticket.Key] = true
	}
	for _, e := range tasks {
		g.add(e)
		if !e.completed() && !g.present[parentKey(e.ticket.Key)] {
			limit--
		}
	}
	if len(g.folders) == 0 {
		return tasks, nil
	}
	done, err := g.fill(ctx, limit)
	all := slices.DeleteFunc(append(g.taken, g.folders[done:]...), func(e *task) bool {
		if err == nil && !g.leaves(e.ticket.Key) {
			return false
		}
		e.release()
		return true
	})
	slices.SortStableFunc(all, func(a, b *task) int { return a.stage.compare(b.stage) })
	return all, err
}

// newFolder reports whether a task is about a folder that the receiver lacks.
func (e *task) newFolder() bool {
	return e.stage.folder && !e.stage.removes && e.atSender != nil && unknown(e.atReceiver) && e.atSender.Pending == nil
}

// completed reports whether a task is about a folder that is carried with what
// waits in it.
func (e *task) completed() bool { return e.ticket.Whole > 0 || e.newFolder() }

// gathering is what is carried together.
type gathering struct {
	*carry
	present map[string]bool // the paths that are at hand
	folders []*task         // that are to be completed
	taken   []*task
	left    map[string]bool // folders that wait
}

func (g *gathering) add(e *task) {
	if g.present[e.ticket.Key] = true; e.completed() {
		g.folders = append(g.folders, e)
	} else {
		g.taken = append(g.taken, e)
	}
}

// fill takes folders, each with what waits in it, while there is room, a few at a
// time; at least one. It returns how many folders it went through.
func (g *gathering) fill(ctx context.Context, room int) (done int, err error) {
	for first := true; done < len(g.folders) && err == nil; first = false { // it grows by the folders in them
		some := g.folders[done:min(done+g.Engine.hands(), len(g.folders))]
		done += len(some)
		g.taken = append(g.taken, some...)
		if !first && room <= 0 {
			g.leave(some)
			continue
		}
		var inside []*task
		inside, err = g.insideAll(ctx, some)
		room -= len(some) + len(inside)
		for _, e := range inside {
			g.add(e)
		}
	}
	return done, err
}

// leave lets folders wait.
func (g *gathering) leave(folders []*task) {
	for _, f := range folders {
		g.left[f.ticket.Key] = true
	}
}

// leaves reports whether a path is one of a folder that waits, or in one.
func (g *gathering) leaves(key string) bool {
	for ; key != "."; key = parentKey(key) {
		if g.left[key] {
			return true
		}
	}
	return false
}

// insideAll prepares what waits in several folders, side by side. What is in one that
// is in another which waits, waits too.
func (g *gathering) insideAll(ctx context.Context, folders []*task) ([]*task, error) {
	group, run := guard.WithContext(ctx)
	found := make([][]*task, len(folders))
	for i, f := range folders {
		if g.leaves(f.ticket.Key) {
			continue
		}
		group.Go(func() (err error) {
			if f.ticket.Whole > 0 {
				found[i], err = g.unfold(run, f)
			} else {
				found[i], err = g.inside(run, f.ticket.Key)
			}
			return err
		})
	}
	err := group.Wait()
	return slices.Concat(found...), err
}

// inside prepares what waits right in a folder and is not at hand.
func (g *gathering) inside(ctx context.Context, folder string) ([]*task, error) {
	tickets, err := g.Store.BacklogIn(ctx, g.lane, folder, transfer.BundleMost)
	if err != nil {
		return nil, err
	}
	get := g.Store.Get
	if len(tickets) < transfer.BundleMost { // all that is in the folder, or the receiver would know it
		get = g.childrenOf(folder)
	}
	tasks, _, err := g.prepare(ctx, g.missing(tickets), get) // what somebody else is at work on stays as it is
	return tasks, err
}

// missing are the tickets of paths that are not at hand.
func (g *gathering) missing(tickets []replica.Ticket) []replica.Ticket {
	return slices.DeleteFunc(tickets, func(t replica.Ticket) bool { return g.present[t.Key] })
}

// childrenOf reads records of what is right in a folder: to ask for all of them
// takes a database less than to ask for each by its name.
func (c *carry) childrenOf(folder string) getter {
	return func(ctx context.Context, r replica.ID, keys ...string) ([]replica.Record, error) {
		children, err := c.Store.Children(ctx, r, folder)
		return inOrder(children, keys), err
	}
}

// inOrder are the records of paths in their order; of a path that has none, one that
// knows of nothing there.
func inOrder(records []replica.Record, keys []string) []replica.Record {
	known := make(map[string]*replica.Record, len(records))
	for i := range records {
		known[records[i].Key] = &records[i]
	}
	ordered := make([]replica.Record, len(keys))
	for i, key := range keys {
		if rec := known[key]; rec != nil {
			ordered[i] = *rec
		}
		ordered[i].Key = key
	}
	return ordered
}
