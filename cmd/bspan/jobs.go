package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func jobCommand() *cli.Command {
	edit := func(name, usage, text string, change func(c *cli.Command) model.EditJob, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "JOB", Flags: append(flags, rehearseFlag()), Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			return onJob(args[0], func(id int64) error {
				job, err := api.EditJob(ctx, id, change(c))
				if err != nil {
					return err
				}
				return done(c, job, text, id, when(job.Next))
			})
		}, "JOB")}
	}
	yes, no := true, false
	return &cli.Command{Name: "job", Usage: "work that is done again and again", Commands: []*cli.Command{
		{Name: "list", Usage: "list the work that is done again and again", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
			list, err := api.Jobs(ctx)
			if err != nil {
				return err
			}
			t := table{heads: []string{"job", "work", "about", "when", "next", "last run", "how it ended"}, empty: "Nothing is done again and again yet. Begin with, say: bspan replica verify SET --again \"daily 02:30\""}
			for _, j := range list {
				next, last := when(j.Next), ""
				if !j.Enabled {
					next = "disabled"
				}
				if j.LastRun != 0 {
					last = fmt.Sprint(j.LastRun)
				}
				t.add(fmt.Sprint(j.ID), j.Kind, j.Subject, j.Rule, next, last, j.LastState)
			}
			return show(c, list, t)
		})},
		edit("at", "change when a job is done", "job %d is done next %s", func(c *cli.Command) model.EditJob { return model.EditJob{Rule: sent(c, "again")} },
			&cli.StringFlag{Name: "again", Required: true, Usage: "`WHEN`, such as \"mon-fri 02:30\", \"daily 04:00\" or \"every 6h\""}),
		edit("enable", "do a job again", "job %d is done next %s", func(*cli.Command) model.EditJob { return model.EditJob{Enabled: &yes} }),
		edit("disable", "do a job no more, and keep it", "job %d is disabled; it would be done %s", func(*cli.Command) model.EditJob { return model.EditJob{Enabled: &no} }),
		{Name: "run", Usage: "do a job now", ArgsUsage: "JOB", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			return onJob(args[0], func(id int64) error {
				r, err := api.RunJob(ctx, id)
				if err != nil {
					return err
				}
				return done(c, r, "run %d has begun; follow it with: bspan run show --wait %d", r.ID, r.ID)
			})
		}, "JOB")},
		{Name: "remove", Usage: "forget a job; its runs stay", ArgsUsage: "JOB", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			return onJob(args[0], func(id int64) error {
				if err := api.RemoveJob(ctx, id); err != nil {
					return err
				}
				return done(c, nil, "job %d is removed", id)
			})
		}, "JOB")},
	}}
}

// onJob reads the number of a job.
func onJob(text string, do func(id int64) error) error { return onNumber(text, "job list", do) }
