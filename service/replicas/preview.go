package replicas

import (
	"context"
	"fmt"
	"path"
	"reflect"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/core/forecast"
	"bridgespan/core/namespace"
	"bridgespan/core/plan"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/service/replicas/edges"
	"bridgespan/service/replicas/planning"
	"bridgespan/service/replicas/sets"
)

// preview tells what follows from other settings of a set.
type preview struct {
	*Service
	before, after model.ReplicaSet
	at            time.Time
	legs          []namespace.Leg
	held          plan.Content // by the replica that is taken for all
	left          plan.Count   // of which would be left out from now on
	joins         plan.Count   // of which was left out so far
	was, will     steady
	found         model.SettingsPreview
}

// Preview tells what follows from a change of settings, and checks it as a plan
// is checked. It changes nothing.
func (s *Service) Preview(ctx context.Context, name string, change model.SettingsChange) (model.SettingsPreview, error) {
	p := &preview{Service: s, at: time.Now(), found: model.SettingsPreview{Checks: []finding.Finding{}, Follows: []string{}}}
	var err error
	if p.before, err = s.DB.ReplicaSet(ctx, name); err != nil {
		return p.found, err
	}
	if p.legs, err = s.DB.Legs(ctx); err != nil {
		return p.found, err
	}
	if p.after, err = changedBy(p.before, change); err != nil {
		return p.found, err
	}
	if err := p.count(ctx); err != nil {
		return p.found, err
	}
	p.was, p.will = p.steady(p.before), p.steady(p.after)
	p.filters()
	p.layouts()
	p.calendars()
	p.lags()
	p.intakes()
	if err := p.edges(ctx); err != nil {
		return p.found, err
	}
	if err := p.attics(ctx); err != nil {
		return p.found, err
	}
	p.pauses()
	p.removals()
	if p.found.Outcome = finding.Worst(p.found.Checks); len(p.found.Follows) == 0 && p.found.Outcome == finding.Pass {
		p.follows("Nothing that can be told beforehand.")
	}
	return p.found, nil
}

// changedBy is a set with other settings.
func changedBy(set model.ReplicaSet, change model.SettingsChange) (model.ReplicaSet, error) {
	set.Lanes, set.Replicas = slices.Clone(set.Lanes), slices.Clone(set.Replicas)
	if l := change.Lane; l != nil {
		lane, err := sets.FindLane(&set, l.From, l.To)
		if err != nil {
			return set, err
		}
		if err := sets.EditLane(lane, l.Change); err != nil {
			return set, err
		}
	}
	if r := change.Replica; r != nil {
		one, err := sets.FindReplica(&set, r.Name)
		if err != nil {
			return set, err
		}
		model.Take(&one.IntakeQuota, r.Change.IntakeQuota)
		model.Take(&one.AtticQuota, r.Change.AtticQuota)
		model.Take(&one.SweepMin, r.Change.SweepMin)
		if err := sets.CheckSweep("sweepMin", one); err != nil {
			return set, err
		}
		if err := sets.Decide(one, r.Change.Removals); err != nil {
			return set, err
		}
		if r.Change.Edge != nil {
			one.Edge = r.Change.Edge
		}
	}
	if change.Set == nil {
		return set, nil
	}
	if err := sets.Edit(&set, *change.Set); err != nil {
		return set, err
	}
	return set, everyoneIsReached(&set)
}

func (p *preview) follows(format string, args ...any) {
	p.found.Follows = append(p.found.Follows, fmt.Sprintf(format, args...))
}

func (p *preview) check(code string, severity finding.Severity, found, meaning, remedy string) {
	p.found.Checks = append(p.found.Checks, finding.New(severity, code, "", found, meaning, remedy))
}

// count counts what the set holds, as the seed was last seen.
func (p *preview) count(ctx context.Context) error {
	was, err := filter.New(p.before.Filter)
	if err != nil {
		return err
	}
	will, err := filter.New(p.after.Filter)
	if err != nil {
		return err
	}
	seed := p.before.Replicas[slices.IndexFunc(p.before.Replicas, func(r model.Replica) bool { return r.Seed })]
	return p.DB.EachHeld(ctx, replica.ID(seed.ID), func(key string, folder bool, size int64, modified time.Time) error {
		if folder {
			size = -1
		}
		if omitted(will, key, folder, size, modified, p.at) {
			if !folder && !omitted(was, key, folder, size, modified, p.at) {
				p.left.Add(size)
			}
			return nil
		}
		if !folder && omitted(was, key, folder, size, modified, p.at) {
			p.joins.Add(size)
		}
		p.held.Add(key, size, modified, p.at)
		return nil
	})
}

// omitted reports whether a set is not about a path.
func omitted(f *filter.Filter, name string, folder bool, size int64, modified, at time.Time) bool {
	if folder {
		return f.Folder(name) != ""
	}
	return f.File(name, size, modified, at) != "" || f.Folder(path.Dir(name)) != ""
}

func (p *preview) filters() {
	if sets.JsonText(p.before.Filter) == sets.JsonText(p.after.Filter) {
		return
	}
	if p.left.Files > 0 {
		p.follows("Left out from now on: %s (%s). What is left out stays where it is, and as it is; nothing of it is carried or removed.", sets.Count(p.left.Files, "file", "files"), sets.Size(p.left.Bytes))
	}
	if p.joins.Files > 0 {
		p.follows("Kept the same again: %s (%s) that had been left out. Where they differ, the later change wins.", sets.Count(p.joins.Files, "file", "files"), sets.Size(p.joins.Bytes))
	}
	p.follows("What the filter leaves in and nobody has seen yet is found at the next look, at every replica.")
}

// layouts tells of lanes that come and go.
func (p *preview) layouts() {
	if p.before.Layout == p.after.Layout {
		return
	}
	fresh, gone := lanesWithout(p.after, p.before), lanesWithout(p.before, p.after)
	if len(fresh) > 0 {
		p.follows("%s: %s. All %s are compared over each of them; what is equal is not carried.", sets.Count(int64(len(fresh)), "lane is new", "lanes are new"), sets.LaneList(fresh), sets.Count(p.held.Files+p.held.Folders, "path", "paths"))
	}
	if len(gone) > 0 {
		var waits model.Backlog
		for _, l := range gone {
			waits.Files, waits.Bytes = waits.Files+l.Backlog.Files, waits.Bytes+l.Backlog.Bytes
		}
		p.follows("%s: %s. What waits on them (%s, %s) takes the other lanes.", sets.Count(int64(len(gone)), "lane goes", "lanes go"), sets.LaneList(gone), sets.Count(waits.Files, "path", "paths"), sets.Size(waits.Bytes))
	}
}

func lanesWithout(of, without model.ReplicaSet) (list []model.Lane) {
	for _, l := range of.Lanes {
		if !slices.ContainsFunc(without.Lanes, func(o model.Lane) bool { return o.FromID == l.FromID && o.ToID == l.ToID }) {
			list = append(list, l)
		}
	}
	return list
}

// calendars tells how much fits through lanes that are open at other times.
func (p *preview) calendars() {
	for _, l := range p.after.Lanes {
		before, after := p.was.lane(l), p.will.lane(l)
		if before < 0 || p.was.Lanes[before].Fits == p.will.Lanes[after].Fits {
			continue
		}
		line := fmt.Sprintf("%s to %s: %s fit into a week, %s so far", l.From, l.To, sets.Size(p.will.Lanes[after].Fits), sets.Size(p.was.Lanes[before].Fits))
		if l.Backlog.Files > 0 {
			line += fmt.Sprintf("; its backlog of %s is through %s", sets.Size(l.Backlog.Bytes), p.through(p.will.ways[after], l.Backlog.Bytes))
		}
		p.follows("%s.", line)
	}
}

// through says when so many bytes will be carried over a way.
func (p *preview) through(w forecast.Way, bytes int64) string {
	done, ok := w.Calendar.Through(p.at, bytes, w.Mbit)
	if !ok {
		return "never"
	}
	return done.Local().Format("Mon 2 Jan 15:04")
}

// lags tells how far behind replicas are for the changes of the last week, and
// fails when a backlog would grow without end.
func (p *preview) lags() {
	for i, lane := range p.will.Lanes {
		if lane.Weekly > lane.Fits {
			p.found.Checks = append(p.found.Checks, planning.TooThin(replicaNamed(p.after, p.will.ways[i].Lane.From), replicaNamed(p.after, p.will.ways[i].Lane.To), lane.Fits, lane.Weekly))
		}
	}
	if p.will.Endless() {
		return
	}
	p.check("calendar", finding.Pass, fmt.Sprintf("what changes in a week (%s) fits through every lane", sets.Size(p.held.Weekly)), "", "")
	for _, r := range p.after.Replicas {
		was, will := p.was.Lags[replica.ID(r.ID)], p.will.Lags[replica.ID(r.ID)]
		if was.Median != will.Median || was.P95 != will.P95 {
			p.follows("%s: half of the changes arrive within %s, 95%% within %s; so far within %s and %s.", r.Name, lasting(will.Median), lasting(will.P95), lasting(was.Median), lasting(was.P95))
		}
	}
}

// lasting says how long something takes, as exactly as a forecast can.
func lasting(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "a minute"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	}
	return fmt.Sprintf("%.1f h", d.Hours())
}

// steady is how a set does with the ways that it has.
type steady struct {
	forecast.Outlook
	ways []forecast.Way
}

// lane is the place of a lane among the ways; -1 when it is none.
func (s *steady) lane(l model.Lane) int {
	return slices.IndexFunc(s.ways, func(w forecast.Way) bool {
		return w.Lane == replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}
	})
}

func (p *preview) steady(set model.ReplicaSet) steady {
	ways := sets.WaysOf(&set, p.legs, p.at)
	seed := slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Seed })
	return steady{plan.Steady(replica.ID(set.Replicas[seed].ID), p.held.Weekly, ways), ways}
}

func replicaNamed(set model.ReplicaSet, id replica.ID) string {
	i := slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return replica.ID(r.ID) == id })
	return set.Replicas[i].Name
}

// intakes tells of other quotas, and checks those of intakes against the largest files.
func (p *preview) intakes() {
	need := plan.SideBySide([]plan.Place{{Content: p.held}})
	for i, r := range p.after.Replicas {
		was := p.before.Replicas[i]
		if r.IntakeQuota != was.IntakeQuota {
			p.follows("%s: %s may be on its way in at a time, %s so far.", r.Name, quota(r.IntakeQuota), quota(was.IntakeQuota))
		}
		if r.AtticQuota != was.AtticQuota {
			p.follows("%s: its attic may keep %s, %s so far; it keeps %s now.", r.Name, quota(r.AtticQuota), quota(was.AtticQuota), sets.Size(r.Attic.Bytes))
		}
		if r.Sweep() != was.Sweep() {
			p.follows("%s is scanned every %s, every %s so far.", r.Name, sets.Duration(r.Sweep()), sets.Duration(was.Sweep()))
		}
		if r.IntakeQuota != was.IntakeQuota && r.IntakeQuota > 0 && r.IntakeQuota < need {
			p.found.Checks = append(p.found.Checks, planning.SmallIntake(r.Name, r.IntakeQuota, need))
		}
	}
}

// edges tells what other policies make of the edges as they are now.
func (p *preview) edges(ctx context.Context) error {
	if err := p.CheckEdges(ctx, &p.after, func(_ int, name string) string { return "replica.change." + name }); err != nil {
		return err
	}
	for i := range p.after.Replicas {
		r := &p.after.Replicas[i]
		if reflect.DeepEqual(r.Edge, p.before.Replicas[i].Edge) {
			continue
		}
		f, err := p.Foresee(ctx, r, r.Edge)
		if err != nil {
			return err
		}
		p.edge(r, &f)
	}
	return nil
}

// edge tells what a policy makes of one edge.
func (p *preview) edge(r *model.Replica, f *edges.Foreseen) {
	stubs := f.Survey.Stubs
	switch {
	case !r.Edge.HasStubs() && stubs.Files > 0:
		p.follows("%s: the content of %s (%s) is fetched.", r.Name, counted(stubs.Files, "stub"), sets.Size(stubs.Bytes))
		return
	case f.Goes.Files == 0:
		p.follows("%s: no file becomes a stub now: %s free of %s.", r.Name, sets.Size(f.Volume.Free), sets.Size(f.Volume.Total))
	default:
		p.follows("%s: %s become stubs now, which frees %s: %s of %s are free then.", r.Name, counted(f.Goes.Files, "file"), sets.Size(f.Goes.Bytes), sets.Size(f.Volume.Free+f.Goes.Bytes), sets.Size(f.Volume.Total))
	}
	if kept := f.Survey.Kept; kept.Files > 0 {
		p.follows("%s: %s (%s) never become stubs.", r.Name, counted(kept.Files, "file"), sets.Size(kept.Bytes))
	}
	if f.Goes.Files > 0 && f.Goes.Files == f.Survey.Whole.Files-f.Survey.Kept.Files {
		p.check("edge-empty", finding.Warn, fmt.Sprintf("Every file of %s that may become a stub does.", r.Name), "Each first use of a file then waits for the bucket, and costs bytes out of it.", "Lower the free-space line, raise the days, or keep some gigabytes of the newest files.")
	}
	if f.Short > 0 {
		p.check("edge-line", finding.Warn, fmt.Sprintf("%s are missing to the free-space line of %s even then.", sets.Size(f.Short), r.Name), "Other files fill its volume.", "Lower the line, or make room on the volume.")
	}
}

// removals tells what a decision about pending removals does.
func (p *preview) removals() {
	for i := range p.after.Replicas {
		r := &p.after.Replicas[i]
		if r.Removals == nil || r.Decision == p.before.Replicas[i].Decision {
			continue
		}
		files := fmt.Sprintf("%s (%s)", counted(r.Removals.Files, "file"), sets.Size(r.Removals.Bytes))
		if r.Decision == replica.Restore {
			p.follows("%s: %s are restored from the other replicas.", r.Name, files)
			continue
		}
		p.follows("%s are removed at the other replicas as well. Attics keep them for %s.", files, sets.Count(int64(p.after.AtticDays), "day", "days"))
	}
}

func counted(n int64, word string) string {
	return humanize.Comma(n) + " " + english.PluralWord(int(n), word, "")
}

func quota(bytes int64) string {
	if bytes == 0 {
		return "any amount"
	}
	return sets.Size(bytes)
}

// attics tells what attics would throw away.
func (p *preview) attics(ctx context.Context) error {
	for i, r := range p.after.Replicas {
		goes := plan.Count{}
		var items []model.AtticItem
		if p.after.AtticDays < p.before.AtticDays {
			old, err := p.DB.ExpiredAttic(ctx, replica.ID(r.ID), p.at.UTC().AddDate(0, 0, -p.after.AtticDays), 1_000_000)
			if err != nil {
				return err
			}
			items = append(items, old...)
		}
		if quota := p.before.Replicas[i].AtticQuota; r.AtticQuota > 0 && (quota == 0 || r.AtticQuota < quota) {
			beyond, err := p.DB.AtticBeyond(ctx, replica.ID(r.ID), r.AtticQuota)
			if err != nil {
				return err
			}
			items = append(items, beyond...)
		}
		seen := map[int64]bool{}
		for _, item := range items {
			if !seen[item.ID] {
				seen[item.ID] = true
				goes.Add(item.Size)
			}
		}
		if goes.Files > 0 {
			p.check("attic", finding.Warn, fmt.Sprintf("%s: its attic keeps %s (%s) that it would throw away within a minute", r.Name, sets.Count(goes.Files, "file", "files"), sets.Size(goes.Bytes)), "nothing brings them back", "restore what is needed first: bspan replica attic list "+p.after.Name+" --replica "+r.Name)
		}
	}
	return nil
}

func (p *preview) pauses() {
	if p.before.Paused == p.after.Paused {
		return
	}
	if p.after.Paused {
		p.follows("Nothing is looked at or carried until it goes on; people go on working at every replica.")
		return
	}
	p.follows("All replicas are looked at, and what changed meanwhile is carried; where one path was changed at two, the later change wins.")
}
