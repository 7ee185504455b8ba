package proof

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/forecast"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// ProbeKind is the kind of runs that drop a probe.
const ProbeKind = "probe"

type probeSettings struct {
	Set   string `json:"set"`
	From  string `json:"from"`
	WaitS int    `json:"waitS"`
}

// A probe is looked for so often, and given up after a while.
const (
	probeEvery = 250 * time.Millisecond
	usualWait  = time.Hour
)

// probePrefix is how the names of probes begin.
const probePrefix = "bridge-span-probe-"

func (s *Proofs) probeWork(ctx context.Context, name string, asked model.DropProbe) (jobs.Work, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return jobs.Work{}, err
	}
	work := probeSettings{Set: set.Name, From: asked.From, WaitS: asked.WaitS}
	if work.From == "" {
		work.From = set.Replicas[slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Seed })].Name
	}
	if work.WaitS == 0 {
		work.WaitS = int(usualWait.Seconds())
	}
	_, err = sets.FindReplica(&set, work.From)
	return jobs.Work{Subject: set.Name, Settings: work}, fault.At("from", err)
}

// Probe drops a marker file at one replica, and times it at the others.
func (s *Proofs) Probe(ctx context.Context, name string, asked model.DropProbe) (model.ReplicaProbe, error) {
	work, err := s.probeWork(ctx, name, asked)
	if err != nil {
		return model.ReplicaProbe{}, err
	}
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return model.ReplicaProbe{}, err
	}
	if set.Paused {
		return model.ReplicaProbe{}, fault.New(fault.Needed, "let it go on: bspan replica resume "+set.Name, "%s is paused: nothing would arrive", set.Name)
	}
	ids, err := s.Runs.StartAll(ctx, ProbeKind, []jobs.Work{work})
	if err != nil {
		return model.ReplicaProbe{}, err
	}
	return s.Probed(ctx, ids[0])
}

// ScheduleProbe saves a probe that is dropped again and again.
func (s *Proofs) ScheduleProbe(ctx context.Context, name string, asked model.ScheduleProbe) (model.Job, error) {
	work, err := s.probeWork(ctx, name, asked.DropProbe)
	if err != nil {
		return model.Job{}, err
	}
	return s.Runs.Schedule(ctx, ProbeKind, asked.Rule, work)
}

// Probed shows a probe as far as it has arrived.
func (s *Proofs) Probed(ctx context.Context, id int64) (model.ReplicaProbe, error) {
	p := model.ReplicaProbe{Arrivals: []model.Arrival{}}
	var asked probeSettings
	r, err := s.Runs.Read(ctx, id, ProbeKind, &asked, &p)
	p.Run, p.Set, p.From = r, asked.Set, asked.From
	return p, err
}

// Probes lists the latest probes of a set, newest first.
func (s *Proofs) Probes(ctx context.Context, name string, limit int) ([]model.ReplicaProbe, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	runs, err := s.Runs.List(ctx, ProbeKind, set.Name, 0, limit)
	list := []model.ReplicaProbe{}
	for _, r := range runs {
		p, bad := s.Probed(ctx, r.ID)
		if bad != nil {
			return nil, bad
		}
		list = append(list, p)
	}
	return list, err
}

// prober times one probe.
type prober struct {
	*Proofs
	job   *jobs.Job
	asked probeSettings
	set   model.ReplicaSet
	trees map[string]tree.Tree // by replica
	name  string
	found model.ReplicaProbe
}

func (s *Proofs) probe(ctx context.Context, job *jobs.Job) error {
	p := &prober{Proofs: s, job: job, trees: map[string]tree.Tree{}, found: model.ReplicaProbe{Arrivals: []model.Arrival{}}}
	if err := job.Settings(&p.asked); err != nil {
		return err
	}
	p.name = fmt.Sprintf("%s%d.txt", probePrefix, job.ID)
	var err error
	if p.set, err = s.DB.ReplicaSet(ctx, p.asked.Set); err != nil {
		return err
	}
	defer p.close()
	for i := range p.set.Replicas {
		r := &p.set.Replicas[i]
		if p.trees[r.Name], err = s.OpenReplica(ctx, r); err != nil {
			return fmt.Errorf("%s: %w", r.Name, err)
		}
	}
	origin := p.trees[p.asked.From]
	if origin == nil {
		return fault.New(fault.NotFound, "choose one of "+sets.NamesOf(&p.set), "the set %s has no replica %q any more", p.set.Name, p.asked.From)
	}
	err = p.time(ctx, origin)
	p.tidy(context.WithoutCancel(ctx), origin)
	if err != nil && ctx.Err() != nil {
		return jobs.ErrStopped
	}
	if err != nil {
		return err
	}
	return job.Finish(p.found)
}

func (p *prober) close() {
	for _, t := range p.trees {
		_ = t.Close()
	}
}

// time drops the probe, and waits for its content and then its permissions.
func (p *prober) time(ctx context.Context, origin tree.Tree) error {
	began := time.Now()
	foretold, err := p.foretell(ctx, began)
	if err != nil {
		return err
	}
	for _, r := range p.set.Replicas {
		if r.Name != p.asked.From {
			a := model.Arrival{Replica: r.Name}
			if ms, ok := foretold[r.ID]; ok {
				a.ForetoldMs = &ms
			}
			p.found.Arrivals = append(p.found.Arrivals, a)
		}
	}
	text := fmt.Sprintf("Bridge Span times with this file how long changes are on their way. It goes by itself.\n%s, from %s\n", began.UTC().Format(time.RFC3339), p.asked.From)
	if _, err := origin.Put(ctx, p.name, strings.NewReader(text), tree.PutOptions{}); err != nil {
		return fmt.Errorf("%s: %w", p.asked.From, err)
	}
	dropped := time.Now()
	err = p.await(ctx, dropped, func(a *model.Arrival, took int64) { a.ContentMs = &took }, func(t tree.Tree) bool {
		_, err := t.Stat(ctx, p.name)
		return err == nil
	})
	if err != nil || p.set.Permissions == model.PermissionsLeave || !p.all(func(a model.Arrival) bool { return a.ContentMs != nil }) {
		return err
	}
	want, err := p.permit(ctx, origin)
	if err != nil {
		return err
	}
	return p.await(ctx, time.Now(), func(a *model.Arrival, took int64) { a.PermissionsMs = &took }, func(t tree.Tree) bool {
		d, err := t.Descriptor(ctx, p.name)
		return err == nil && len(acl.Compare(d.Parts(), want.Parts())) == 0
	})
}

func (p *prober) all(ok func(model.Arrival) bool) bool {
	return !slices.ContainsFunc(p.found.Arrivals, func(a model.Arrival) bool { return !ok(a) })
}

// permit gives the probe other permissions: everybody may read it, and nothing else.
func (p *prober) permit(ctx context.Context, origin tree.Tree) (acl.Descriptor, error) {
	d, err := origin.Descriptor(ctx, p.name)
	if err != nil {
		return d, err
	}
	read, err := acl.Parse("O:BAG:BAD:P(A;;FA;;;BA)(A;;FR;;;WD)")
	if err != nil {
		return d, err
	}
	parts := d.Parts()
	parts.DACL, parts.Control = read.Parts().DACL, read.Parts().Control
	if d, err = parts.Descriptor(); err != nil {
		return d, err
	}
	if err := origin.Apply(ctx, p.name, tree.Meta{Descriptor: d}); err != nil {
		return d, err
	}
	return origin.Descriptor(ctx, p.name)
}

// await looks for something at all other replicas until it is there, or for as
// long as was asked for.
func (p *prober) await(ctx context.Context, since time.Time, note func(*model.Arrival, int64), there func(tree.Tree) bool) error {
	p.job.Park("its marker to arrive at the other replicas")
	tick := time.NewTicker(probeEvery)
	defer tick.Stop()
	missing := map[string]bool{}
	for _, a := range p.found.Arrivals {
		missing[a.Replica] = true
	}
	for len(missing) > 0 && time.Since(since) < time.Duration(p.asked.WaitS)*time.Second {
		for i := range p.found.Arrivals {
			a := &p.found.Arrivals[i]
			if missing[a.Replica] && there(p.trees[a.Replica]) {
				note(a, time.Since(since).Milliseconds())
				delete(missing, a.Replica)
				_ = p.job.Checkpoint(ctx, nil, p.found)
			}
		}
		done := float64(len(p.found.Arrivals) - len(missing))
		p.job.Progress(int64(done), 0, done/float64(len(p.found.Arrivals)))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
	return nil
}

// atticTries is how often attics are looked at for a removed probe.
const atticTries = 40

// tidyMost is how long the removal of a probe may take.
const tidyMost = 2 * time.Minute

// tidy removes the probe. The removal goes the way of the probe itself, so that
// nobody removes it under the hands of who still works at it; attics that take
// it in do not keep it.
func (p *prober) tidy(ctx context.Context, origin tree.Tree) {
	ctx, cancel := context.WithTimeout(ctx, tidyMost)
	defer cancel()
	if err := origin.Remove(ctx, p.name); err != nil && !sets.IsMissing(err) {
		p.found.Left = true
	}
	for !p.gone(ctx) {
		select {
		case <-ctx.Done():
			p.found.Left = true
			return
		case <-time.After(probeEvery):
		}
	}
	for left, tries := p.arrived(), atticTries; left > 0 && tries > 0; tries-- {
		items, err := p.DB.AtticItems(ctx, p.set.ID, model.AtticFilter{Path: p.name}, 0, len(p.set.Replicas))
		for _, item := range items {
			if t := p.trees[item.Replica]; t != nil && sets.ThrowAway(ctx, t, item) == nil && p.DB.ForgetAttic(ctx, item.ID) == nil {
				left--
			}
		}
		select { // what an attic has taken in is noted a little later
		case <-ctx.Done():
			return
		case <-time.After(probeEvery):
		}
		if err != nil {
			return
		}
	}
}

// arrived counts the replicas at which the probe was seen.
func (p *prober) arrived() (n int) {
	for _, a := range p.found.Arrivals {
		if a.ContentMs != nil {
			n++
		}
	}
	return n
}

// gone reports whether the probe is at no replica any more.
func (p *prober) gone(ctx context.Context) bool {
	for _, t := range p.others() {
		if _, err := t.Stat(ctx, p.name); !sets.IsMissing(err) {
			return false
		}
	}
	return true
}

func (p *prober) others() (list []tree.Tree) {
	for name, t := range p.trees {
		if name != p.asked.From {
			list = append(list, t)
		}
	}
	return list
}

// foretell says when the probe will be at each replica, in milliseconds: when it
// is seen, when lanes are open, and how far the way is.
func (p *prober) foretell(ctx context.Context, at time.Time) (map[int64]int64, error) {
	legs, err := p.DB.Legs(ctx)
	if err != nil {
		return nil, err
	}
	var origin model.Replica
	for _, r := range p.set.Replicas {
		if r.Name == p.asked.From {
			origin = r
		}
	}
	foretold := map[int64]int64{}
	unseen, _ := sets.UnseenFor(&p.set, &origin)
	there := map[replica.ID]time.Time{replica.ID(origin.ID): at.Local().Add(unseen)}
	for id, hop := range forecast.Arrivals(there, sets.WaysOf(&p.set, legs, at), 0, sets.AtEnds) {
		foretold[int64(id)] = hop.At.Sub(at).Milliseconds()
	}
	return foretold, nil
}
