package main

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/core/plan"
	"bridgespan/core/text"
	"bridgespan/model"
)

// planReplicaSet tells what will come of a set; given the number of a plan, it
// shows that one.
func planReplicaSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	n, err := asked(c, args)
	if err != nil {
		return err
	}
	p, err := api.PlanReplicaSet(ctx, n)
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, p.Run, p, func(id int64) error { return showPlan(ctx, c, api, id) })
}

func showReplicaPlan(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	return onRun(args[0], func(id int64) error { return showPlan(ctx, c, api, id) })
}

func showPlan(ctx context.Context, c *cli.Command, api *client.Client, id int64) error {
	p, err := api.ReplicaPlan(ctx, id)
	if err != nil {
		return err
	}
	return show(c, p, replicaPlanTable(p))
}

// replicaPlanTable shows the checks of a plan, and below them the forecast.
func replicaPlanTable(p model.ReplicaPlan) table {
	t := table{heads: []string{"check", "outcome", "found"}, empty: "The plan is not done yet: " + string(p.Run.State) + "."}
	for _, l := range p.Checks {
		t.add(l.Code, string(l.Severity), l.Found)
	}
	var lines []string
	for _, l := range p.Checks {
		if l.Severity != finding.Pass {
			lines = append(lines, findingLine(l))
		}
	}
	lines = append(lines, "", p.Summary, "")
	for _, l := range p.Layouts {
		lines = append(lines, layoutLines(l)...)
	}
	lines = append(lines, costLines(p.Costs)...)
	lines = append(lines, "", "Making it will:")
	for i, step := range p.Steps {
		lines = append(lines, fmt.Sprintf("%3d. %s", i+1, step))
	}
	t.after = strings.Join(lines, "\n")
	return t
}

// pricesUnknown says what to do where no money can be told.
const pricesUnknown = "Prices are unknown. Set them with: bspan server edit CLOUD --currency EUR --price-stored 0.02 --price-out 0.05"

// costLines say what a bucket will cost.
func costLines(c *model.CloudCosts) []string {
	if c == nil {
		return nil
	}
	lines := []string{"", fmt.Sprintf("Storage in the bucket, per month: %s, %s", size(c.StoredBytes), plan.Money(c.Stored, c.Currency)),
		fmt.Sprintf("First fill: reads %s from the bucket, %s", size(c.FillBytes), plan.Money(c.Fill, c.Currency)),
		fmt.Sprintf("Changes: edges read %s per month, %s; content that is fetched on first use is extra", size(c.MonthlyBytes), plan.Money(c.Monthly, c.Currency))}
	if c.Currency == "" {
		lines = append(lines, pricesUnknown)
	}
	return lines
}

func layoutLines(l model.PlanLayout) []string {
	name := l.Layout
	if l.Asked {
		name += " (asked for)"
	}
	switch {
	case l.Filled == nil:
		name += ": is never filled"
	case l.Endless:
		name += ": its backlog grows without end"
	default:
		name += fmt.Sprintf(": %d lanes, filled %s", len(l.Lanes), l.Filled.Local().Format("Mon 2 Jan 15:04"))
	}
	lines := []string{name}
	for _, f := range l.Fills {
		line := "   " + f.Replica + ": "
		if f.End == nil {
			lines = append(lines, line+"never")
			continue
		}
		line += fmt.Sprintf("%s from %s, until %s", humanize.IBytes(uint64(f.Bytes)), f.From, f.End.Local().Format("Mon 2 Jan 15:04"))
		switch {
		case l.Endless:
		case f.P95S > 0:
			line += fmt.Sprintf("; then half of the changes within %s, 95%% within %s", text.Lasting(time.Duration(f.MedianS)*time.Second), text.Lasting(time.Duration(f.P95S)*time.Second))
		default:
			line += "; then changes within a second"
		}
		lines = append(lines, line)
	}
	for _, leg := range l.Legs {
		lines = append(lines, fmt.Sprintf("   over the leg from %s to %s: %s at first, then %s a week", leg.From, leg.To, humanize.IBytes(uint64(leg.First)), humanize.IBytes(uint64(leg.Weekly))))
	}
	return lines
}

// capital begins a text with a capital letter.
func capital(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// asked reads from flags and arguments what a set is to be made of.
func asked(c *cli.Command, args []string) (model.NewReplicaSet, error) {
	n := model.NewReplicaSet{Name: args[0], Note: c.String("note"), Layout: c.String("layout"), Calendar: c.String("calendar"), Permissions: c.String("permissions"), AtticDays: c.Int("attic-days"), RemovalLimit: sentInt(c, "removal-limit"), Publish: c.String("publish"), AccountMap: c.String("account-map"),
		Filter: filter.Rules{LeaveOut: c.StringSlice("leave-out"), Only: c.StringSlice("only")}}
	if n.AccountMap != "" && !c.IsSet("permissions") {
		n.Permissions = model.PermissionsMap
	}
	if retries(c) {
		n.Retry = retryIn(c, model.UsualRetry)
	}
	for _, text := range args[1:] {
		r, err := askedReplica(text)
		if err != nil {
			return n, err
		}
		r.Rights = c.String("folder-rights")
		n.Replicas = append(n.Replicas, r)
	}
	if seed := c.String("seed"); seed != "" {
		r, err := replicaIn(n.Replicas, "seed", seed)
		if err != nil {
			return n, err
		}
		r.Seed = true
	}
	for flag, into := range map[string]func(*model.NewReplica) *int64{
		"intake": func(r *model.NewReplica) *int64 { return &r.IntakeQuota }, "attic": func(r *model.NewReplica) *int64 { return &r.AtticQuota }} {
		if err := askedQuotas(n.Replicas, flag, c.StringSlice(flag), into); err != nil {
			return n, err
		}
	}
	for flag, set := range map[string]func(p *model.EdgePolicy, value string) error{"fill": setFill, "free": setFree} {
		if err := askedEdges(n.Replicas, flag, c.StringSlice(flag), set); err != nil {
			return n, err
		}
	}
	if s, err := sealFlags(c); err != nil {
		return n, err
	} else if s != nil && len(n.Replicas) > 0 {
		n.Replicas[0].Sealing = s.Sealing()
	}
	for _, text := range c.StringSlice("lane") {
		ends, calendar, _ := strings.Cut(text, "=")
		from, to, ok := strings.Cut(ends, ">")
		if !ok {
			return n, usageError{fmt.Sprintf("lane %q: write FROM>TO or FROM>TO=CALENDAR", text)}
		}
		n.Lanes = append(n.Lanes, model.NewLane{From: strings.TrimSpace(from), To: strings.TrimSpace(to), Calendar: strings.TrimSpace(calendar)})
	}
	return n, nil
}

func setFill(p *model.EdgePolicy, value string) error { p.Fill = value; return nil }

func setFree(p *model.EdgePolicy, value string) (err error) {
	if p.FreePercent, err = strconv.Atoi(strings.TrimSuffix(value, "%")); err != nil {
		return usageError{fmt.Sprintf("--free: %q is no percentage; write it as REPLICA=30", value)}
	}
	return nil
}

// askedEdges reads what flags say of the policies of edges, each as REPLICA=VALUE.
func askedEdges(replicas []model.NewReplica, flag string, texts []string, set func(*model.EdgePolicy, string) error) error {
	for _, text := range texts {
		at := strings.LastIndex(text, "=")
		if at < 0 {
			return usageError{fmt.Sprintf("--%s: %q names no replica; write it as REPLICA=%s", flag, text, text)}
		}
		r, err := replicaIn(replicas, flag, text[:at])
		if err != nil {
			return err
		}
		if r.Edge == nil {
			r.Edge = &model.EdgePolicy{Fill: model.FillNames}
		}
		if err := set(r.Edge, text[at+1:]); err != nil {
			return err
		}
	}
	return nil
}

// askedReplica reads [NAME=]SERVER/SHARE[/FOLDER]. No server and no share has = in its name.
func askedReplica(text string) (r model.NewReplica, err error) {
	place := text
	if server, _, _ := strings.Cut(text, "/"); strings.Contains(server, "=") {
		r.Name, place, _ = strings.Cut(text, "=")
	}
	target, err := namespace.ParseTarget("SERVER/SHARE", place)
	r.Server, r.Share, r.Sub = target.Server, target.Share, target.Sub
	return r, err
}

// placeOf is a replica as an argument names it.
func placeOf(r *model.NewReplica) string {
	return strings.TrimSuffix(strings.Join([]string{r.Server, r.Share, r.Sub}, "/"), "/")
}

// replicaIn finds the replica that a flag names: by its name or its place, or by its
// server where that has one alone.
func replicaIn(replicas []model.NewReplica, flag, text string) (*model.NewReplica, error) {
	is := func(name string) bool { return namespace.Key(name) == namespace.Key(text) }
	var places []string
	var there []*model.NewReplica
	for i := range replicas {
		r := &replicas[i]
		if is(r.Name) || is(placeOf(r)) {
			return r, nil
		}
		if is(r.Server) {
			there = append(there, r)
		}
		places = append(places, placeOf(r))
	}
	switch len(there) {
	case 0:
		return nil, usageError{fmt.Sprintf("--%s: %q is none of %s", flag, text, strings.Join(places, ", "))}
	case 1:
		return there[0], nil
	}
	return nil, usageError{fmt.Sprintf("--%s: %s has several of %s; name one of them", flag, text, strings.Join(places, ", "))}
}

// askedQuotas reads bounds of all replicas, as SIZE, and of single ones, as REPLICA=SIZE:
// these count before those, in whatever order they are given.
func askedQuotas(replicas []model.NewReplica, flag string, texts []string, into func(*model.NewReplica) *int64) error {
	ofOne := map[*model.NewReplica]bool{}
	for _, text := range texts {
		name, size, one := strings.Cut(text, "=")
		if !one {
			size = text
		}
		bytes, err := sizeIn(flag, size)
		if err != nil {
			return err
		}
		if one {
			r, err := replicaIn(replicas, flag, name)
			if err != nil {
				return err
			}
			*into(r), ofOne[r] = bytes, true
			continue
		}
		for i := range replicas {
			if r := &replicas[i]; !ofOne[r] {
				*into(r) = bytes
			}
		}
	}
	return nil
}

// foretold is the answer to a rehearsal of other settings, with what follows
// from them.
type foretold struct {
	*client.Rehearsed
	preview model.SettingsPreview
}

func (f *foretold) Unwrap() error { return f.Rehearsed }

// foretell adds to the answer to a rehearsal what follows from other settings of
// a set; other errors stay as they are.
func foretell(ctx context.Context, api *client.Client, set string, change model.SettingsChange, err error) error {
	told := new(client.Rehearsed)
	if !errors.As(err, &told) {
		return err
	}
	p, bad := api.PreviewSettings(ctx, set, change)
	if bad != nil {
		return bad
	}
	return &foretold{told, p}
}

// rehearsedWith is what a rehearsal shows as JSON when more is told than what
// would be changed.
type rehearsedWith struct {
	model.Rehearsed
	Preview model.SettingsPreview `json:"preview"`
}

// previewLines are what follows, and the checks that somebody has to look at.
func previewLines(p model.SettingsPreview) string {
	lines := []string{"What follows:"}
	for _, f := range p.Follows {
		lines = append(lines, "  "+f)
	}
	for _, l := range p.Checks {
		if l.Severity != finding.Pass {
			lines = append(lines, findingLine(l))
		}
	}
	return strings.Join(lines, "\n") + "\n"
}
