package edges

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"bridgespan/core/fault"
	"bridgespan/core/forecast"
	"bridgespan/core/replica"
	"bridgespan/core/text"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// The latest arrival assumes a part of the speed of a way; the earliest a part of the usual round trips and of the usual work at
// both ends, since a mover may have seen the change at once, and connections may be open.
const (
	slowest  = 2
	quickest = 4
)

// probesMost is how many of the latest probes are compared with a forecast.
const probesMost = 20

// arrivalMost is how far ahead a change may be asked for.
const arrivalMost = 366 * 24 * time.Hour

// Arrival forecasts when a path, or a change made at a replica, arrives in the bucket and at each edge.
func (s *Edges) Arrival(ctx context.Context, name string, asked model.AskArrival) (f model.ArrivalForecast, err error) {
	set, err := s.cloudSet(ctx, name)
	if err != nil {
		return f, err
	}
	if set.Paused {
		return f, fault.New(fault.Needed, "resume it: bspan replica resume "+set.Name, "%s is paused: nothing arrives", set.Name)
	}
	legs, err := s.DB.Legs(ctx)
	if err != nil {
		return f, err
	}
	c := arrivalsOf(&set)
	c.found = model.ArrivalForecast{Set: set.Name, At: c.now.UTC()}
	switch {
	case (asked.Path == "") == (asked.MadeAt == ""):
		err = fault.Field("path", "give a path of the set, or where a change is made", "one of path and madeAt is needed")
	case asked.Path != "":
		err = s.path(ctx, c, asked.Path)
	default:
		err = c.change(asked)
	}
	if err != nil {
		return f, err
	}
	c.forecast(sets.WaysOf(&set, legs, c.now))
	return c.found, s.measured(ctx, c)
}

// arrivals is a forecast in the making.
type arrivals struct {
	set     *model.ReplicaSet
	now     time.Time
	seen    [3]map[replica.ID]time.Time // when a scan sees the change at its origins: earliest, expected, latest
	scans   map[int64]string            // which scan sees it, by origin
	present map[int64]bool              // replicas that have it already
	found   model.ArrivalForecast
}

func arrivalsOf(set *model.ReplicaSet) *arrivals {
	return &arrivals{set: set, now: time.Now(), seen: [3]map[replica.ID]time.Time{{}, {}, {}}, scans: map[int64]string{}, present: map[int64]bool{}}
}

// change takes the replica that was asked for as the origin of a change.
func (c *arrivals) change(asked model.AskArrival) error {
	r, err := sets.FindReplica(c.set, asked.MadeAt)
	if err != nil {
		return fault.At("madeAt", err)
	}
	at := c.now
	if !asked.At.IsZero() {
		at = asked.At.Local()
	}
	if d := at.Sub(c.now); d > arrivalMost || d < -arrivalMost {
		return fault.Field("at", "give a time within a year", "%s is too far away", at.Format(time.DateOnly))
	}
	mean, most := sets.UnseenFor(c.set, r)
	c.origin(r, at, at.Add(mean), at.Add(most))
	c.scans[r.ID] = c.scanned(r, fmt.Sprintf("%s is scanned every %s", r.Name, text.Lasting(cmp.Or(r.Sweep(), most))))
	c.found.MadeAt, c.found.At, c.found.Size = r.Name, at.UTC(), asked.Size
	c.present[r.ID] = true
	return nil
}

// origin sets when a scan sees the change at a replica.
func (c *arrivals) origin(r *model.Replica, earliest, expected, latest time.Time) {
	for i, at := range []time.Time{earliest, expected, latest} {
		c.seen[i][replica.ID(r.ID)] = at.Local()
	}
}

// path takes the replicas that hold the newest version of a path as the origins.
func (s *Edges) path(ctx context.Context, c *arrivals, of string) error {
	w, err := s.Where(ctx, c.set.Name, of)
	if err != nil {
		return err
	}
	c.found.Path = w.Path
	recs, err := s.records(ctx, c.set, w.Path)
	if err == nil {
		c.holders(w.Places, recs)
	}
	return err
}

// holders finds the replicas that hold the newest version: those with a change that no scan has seen, else those with the newest
// records.
func (c *arrivals) holders(places []model.PlaceOfContent, recs []replica.Record) {
	newest := recs[0].Version
	for _, r := range recs {
		if r.Version.Compare(newest) == replica.After {
			newest = r.Version
		}
	}
	unseen := false
	for i, p := range places {
		unseen = unseen || differs(p, &recs[i])
	}
	for i, p := range places {
		r := &c.set.Replicas[i]
		switch {
		case unseen && differs(p, &recs[i]):
			c.unseenAt(r)
		case unseen || recs[i].Version.Compare(newest) != replica.Equal:
			continue
		default:
			c.origin(r, c.now, c.now, c.now)
		}
		c.present[r.ID] = true
		c.found.Size = max(c.found.Size, p.Size)
		c.found.MadeAt = r.Name
	}
	if len(c.present) > 1 {
		c.found.MadeAt = ""
	}
}

// differs reports whether a replica holds something else at a path than the last scan saw.
func differs(p model.PlaceOfContent, rec *replica.Record) bool {
	switch p.Content {
	case model.ContentFolder:
		return rec.Kind != replica.Folder
	case model.ContentWhole, model.ContentStub:
		return rec.Kind != replica.File || rec.Size != p.Size || p.Modified != nil && p.Modified.Sub(rec.Modified).Abs() > replica.TimeTolerance
	}
	return false
}

// unseenAt takes a replica as an origin at which the next scan sees the change.
func (c *arrivals) unseenAt(r *model.Replica) {
	mean, most := sets.UnseenFor(c.set, r)
	latest := c.now.Add(most)
	if r.Looked != nil {
		latest = later(r.Looked.Add(most), c.now)
	}
	c.origin(r, c.now, c.now.Add(min(mean, latest.Sub(c.now)/2)), latest)
	c.scans[r.ID] = c.scanned(r, fmt.Sprintf("%s was not scanned since: it is scanned every %s, next by %s", r.Name, text.Lasting(cmp.Or(r.Sweep(), most)), clock(latest)))
}

// scanned adds event notifications, where they come, to what is said about the scans of a replica.
func (c *arrivals) scanned(r *model.Replica, scans string) string {
	if !c.set.Notifies(r) {
		return scans
	}
	return fmt.Sprintf("event notifications report changes in %s, the latest at %s; %s", r.Name, clock(*r.Notified), scans)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// clock writes a time of day, with the date when it is more than half a day away.
func clock(t time.Time) string {
	t = t.Local()
	if until := time.Until(t); until > -12*time.Hour && until < 12*time.Hour {
		return t.Format("15:04:05")
	}
	return t.Format("Mon 2 Jan 15:04")
}

// forecast finds for each replica when the change arrives.
func (c *arrivals) forecast(ways []forecast.Way) {
	var names, contents [3]map[replica.ID]forecast.Hop
	for i := range c.seen {
		these := slices.Clone(ways)
		ends := sets.AtEnds
		if i == 0 {
			ends /= quickest
		}
		for k := range these {
			switch i {
			case 0:
				these[k].Waits, these[k].RTT = 0, these[k].RTT/quickest
			case 2:
				these[k].Mbit /= slowest
			}
		}
		names[i] = forecast.Arrivals(c.seen[i], these, 0, ends)
		contents[i] = forecast.Arrivals(c.seen[i], these, c.found.Size, ends)
	}
	for i := range c.set.Replicas {
		r := &c.set.Replicas[i]
		p := model.PlaceArrival{Replica: r.Name, Server: r.Server, Bucket: r.Swept, Present: c.present[r.ID], Reasons: []string{}}
		id := replica.ID(r.ID)
		if why := c.scans[r.ID]; why != "" {
			p.Reasons = append(p.Reasons, why)
		}
		if !p.Present {
			p.Name, p.Content = spanOf(names, id), spanOf(contents, id)
			p.Reasons = append(p.Reasons, c.why(contents[1], ways, id)...)
			c.stubs(r, &p)
		}
		if r.Trouble != "" {
			p.Reasons = append(p.Reasons, fmt.Sprintf("%s: %s", r.Name, r.Trouble))
		}
		c.found.Places = append(c.found.Places, p)
	}
}

// spanOf is when a change arrives at a replica; nil when it never does.
func spanOf(hops [3]map[replica.ID]forecast.Hop, id replica.ID) *model.ArrivalSpan {
	for _, h := range hops {
		if _, ok := h[id]; !ok {
			return nil
		}
	}
	return &model.ArrivalSpan{Earliest: hops[0][id].At.UTC(), Expected: hops[1][id].At.UTC(), Latest: hops[2][id].At.UTC()}
}

// stubs corrects an arrival for edges that fetch contents on first use, and for those without stubs.
func (c *arrivals) stubs(r *model.Replica, p *model.PlaceArrival) {
	if !r.Edge.HasStubs() {
		p.Name = p.Content // the file appears when it is whole
		return
	}
	policy := PolicyOf(r.Edge)
	switch {
	case policy.Never != nil && c.found.Path != "" && policy.Never(c.found.Path): // it stays whole
	case r.Edge.Fill == model.FillStubs:
		p.Content, p.OnFirstUse = nil, true
		p.Reasons = append(p.Reasons, r.Name+" fetches content on first use")
	case r.EdgeFigures != nil && r.EdgeFigures.Free-c.found.Size < r.EdgeFigures.Line:
		p.Content, p.OnFirstUse = nil, true
		p.Reasons = append(p.Reasons, r.Name+" is at its free-space line: it fetches content on first use")
	}
}

// why lists the lanes of the way to a replica, from the origin on.
func (c *arrivals) why(hops map[replica.ID]forecast.Hop, ways []forecast.Way, id replica.ID) (list []string) {
	hop, ok := hops[id]
	if !ok {
		return []string{"no open lane leads there"}
	}
	if hop.By < 0 {
		return nil
	}
	w := &ways[hop.By]
	lane := fmt.Sprintf("lane %s to %s: %s", c.nameOf(w.From), c.nameOf(w.To), paceOf(w))
	if hop.Sent.After(hops[w.From].At) {
		lane += ", closed until " + clock(hop.Sent)
	}
	if w.Waits > 0 {
		lane += ", backlog " + humanize.IBytes(uint64(w.Waits))
	}
	return append(c.why(hops, ways, w.From), lane)
}

func (c *arrivals) nameOf(id replica.ID) string {
	for _, r := range c.set.Replicas {
		if r.ID == int64(id) {
			return r.Name
		}
	}
	return "?"
}

// paceOf is the speed of a way: that of its leg, or what its calendar allows now.
func paceOf(w *forecast.Way) string {
	mbit := w.Mbit
	if rate := float64(w.Calendar.At(time.Now())); rate > 0 {
		mbit = min(mbit, rate)
	}
	return fmt.Sprintf("%g Mbit/s", mbit)
}

// measured adds how long the latest probes took.
func (s *Edges) measured(ctx context.Context, c *arrivals) error {
	if c.found.MadeAt == "" {
		return nil
	}
	probes, err := s.probes(ctx, c.set.Name, probesMost)
	if err != nil {
		return err
	}
	for i := range c.found.Places {
		p := &c.found.Places[i]
		var took, foretold []int64
		for _, probe := range probes {
			for _, a := range probe.Arrivals {
				if probe.From != c.found.MadeAt || a.Replica != p.Replica || a.ContentMs == nil {
					continue
				}
				took = append(took, *a.ContentMs)
				if a.ForetoldMs != nil {
					foretold = append(foretold, *a.ForetoldMs)
				}
			}
		}
		p.Probes, p.MeasuredMs, p.ForetoldMs = len(took), median(took), median(foretold)
	}
	return nil
}

func median(list []int64) *int64 {
	if len(list) == 0 {
		return nil
	}
	slices.Sort(list)
	return &list[len(list)/2]
}
