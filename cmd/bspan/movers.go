package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func moverCommand() *cli.Command {
	return &cli.Command{Name: "mover", Usage: "the programs of movers, and their updates", Commands: []*cli.Command{
		{Name: "list", Usage: "list movers with their versions, and the saved updates", Action: signedIn(listMovers)},
		{Name: "update", Usage: "update movers to the build of the service, one after the other; all outdated ones when none is named", ArgsUsage: "[SERVER]...", Flags: []cli.Flag{
			&cli.StringFlag{Name: "again", Usage: "do it again and again: `WHEN` such as \"sun 02:30\" or \"daily 04:00\""},
			&cli.DurationFlag{Name: "for", Usage: "begin no further update after this `DURATION`, such as 2h"},
			&cli.BoolFlag{Name: "rehearse", Usage: "list the movers that would be updated, and update none"},
			&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}}, Action: signedIn(updateMovers, "SERVER...?")},
		{Name: "updated", Usage: "show a run that updated movers", ArgsUsage: "RUN", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			return onRun(args[0], func(id int64) error { return showMoverUpdates(ctx, c, api, id) })
		}, "RUN")},
	}}
}

func listMovers(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.Movers(ctx)
	if err != nil {
		return err
	}
	jobs, err := api.Jobs(ctx)
	if err != nil {
		return err
	}
	t := moverTable(list)
	t.empty = "No server has a mover. Start one on a host with: bspand mover --folder NAME=PATH"
	for _, j := range jobs {
		if j.Kind != "update-movers" {
			continue
		}
		state := "the next time " + when(j.Next)
		if !j.Enabled {
			state = "disabled"
		}
		t.after += fmt.Sprintf("Job %d updates outdated movers %s, %s.\n", j.ID, j.Rule, state)
	}
	return show(c, list, t)
}

func moverTable(list []model.Mover) table {
	t := table{heads: []string{"server", "site", "version", "status", "edges", "problem"}}
	for _, m := range list {
		t.add(m.Server, m.Site, m.Version, m.State, strings.Join(m.Edges, ", "), m.Problem)
	}
	return t
}

func updateMovers(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	asked := model.UpdateMovers{Servers: args, ForMin: int(c.Duration("for") / time.Minute)}
	if c.Bool("rehearse") {
		return rehearseUpdates(ctx, c, api, args)
	}
	if again := c.String("again"); again != "" {
		job, err := api.ScheduleMoverUpdates(ctx, model.ScheduleMoverUpdates{UpdateMovers: asked, Rule: again})
		if err != nil {
			return err
		}
		return done(c, job, "job %d updates movers %s, the next time %s", job.ID, job.Rule, when(job.Next))
	}
	u, err := api.UpdateMovers(ctx, asked)
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, u.Run, u, func(id int64) error { return showMoverUpdates(ctx, c, api, id) })
}

// rehearseUpdates lists the movers that an update is about.
func rehearseUpdates(ctx context.Context, c *cli.Command, api *client.Client, names []string) error {
	list, err := api.Movers(ctx)
	if err != nil {
		return err
	}
	chosen := []model.Mover{}
	for _, m := range list {
		named := false
		for _, name := range names {
			named = named || strings.EqualFold(name, m.Server)
		}
		if m.State == model.MoverOutdated && !m.Unable && (named || len(names) == 0) {
			chosen = append(chosen, m)
		}
	}
	t := moverTable(chosen)
	t.empty = "No mover would be updated."
	if len(chosen) > 0 {
		t.after = fmt.Sprintf("%s would be updated, in this order. Nothing was changed.\n", english.Plural(len(chosen), "mover", ""))
	}
	return show(c, chosen, t)
}

func showMoverUpdates(ctx context.Context, c *cli.Command, api *client.Client, id int64) error {
	u, err := api.MoverUpdates(ctx, id)
	if err != nil {
		return err
	}
	t := table{heads: []string{"server", "from", "status", "took", "problem"}, empty: "All movers are current."}
	for _, m := range u.Movers {
		took := ""
		if m.TookMs > 0 {
			took = (time.Duration(m.TookMs) * time.Millisecond).Round(100 * time.Millisecond).String()
		}
		t.add(m.Server, m.From, m.State, took, m.Problem)
	}
	return show(c, u, t)
}
