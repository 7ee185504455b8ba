package replication

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/mover/transfer"
)

// Carried is what a lane did.
type Carried struct {
	Done      int   // paths that are as they should be
	Files     int   // that were written
	Bytes     int64 // that were written
	Spared    int64 // of which the receiver had already, and that were not carried
	Conflicts int
	Postponed int // that could not be done now
	Failed    int // of which for a reason that will not pass at once
	// NextTry is when the first of what was postponed is tried again, from now on.
	NextTry time.Duration
}

// Carry works off about limit paths of a lane's backlog: folders that are new at the
// receiver with all that waits in them, one at least. What cannot be done is told
// to Trouble and stays in the backlog, behind the others. It does nothing while the
// sender is not filled, or one of both was not yet looked at. When one
// of both does not answer, it ends with that error, and what is left stays as it is.
func (e *Engine) Carry(ctx context.Context, lane replica.Lane, limit int) (Carried, error) {
	c := &carry{Engine: e, lane: lane, from: e.replica(lane.From), to: e.replica(lane.To), limiter: transfer.NewLimiter(e.hands())}
	c.workers = transfer.NewWorkerPool(min(e.waiting(), c.limiter.Small()))
	c.sender, c.receiver = e.endpoint(c.from), e.endpoint(c.to)
	c.progress = e.progressOf(lane)
	defer c.workers.Close()
	if !e.filled(c.from) || !e.scanned(c.to) {
		return c.done, nil
	}
	tickets, err := e.Store.Backlog(ctx, lane, limit)
	if err != nil {
		return c.done, err
	}
	tickets = roomFor(tickets, limit)
	c.progress.begin(e.Now(), len(tickets))
	c.receiver.Renew()
	for _, r := range []*Replica{c.from, c.to} {
		if err := cmp.Or(e.identify(ctx, r), e.containsReplica(r)); err != nil {
			return c.done, err
		}
	}
	if err := e.permitTop(ctx, c.from, c.to); err != nil {
		return c.done, err
	}
	for range 2 { // what waited for something else has another chance
		if tickets, err = c.pass(ctx, tickets, limit); err != nil {
			return c.done, err
		}
	}
	if err := c.endWholes(ctx, tickets, c.failed); err != nil {
		return c.done, err
	}
	if err := c.postpone(ctx, tickets); err != nil {
		return c.done, err
	}
	return c.done, e.fill(ctx, c.to)
}

// postpone puts what was not done behind the rest of the backlog. What was tried many
// times without any change is reported, looked at again at both ends, and fails.
func (c *carry) postpone(ctx context.Context, waiting []replica.Ticket) error {
	c.done.Failed, c.done.Postponed = len(c.failed), len(waiting)+len(c.failed)
	for _, t := range c.failed { // it was reported
		c.progress.drop(t.Key)
	}
	pauses := map[time.Duration][]replica.Ticket{}
	for _, t := range waiting {
		if t.Seq == 0 { // it waits with its folder
			continue
		}
		pause, stuck := c.progress.tried(c.Now(), t.Key, c.outcomes[t.Key])
		if stuck == nil {
			pauses[pause] = append(pauses[pause], t)
			continue
		}
		if err := c.stuck(ctx, t, stuck); err != nil {
			return err
		}
	}
	for _, pause := range slices.Sorted(maps.Keys(pauses)) {
		if c.done.NextTry == 0 {
			c.done.NextTry = max(pause, retryFirst)
		}
		if err := c.Store.Postpone(ctx, c.lane, pauses[pause], pause); err != nil {
			return err
		}
	}
	failed := slices.DeleteFunc(c.failed, func(t replica.Ticket) bool { return t.Seq == 0 })
	if len(failed) == 0 {
		return nil
	}
	return c.Store.Failed(ctx, c.lane, failed)
}

// stuck reports a ticket that makes no progress, and looks at its path again.
func (c *carry) stuck(ctx context.Context, t replica.Ticket, why error) error {
	name, err := c.spelled(ctx, c.from, t.Key)
	if err != nil {
		name = t.Key
	}
	c.trouble(c.to, name, why)
	c.failed = append(c.failed, t)
	c.done.Failed++
	for _, r := range []*Replica{c.from, c.to} {
		if err := c.lookAgain(ctx, r, t.Key); fatal(ctx, err) {
			return err
		}
	}
	return nil
}

type carry struct {
	*Engine
	lane             replica.Lane
	from, to         *Replica
	sender, receiver *transfer.Endpoint // of from and to
	limiter          *transfer.Limiter
	workers          *transfer.WorkerPool

	mu     sync.Mutex // of what follows
	done   Carried
	failed []replica.Ticket
	wholes map[string]*whole // by their paths
	// outcomes are why tasks did not end their tickets, by their paths.
	outcomes map[string]outcome
	progress *progress
}

// count changes what was done so far.
func (c *carry) count(change func(*Carried)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	change(&c.done)
}

// pass tries tickets, about limit of them, and returns those that are still to be done.
func (c *carry) pass(ctx context.Context, tickets []replica.Ticket, limit int) (left []replica.Ticket, err error) {
	tasks, left, err := c.prepare(ctx, tickets, c.Store.Get)
	defer func() {
		for _, e := range tasks {
			e.releaseAll()
		}
	}()
	if err != nil {
		return nil, err
	}
	if tasks, err = c.gather(ctx, tasks, limit); err != nil {
		return nil, err
	}
	tasks = c.bundle(tasks)
	for len(tasks) > 0 {
		n := 1
		for n < len(tasks) && tasks[n].stage == tasks[0].stage {
			n++
		}
		waiting, err := c.together(ctx, tasks[:n])
		if err != nil {
			return nil, err
		}
		left, tasks = append(left, waiting...), tasks[n:]
	}
	return left, nil
}

// prepare claims what tickets are about and reads the records, with get, in the
// order in which they are to be done. What somebody else is at work on is left.
func (c *carry) prepare(ctx context.Context, tickets []replica.Ticket, get getter) (tasks []*task, left []replica.Ticket, err error) {
	var keys []string
	for _, t := range tickets {
		e := &task{carry: c, hold: c.newTaskHold(), ticket: t}
		if !e.change(c.to, t.Key) || !e.rely(c.from, t.Key) {
			e.release()
			e.ended(errBusy)
			left = append(left, t)
			continue
		}
		tasks, keys = append(tasks, e), append(keys, t.Key)
	}
	if len(keys) == 0 {
		return nil, left, nil
	}
	from, err := get(ctx, c.from.ID, keys...)
	if err != nil {
		return tasks, nil, err
	}
	to, err := get(ctx, c.to.ID, keys...)
	if err != nil {
		return tasks, nil, err
	}
	for i, e := range tasks {
		e.stage, e.ends = stageOf(&from[i], &to[i]), [2]*replica.Record{&from[i], &to[i]}
		if from[i].Kind == replica.File {
			e.size = from[i].Size
		}
		if e.stage.removes { // what goes may be wanted by what comes
			e.release()
			continue
		}
		e.atSender, e.atReceiver = &from[i], &to[i]
	}
	slices.SortFunc(tasks, func(a, b *task) int { return a.stage.compare(b.stage) })
	return tasks, left, nil
}

// getter reads the records of paths, in their order, as a store does.
type getter func(ctx context.Context, r replica.ID, keys ...string) ([]replica.Record, error)

// stateOf stands for what is known of a path at both ends, and of what is being done there;
// it is empty where that was not read.
func stateOf(from, to *replica.Record) string {
	if from == nil {
		return ""
	}
	one := func(r *replica.Record) string {
		return fmt.Sprint(r.Kind, r.Version, r.Permissions.Version, r.Seen.ID, r.Seen.Size, r.Seen.Modified.UnixNano(), r.Pending != nil)
	}
	return one(from) + " " + one(to)
}

// stage is what can be done side by side: folders before what is in them, what
// comes before what goes, and what is in a folder before the folder goes.
type stage struct {
	removes bool
	folder  bool
	depth   int
}

func stageOf(from, to *replica.Record) stage {
	depth := strings.Count(from.Key, "/")
	switch {
	case from.Kind == replica.Folder:
		return stage{folder: true, depth: depth}
	case to.Kind == replica.Folder:
		return stage{removes: true, folder: true, depth: depth}
	}
	return stage{removes: from.Kind == replica.None}
}

func (s stage) compare(other stage) int {
	rank := func(s stage) int {
		switch {
		case s.folder && s.removes: // the deepest first, after all else
			return 1<<30 - s.depth
		case s.folder: // before all else
			return s.depth - 1<<30
		case s.removes:
			return 1
		}
		return 0
	}
	return rank(s) - rank(other)
}

// together runs tasks side by side, and returns the tickets that are still to be done.
func (c *carry) together(ctx context.Context, tasks []*task) (left []replica.Ticket, err error) {
	group, run := guard.WithContext(ctx)
	group.SetLimit(c.waiting())
	var mu sync.Mutex
	var done []replica.Ticket
	for _, e := range tasks {
		group.Go(func() error {
			ok, err := e.do(run)
			err = errors.Join(err, c.takeAway(ctx, e.brought())) // many at once, beside the others
			own := ok && c.through(e.ticket)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case own:
				done = append(done, e.ticket)
			case ok:
			case e.failed:
				c.failed = append(c.failed, e.ticket)
			default:
				left = append(left, e.ticket)
			}
			for _, f := range e.files {
				if !f.arrived {
					left = append(left, f.ticket)
				}
			}
			return err
		})
	}
	err = group.Wait()
	return left, errors.Join(err, c.takeAway(ctx, done))
}

// brought are the own tickets of the files that came with a folder.
func (e *task) brought() (tickets []replica.Ticket) {
	for _, f := range e.files {
		if f.arrived && e.through(f.ticket) {
			tickets = append(tickets, f.ticket)
		}
	}
	return tickets
}

// takeAway takes tickets away that are done.
func (c *carry) takeAway(ctx context.Context, done []replica.Ticket) error {
	if len(done) == 0 {
		return nil
	}
	c.count(func(d *Carried) { d.Done += len(done) })
	c.progress.end(c.Now(), done)
	return c.Store.Done(ctx, c.lane, done)
}

// fill notes that a replica has had all that the set had.
func (e *Engine) fill(ctx context.Context, r *Replica) error {
	if scanned, filled := e.state(r); filled || !scanned {
		return nil
	}
	for _, l := range e.into(r) {
		if !e.filled(e.replica(l.From)) {
			continue
		}
		left, err := e.Store.Backlog(ctx, l, 1)
		if err != nil {
			return err
		}
		if len(left) == 0 {
			from := e.replica(l.From)
			e.mu.Lock()
			r.Filled, r.Entries = true, max(r.Entries, from.Entries) // its next scan may be hours away
			e.mu.Unlock()
		}
	}
	return nil
}
