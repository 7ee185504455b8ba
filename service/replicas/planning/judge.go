package planning

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/finding"
	"bridgespan/core/offload"
	"bridgespan/core/plan"
	"bridgespan/core/replica"
	"bridgespan/core/text"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/service/preflight"
	"bridgespan/service/replicas/sets"
)

// judge makes the checks that need to know what the places hold.
func (p *planner) judge(ctx context.Context) {
	p.judgeOthers(ctx)
	for i, s := range p.sites {
		p.judgeContent(s)
		p.judgeSpace(s, cmp.Or(p.asked.Replicas[i].IntakeQuota, p.intake()), p.asked.Replicas[i].AtticQuota)
		p.judgeNames(s)
	}
	p.judgeAccounts(ctx)
	p.judgeIntake()
	for _, s := range p.sites {
		p.note(s.open, s.opened)
	}
}

// judgeOthers looks for other sets in the same folders.
func (p *planner) judgeOthers(ctx context.Context) {
	err := cmp.Or(p.Free(ctx, p.DB.Queries, p.set), p.PhysicallyApart(ctx, &p.set))
	if _, bad := p.DB.ReplicaSet(ctx, p.set.Name); bad == nil {
		p.add("name", finding.Fail, fmt.Sprintf("there is a set %s already", p.set.Name), "two sets cannot have one name", "choose another name")
	}
	if err == nil {
		p.add("other sets", finding.Pass, "no other set is inside or around these folders", "", "")
		return
	}
	p.add("other sets", finding.Fail, sets.Words(err), "two sets would work against each other", "choose another folder")
}

func (p *planner) judgeContent(s *planSite) {
	c := &s.place
	switch {
	case c.Seed:
		p.add("content", finding.Pass, fmt.Sprintf("%s, the seed: %s, %s, in %s; %s of them changed within the last seven days", s.replica.Name, sets.Count(c.Files, "file", "files"), sets.Size(c.Bytes), sets.Count(c.Folders, "folder", "folders"), sets.Size(c.Weekly)), "", "")
	case s.tree == nil:
		p.add("content", finding.Pass, fmt.Sprintf("%s: the folder is missing, and is made", s.replica.Name), "", "")
	case c.Differ.Files+c.Extra.Files > 0:
		p.add("content", finding.Warn, fmt.Sprintf("%s: %s (%s) can be adopted without being carried; %s differ and %s (%s) are not at the seed", s.replica.Name, sets.Count(c.Equal.Files, "file", "files"), sets.Size(c.Equal.Bytes), sets.Count(c.Differ.Files, "file", "files"), sets.Count(c.Extra.Files, "file", "files"), sets.Size(c.Extra.Bytes)),
			"what differs or is not at the seed goes to the attic there; people see the seed's", fmt.Sprintf("look at them first, or make %s the seed; the attic keeps them for %d days", s.replica.Name, p.set.AtticDays))
	default:
		p.add("content", finding.Pass, fmt.Sprintf("%s: %s (%s) can be adopted without being carried; nothing else is there", s.replica.Name, sets.Count(c.Equal.Files, "file", "files"), sets.Size(c.Equal.Bytes)), "", "")
	}
}

// judgeSpace compares what is free with what comes, its intake, and what its attic may
// keep, in bytes; 0 where that is not bounded.
func (p *planner) judgeSpace(s *planSite, intake, attic int64) {
	if !s.place.Seed {
		p.lines = append(p.lines, preflight.Space(s.replica.Name, preflight.Need{Content: s.content(), Intake: intake, Attic: attic, Free: s.space.Free}))
	}
}

func (p *planner) judgeNames(s *planSite) {
	p.note(preflight.PathLength(s.preflight(), p.longest()))
	if s.unread.n > 0 {
		p.add("unreadable", finding.Warn, fmt.Sprintf("%s: %s be read, such as %s: %s", s.replica.Name, sets.Count(s.unread.n, "file or folder cannot", "files or folders cannot"), text.Middle(s.unread.first), compare.Unreadable(s.why)),
			"what cannot be read is not counted here, and is not carried from there", "let the account in that Bridge Span signs in with, or leave it out")
	}
	if s.spelled.n > 0 {
		p.add("names", finding.Warn, fmt.Sprintf("%s: %s other upper and lower case than at the seed, such as %s", s.replica.Name, sets.Count(s.spelled.n, "name has", "names have"), text.Middle(s.spelled.first)), "they are spelled as at the seed afterwards", "nothing has to be done")
	}
	if s.clashes.n > 0 {
		p.add("names", finding.Warn, fmt.Sprintf("%s: %s from another in upper and lower case alone, such as %s", s.replica.Name, sets.Count(s.clashes.n, "name differs", "names differ"), text.Middle(s.clashes.first)), "of those that differ so, one alone is carried", "give them other names")
	}
	if s.refused.n > 0 {
		p.add("names", finding.Warn, fmt.Sprintf("%s: %s, such as %s: %s", s.replica.Name, sets.Count(s.refused.n, "name of the seed is refused there", "names of the seed are refused there"), text.Middle(s.refused.first), strings.TrimPrefix(s.refusal.Error(), fs.ErrInvalid.Error()+": ")), "what has such a name, and what is in it, is not carried there", "give it another name at the seed, or leave it out")
	}
}

func (p *planner) longest() (name string) {
	for _, s := range p.sites {
		if len([]rune(s.place.LongestPath)) > len([]rune(name)) {
			name = s.place.LongestPath
		}
	}
	return name
}

// places are those of the plan, as far as is known.
func (p *planner) places() (places []plan.Place) {
	for _, s := range p.sites {
		places = append(places, s.place)
	}
	return places
}

// intake is how much the intake of a replica may hold, when nobody says so.
func (p *planner) intake() int64 { return plan.Intake(p.places()) }

func (p *planner) judgeIntake() {
	need := plan.SideBySide(p.places())
	for i, r := range p.set.Replicas {
		if given := p.asked.Replicas[i].IntakeQuota; given > 0 && given < need {
			p.lines = append(p.lines, SmallIntake(r.Name, given, need))
		}
	}
}

// SmallIntake tells of an intake that holds less than the largest files side by side.
func SmallIntake(name string, given, need int64) finding.Finding {
	return finding.Finding{Code: "intake", Severity: finding.Warn, Found: fmt.Sprintf("%s: the intake may hold %s; the %d largest files side by side need %s", name, sets.Size(given), plan.Together, sets.Size(need)),
		Meaning: "large files wait for each other", Remedy: "give it " + sets.Size(need) + ", or no quota"}
}

// network tells what a lane of the plan runs over.
func (p *planner) network(legs map[[2]int]plan.Route) plan.Network {
	own := map[replica.Lane]string{}
	for _, l := range p.set.Lanes {
		from, _ := sets.PlaceOf(&p.set, "", l.From)
		to, _ := sets.PlaceOf(&p.set, "", l.To)
		own[replica.Lane{From: replica.ID(from), To: replica.ID(to)}] = l.Calendar
	}
	return func(l replica.Lane) (float64, time.Duration, calendar.Week) {
		week, err := calendar.Parse("calendar", sets.OrText(own[l], p.set.Calendar))
		if err != nil {
			week = calendar.Always()
		}
		between := legs[[2]int{int(l.From), int(l.To)}]
		return between.Mbit, between.RTT, week
	}
}

// legs are what lies between each two places.
func (p *planner) legs(ctx context.Context) (map[[2]int]plan.Route, error) {
	all, err := p.DB.Legs(ctx)
	legs := map[[2]int]plan.Route{}
	for i, a := range p.set.Replicas {
		for k, b := range p.set.Replicas {
			route := plan.Between(all, a.Site, b.Site)
			route.Mbit = cmp.Or(route.Mbit, sets.UnknownMbit)
			legs[[2]int{i, k}] = route
		}
	}
	return legs, err
}

// result is the plan.
func (p *planner) result(ctx context.Context) model.ReplicaPlan {
	out := model.ReplicaPlan{Places: []model.PlanPlace{}, Layouts: []model.PlanLayout{}, Intake: p.intake()}
	legs, err := p.legs(ctx)
	if err != nil {
		p.add("legs", finding.Warn, "the legs between the sites cannot be read: "+sets.Words(err), "the forecast takes them for fast", "try again")
	}
	p.judgeLegs(legs)
	places := make([]plan.Place, len(p.sites))
	for i, s := range p.sites {
		places[i] = s.place
		out.Places = append(out.Places, model.PlanPlace{Replica: s.replica.Name, Seed: s.place.Seed, There: s.tree != nil, Content: s.place.Content,
			Equal: s.place.Equal, Differ: s.place.Differ, Extra: s.place.Extra, Missing: s.place.Missing, Free: s.space.Free})
	}
	p.judgeSealing(ctx)
	for _, s := range p.sites {
		if f, ok := p.JudgeStubs(ctx, &s.replica); ok {
			p.add(f.Code, f.Severity, s.replica.Name+": "+f.Found, f.Meaning, f.Remedy)
		}
	}
	network := p.network(legs)
	for _, layout := range p.layouts() {
		o := plan.Foretell(places, p.lanesOf(layout), network, p.at.Local())
		out.Layouts = append(out.Layouts, p.layout(layout, o, legs))
	}
	p.judgeForecast(out.Layouts[0])
	out.Checks = p.lines
	out.Outcome = finding.Worst(p.lines)
	out.CanCreate = out.Outcome != finding.Fail
	out.Steps = p.steps(ctx)
	out.Costs = p.costs()
	out.Summary = p.summary(out)
	return out
}

// judgeSealing tells what it means that files are to be encrypted.
func (p *planner) judgeSealing(ctx context.Context) {
	for _, s := range p.sites {
		if s.replica.Sealing == nil {
			continue
		}
		f, err := p.JudgeSealing(ctx, s.replica.Target(), s.replica.Sealing, s.place.Content.Files == 0)
		if err != nil {
			p.add("sealing", finding.Warn, "whether the folder is sealed cannot be read: "+sets.Words(err), "", "try again")
			continue
		}
		p.note(f, true)
		for _, edge := range p.sites[1:] {
			p.note(judgeEncryption(edge), true)
		}
	}
}

// judgeEncryption tells where the files of an edge are encrypted.
func judgeEncryption(s *planSite) finding.Finding {
	found := "the service encrypts its files before they leave for the bucket, since the server has no mover"
	if s.server.Can(model.OpensBuckets) {
		found = "its mover encrypts files before they leave the host"
	}
	return finding.New(finding.Pass, "sealing", "", s.replica.Name+": "+found, "", "")
}

// costs foretells what the bucket of a cloud set costs.
func (p *planner) costs() *model.CloudCosts {
	if !p.set.IsCloudSet() || p.sites[0].server.Cloud == nil {
		return nil
	}
	prices := p.sites[0].server.Cloud.Prices()
	var seed plan.Content
	var readers []plan.Reader
	for i, s := range p.sites {
		if s.place.Seed {
			seed = s.place.Content
		} else if i > 0 {
			readers = append(readers, s.reader())
		}
	}
	a := plan.AmountsOf(seed, readers)
	return &model.CloudCosts{Currency: prices.Currency, StoredBytes: a.Stored, Stored: prices.StoredFor(a.Stored), FillBytes: a.Fill, Fill: prices.OutFor(a.Fill), MonthlyBytes: a.Monthly, Monthly: prices.OutFor(a.Monthly)}
}

// reader is an edge as it reads out of its bucket.
func (s *planSite) reader() plan.Reader {
	r := plan.Reader{Missing: s.place.Load().Bytes, Stubs: s.replica.Edge.HasStubs()}
	if r.Stubs && s.replica.Edge.Fill == model.FillNames {
		volume := offload.Volume{Total: s.space.Total, Free: s.space.Free}
		policy := offload.Policy{Free: s.replica.Edge.FreePercent}
		r.Room = volume.Free - policy.Line(volume)
	}
	return r
}

// layouts are the layout that was asked for, and those to compare it with.
func (p *planner) layouts() []string {
	list := []string{p.set.Layout}
	for _, other := range []string{model.LayoutMesh, model.LayoutHub, model.LayoutChain} {
		if other != p.set.Layout {
			list = append(list, other)
		}
	}
	return list
}

func (p *planner) lanesOf(layout string) []replica.Lane {
	var ids []replica.ID
	for i := range p.sites {
		ids = append(ids, replica.ID(i))
	}
	if layout != model.LayoutCustom {
		return sets.Lay(layout, ids)
	}
	var lanes []replica.Lane
	for _, l := range p.set.Lanes {
		from, _ := sets.PlaceOf(&p.set, "", l.From)
		to, _ := sets.PlaceOf(&p.set, "", l.To)
		lanes = append(lanes, replica.Lane{From: replica.ID(from), To: replica.ID(to)})
	}
	return lanes
}

func (p *planner) layout(name string, o plan.Outlook, legs map[[2]int]plan.Route) model.PlanLayout {
	l := model.PlanLayout{Layout: name, Asked: name == p.set.Layout, Endless: o.Steady.Endless(), Fills: []model.PlanFill{}, Lanes: []model.PlanLane{}, Legs: []model.PlanLeg{}}
	if !o.Filled.IsZero() {
		at := o.Filled.UTC()
		l.Filled = &at
	}
	for i, s := range p.sites {
		if s.place.Seed {
			continue
		}
		f := model.PlanFill{Replica: s.replica.Name, Bytes: s.place.Load().Bytes}
		if fill, ok := o.Fills[replica.ID(i)]; ok {
			begin, end := fill.Start.UTC(), fill.End.UTC()
			f.From, f.Start, f.End = p.sites[fill.From].replica.Name, &begin, &end
		}
		lag := o.Steady.Lags[replica.ID(i)]
		f.MedianS, f.P95S = int64(lag.Median.Seconds()), int64(lag.P95.Seconds())
		l.Fills = append(l.Fills, f)
	}
	var routes []plan.Route
	for i, lane := range o.Lanes {
		route := legs[[2]int{int(lane.From), int(lane.To)}]
		routes = append(routes, route)
		l.Lanes = append(l.Lanes, model.PlanLane{From: p.sites[lane.From].replica.Name, To: p.sites[lane.To].replica.Name, Mbit: route.Mbit,
			First: o.Carried[lane], Weekly: o.Steady.Lanes[i].Weekly, Fits: o.Steady.Lanes[i].Fits})
	}
	for _, over := range o.OverLegs(routes) {
		l.Legs = append(l.Legs, model.PlanLeg(over))
	}
	return l
}

func (p *planner) judgeLegs(legs map[[2]int]plan.Route) {
	for i, a := range p.set.Replicas {
		for k, b := range p.set.Replicas[:i] {
			route := legs[[2]int{i, k}]
			p.note(preflight.Leg(route.Known(), b.Site, a.Site, sets.UnknownMbit))

		}
	}
}

func (p *planner) judgeForecast(l model.PlanLayout) {
	for _, lane := range l.Lanes {
		if lane.Weekly > lane.Fits {
			p.lines = append(p.lines, TooThin(lane.From, lane.To, lane.Fits, lane.Weekly))
		}
	}
	for _, f := range l.Fills {
		if f.End == nil {
			p.add("calendar", finding.Fail, fmt.Sprintf("%s is never filled: no lane to it is ever open", f.Replica), "people would find nothing there", "open a lane to it")
		}
	}
	if !l.Endless && l.Filled != nil {
		p.add("calendar", finding.Pass, "what changes in a week fits through every lane", "", "")
	}
}

// TooThin is the check of a lane through which less fits than changes, in bytes a week.
func TooThin(from, to string, fits, weekly int64) finding.Finding {
	return finding.Finding{Code: "calendar", Severity: finding.Fail, Found: fmt.Sprintf("%s to %s: %s fit into a week, and %s change", from, to, sets.Size(fits), sets.Size(weekly)),
		Meaning: "the backlog grows without end", Remedy: "open the lane for longer, let it carry faster, or leave something out"}
}

// steps are what making the set does.
func (p *planner) steps(ctx context.Context) (list []string) {
	for _, st := range p.stepsOf(ctx, p.asked) {
		there := func(s *planSite) bool { return s.tree != nil && s.replica.Name == st.FolderOf }
		if st.FolderOf == "" || !slices.ContainsFunc(p.sites, there) {
			list = append(list, st.Text)
		}
	}
	for _, s := range p.sites {
		if c := s.place; !c.Seed {
			list = append(list, fmt.Sprintf("Fill %s: adopt %s, carry %s (%s), put %s into the attic.", s.replica.Name, sets.Count(c.Equal.Files, "file", "files"), sets.Count(c.Missing.Files+c.Differ.Files, "file", "files"), sets.Size(c.Load().Bytes), sets.Count(c.Differ.Files+c.Extra.Files, "file", "files")))
		}
	}
	return append(list, "From then on carry what people change anywhere to all others.")
}

func (p *planner) summary(out model.ReplicaPlan) string {
	var seed *planSite
	var others []string
	for _, s := range p.sites {
		if s.place.Seed {
			seed = s
		} else {
			others = append(others, s.replica.Name)
		}
	}
	text := fmt.Sprintf("%s keeps %s (%s) of %s the same at %s, as a %s.", p.set.Name, sets.Count(seed.place.Files, "file", "files"), sets.Size(seed.place.Bytes), seed.replica.Target(), strings.Join(others, " and "), p.set.Layout)
	var last *model.PlanFill
	for i, f := range out.Layouts[0].Fills {
		if f.End != nil && (last == nil || f.End.After(*last.End)) {
			last = &out.Layouts[0].Fills[i]
		}
	}
	switch {
	case out.Layouts[0].Filled == nil:
		text += " It is never filled as it is planned."
	case last.End.Sub(p.at) < time.Minute:
		text += " The first fill takes less than a minute."
	default:
		text += fmt.Sprintf(" The first fill takes %s, until %s.", sets.Duration(last.End.Sub(p.at)), last.End.Local().Format("Mon 2 Jan 15:04"))
	}
	if out.Outcome == finding.Fail {
		text += " It cannot be made as it is: see the checks that fail."
	}
	return text
}

// content is how many bytes come to a place: stubs occupy none.
func (s *planSite) content() int64 {
	if s.replica.Edge.HasStubs() {
		return 0
	}
	return s.place.Load().Bytes
}
