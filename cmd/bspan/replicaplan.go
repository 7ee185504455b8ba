package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
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
		t.add(l.Name, string(l.Outcome), l.Found)
	}
	var lines []string
	for _, l := range p.Checks {
		if l.Outcome != model.Pass {
			lines = append(lines, fmt.Sprintf("%s %s: %s. %s: %s.", strings.ToUpper(string(l.Outcome)), l.Name, l.Found, capital(l.Means), l.Remedy))
		}
	}
	lines = append(lines, "", p.Summary, "")
	for _, l := range p.Layouts {
		lines = append(lines, layoutLines(l)...)
	}
	lines = append(lines, "", "Making it will:")
	for i, step := range p.Steps {
		lines = append(lines, fmt.Sprintf("%3d. %s", i+1, step))
	}
	t.after = strings.Join(lines, "\n")
	return t
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
			line += fmt.Sprintf("; then half of the changes within %s, 95%% within %s", lasting(time.Duration(f.MedianS)*time.Second), lasting(time.Duration(f.P95S)*time.Second))
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
