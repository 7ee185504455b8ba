package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/text"
	"bridgespan/model"
)

func runCommand() *cli.Command {
	simple := func(name, usage string, do func(ctx context.Context, api *client.Client, id int64) (model.Run, error), text string) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "RUN", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			return onRun(args[0], func(id int64) error {
				r, err := do(ctx, api, id)
				if err != nil {
					return err
				}
				return done(c, r, text, id)
			})
		}, "RUN")}
	}
	return &cli.Command{Name: "run", Usage: "work that takes a while", Commands: []*cli.Command{
		{Name: "list", Usage: "list the newest runs", Flags: []cli.Flag{&cli.StringFlag{Name: "kind", Usage: "of this `KIND` alone, such as survey, verify-set or estimate"}, &cli.IntFlag{Name: "limit", Value: 30, Usage: "at most `N`"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
				runs, err := api.Runs(ctx, c.String("kind"), c.Int("limit"))
				if err != nil {
					return err
				}
				return show(c, runs, runTable(runs))
			})},
		{Name: "show", Usage: "show how far a run is; with --wait until it ends", ArgsUsage: "RUN", Flags: []cli.Flag{&cli.BoolFlag{Name: "wait", Usage: "wait until it ends"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onRun(args[0], func(id int64) error {
					r, err := api.Run(ctx, id)
					if err != nil {
						return err
					}
					if c.Bool("wait") {
						if r, err = follow(ctx, c, api, r); err != nil {
							return err
						}
					}
					return show(c, r, runTable([]model.Run{r}))
				})
			}, "RUN")},
		simple("stop", "stop a run; what it did is kept", func(ctx context.Context, api *client.Client, id int64) (model.Run, error) {
			return api.StopRun(ctx, id)
		}, "run %d is being stopped"),
		simple("resume", "go on with a run that stopped or failed", func(ctx context.Context, api *client.Client, id int64) (model.Run, error) {
			return api.ResumeRun(ctx, id)
		}, "run %d goes on"),
		simple("remove", "forget a run that ended, and what it found", func(ctx context.Context, api *client.Client, id int64) (model.Run, error) {
			return model.Run{ID: id}, api.RemoveRun(ctx, id)
		}, "run %d is forgotten"),
	}}
}

// onRun reads the number of a run.
func onRun(text string, do func(id int64) error) error { return onNumber(text, "run list", do) }

func runTable(runs []model.Run) table {
	t := table{heads: []string{"run", "kind", "of", "state", "done", "rate", "left", "by", "created"}, empty: "There are no runs yet."}
	for _, r := range runs {
		state := string(r.State)
		if r.State == model.RunRunning || r.State == model.RunStopped {
			state += fmt.Sprintf(" %.0f%%", 100*r.Fraction)
		}
		if r.Trouble != "" {
			state += ": " + r.Trouble
		}
		if r.Waits != "" {
			state += ", waits: " + r.Waits
		}
		t.add(fmt.Sprint(r.ID), r.Kind, r.Subject, state, humanize.Comma(r.Done), fmt.Sprintf("%.0f/s", r.Rate), left(r), r.Who, when(r.Created))
	}
	return t
}

func left(r model.Run) string {
	if r.LeftS == nil {
		return ""
	}
	return (time.Duration(*r.LeftS) * time.Second).String()
}

// follow shows how far a run is on one line of the terminal, until it ends.
func follow(ctx context.Context, c *cli.Command, api *client.Client, r model.Run) (model.Run, error) {
	said, waits := false, ""
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for !r.State.Ended() {
		if r.Waits != waits { // a line of its own: it may be long until there is another
			if waits = r.Waits; waits != "" {
				fmt.Fprintf(c.Root().ErrWriter, "%s waits: %s.\n", r.Kind, waits)
			}
		}
		if terminal(os.Stderr) {
			fmt.Fprintf(os.Stderr, "\r\033[K%s %s: %s", r.Kind, text.Visible(r.Subject), text.Visible(progressWords(ctx, api, r)))
			said = true
		}
		select {
		case <-ctx.Done():
			return r, fmt.Errorf("no longer waiting; run %d goes on: bspan run show --wait %d, bspan run stop %d", r.ID, r.ID, r.ID)
		case <-tick.C:
		}
		var err error
		if r, err = api.Run(ctx, r.ID); err != nil {
			return r, err
		}
	}
	if said {
		fmt.Fprint(os.Stderr, "\r\033[K")
	}
	return r, nil
}

// progressWords says how far a run is.
func progressWords(ctx context.Context, api *client.Client, r model.Run) string {
	if r.Kind == "estimate" {
		if e, err := api.Estimate(ctx, r.ID); err == nil {
			return strings.TrimSpace(estimateWords(&e.Progress) + ". " + leftWords(r))
		}
	}
	return fmt.Sprintf("%s done, %.0f%%, %.0f/s %s", doneWords(r), 100*r.Fraction, r.Rate, leftWords(r))
}

// throughRun shows what a run that was started comes to, when it has ended; with
// --no-wait that it has begun, at once. shown shows it by its number.
func throughRun(ctx context.Context, c *cli.Command, api *client.Client, run model.Run, started any, shown func(id int64) error) error {
	if c.Bool("no-wait") {
		return show(c, started, runTable([]model.Run{run}))
	}
	run, err := follow(ctx, c, api, run)
	if err != nil {
		return err
	}
	if err := shown(run.ID); err != nil {
		return err
	}
	return ended(run)
}

// doneWords is how much is done, of what the run is about.
func doneWords(r model.Run) string {
	if r.Bytes == 0 {
		return humanize.Comma(r.Done)
	}
	return humanize.Comma(r.Done) + ", " + humanize.IBytes(uint64(r.Bytes))
}

func leftWords(r model.Run) string {
	if r.LeftS == nil {
		return ""
	}
	return "about " + left(r) + " left"
}

func terminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// ended is the error of a run that did not come to its end.
func ended(r model.Run) error {
	switch r.State {
	case model.RunFailed:
		return fmt.Errorf("run %d failed: %s", r.ID, r.Trouble)
	case model.RunStopped:
		return fmt.Errorf("run %d was stopped; go on with: bspan run resume %d", r.ID, r.ID)
	}
	return nil
}

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
