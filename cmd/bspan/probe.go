package main

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func probeCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "probe", Usage: "drop a marker file at one replica, and time it at the others", ArgsUsage: "SET", Flags: []cli.Flag{&cli.StringFlag{Name: "from", Usage: "drop it at this `REPLICA`; at the seed when absent"},
			&cli.DurationFlag{Name: "wait", Usage: "give it up after this long; 1h when absent"}, &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"},
			&cli.StringFlag{Name: "again", Usage: "do it again and again: `WHEN` such as \"daily 04:00\" or \"every 6h\""}}, Action: signedIn(dropProbe, "SET")},
		{Name: "probes", Usage: "list the latest probes of a set", ArgsUsage: "SET", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			list, err := api.Probes(ctx, args[0])
			if err != nil {
				return err
			}
			return show(c, list, probeTable(list, args[0]))
		}, "SET")},
	}
}

func dropProbe(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	asked := model.DropProbe{From: c.String("from"), WaitS: int(c.Duration("wait").Seconds())}
	if again := c.String("again"); again != "" {
		job, err := api.ScheduleProbe(ctx, args[0], model.ScheduleProbe{DropProbe: asked, Rule: again})
		if err != nil {
			return err
		}
		return done(c, job, "job %d drops a probe in %s %s, the next time %s", job.ID, args[0], job.Rule, when(job.Next))
	}
	p, err := api.DropProbe(ctx, args[0], asked)
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, p.Run, p, func(id int64) error {
		p, err := api.ReplicaProbe(ctx, id)
		if err != nil {
			return err
		}
		return show(c, p, probeTable([]model.ReplicaProbe{p}, args[0]))
	})
}

func probeTable(list []model.ReplicaProbe, set string) table {
	t := table{heads: []string{"run", "dropped", "from", "to", "content after", "permissions after", "foretold"}, empty: "No probe was dropped yet. Drop one with: bspan replica probe " + set}
	for _, p := range list {
		for _, a := range p.Arrivals {
			t.add(fmt.Sprint(p.Run.ID), when(p.Run.Created), p.From, a.Replica, tookText(a.ContentMs), tookText(a.PermissionsMs), tookText(a.ForetoldMs))
		}
	}
	return t
}

func tookText(ms *int64) string {
	if ms == nil {
		return "-"
	}
	d := time.Duration(*ms) * time.Millisecond
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}
