package main

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/core/text"
	"bridgespan/model"
)

// createReplicaSet makes a set, and tells of each step what came of it.
func createReplicaSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	n, err := asked(c, args)
	if err != nil {
		return err
	}
	n.Anyway = c.Bool("anyway")
	if c.Bool("no-wait") {
		made, err := api.BeginReplicaSet(ctx, n)
		if err != nil {
			return err
		}
		return show(c, made, runTable([]model.Run{made.Run}))
	}
	s, err := api.CreateReplicaSet(ctx, n, tellSteps(c))
	if err != nil {
		return err
	}
	return done(c, s, "%s is kept the same in %d places from now on; see how it goes with: bspan replica show %s", s.Name, len(s.Replicas), s.Name)
}

// tellSteps tells of the steps of a creation, unless the output is for a program.
func tellSteps(c *cli.Command) func(model.ReplicaCreation) {
	if c.String("output") != "table" {
		return nil
	}
	return (&stepTeller{c: c, said: map[int]string{}}).tell
}

// stepTeller tells of the steps of a creation, each when it is done or undone.
type stepTeller struct {
	c    *cli.Command
	said map[int]string // the state of a step that was told
}

func (t *stepTeller) tell(made model.ReplicaCreation) {
	for i, s := range made.Steps {
		if s.State != model.StepUndone {
			t.step(i, s)
		}
	}
	for i, s := range slices.Backward(made.Steps) { // as they are taken back, after the one that failed
		if s.State == model.StepUndone {
			t.step(i, s)
		}
	}
}

func (t *stepTeller) step(i int, s model.Step) {
	if s.State == model.StepPlanned || s.State == model.StepUnderWay || t.said[i] == s.State {
		return
	}
	t.said[i] = s.State
	line := fmt.Sprintf("%-8s %s", s.State, s.Text)
	if s.Found != "" && s.State != model.StepUndone {
		line += "\n         " + strings.TrimSuffix(capital(s.Found), ".") + "."
	}
	fmt.Fprintln(t.c.Root().Writer, line)
}

// replicaAccounts tells, or renews, what accounts are at each replica.
func replicaAccounts(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.Bool("renew") {
		s, err := api.RenewReplicaAccounts(ctx, args[0])
		if err != nil {
			return err
		}
		return done(c, s, "the accounts of %s are paired anew", s.Name)
	}
	list, err := api.ReplicaAccounts(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"replica", "account of the set", "account there"}, empty: "No account is another one at another replica."}
	var lines []string
	for _, r := range list {
		for _, p := range r.Pairs {
			t.add(r.Replica, p.One.Name, p.Other.Name)
		}
		if r.Stale {
			lines = append(lines, fmt.Sprintf("! The map would pair other accounts of %s by now. To do: bspan replica accounts %s --renew", r.Server, args[0]))
		}
	}
	t.after = strings.Join(lines, "\n")
	return show(c, list, t)
}

// memberCommands change which places a set has.
func memberCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "add", Usage: "add a place to a set; the others stay as they are", ArgsUsage: "SET SERVER/SHARE[/FOLDER]", Flags: []cli.Flag{&cli.StringFlag{Name: "name", Usage: "call it `NAME`; as its server when absent"}, &cli.StringFlag{Name: "folder-rights", Usage: "permissions of its folder when that is made: inherit, seed (those of the seed's folder) or a descriptor in its text form"}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				t, err := namespace.ParseTarget("SERVER/SHARE", args[1])
				if err != nil {
					return err
				}
				s, err := api.AddReplica(ctx, args[0], model.NewReplica{Name: c.String("name"), Server: t.Server, Share: t.Share, Sub: t.Sub, Rights: c.String("folder-rights")})
				if err != nil {
					return err
				}
				return done(c, s, "%s is kept at %s as well from now on; see how it is filled with: bspan replica show %s", s.Name, args[1], s.Name)
			}, "SET", "SERVER/SHARE")},
		{Name: "drop", Usage: "take a place out of a set; its files stay where they are", ArgsUsage: "SET REPLICA", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				s, err := api.DropReplica(ctx, args[0], args[1])
				if err != nil {
					return err
				}
				return done(c, s, "%s belongs to %s no more; its files are where they were", args[1], s.Name)
			}, "SET", "REPLICA")},
		{Name: "rehome", Usage: "put a replica at another place: its server was replaced, say; what is there already is adopted", ArgsUsage: "SET REPLICA SERVER/SHARE[/FOLDER]", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				t, err := namespace.ParseTarget("SERVER/SHARE", args[2])
				if err != nil {
					return err
				}
				s, err := api.EditReplica(ctx, args[0], args[1], model.EditReplica{Home: &model.ReplicaHome{Server: t.Server, Share: t.Share, Sub: t.Sub}})
				if err != nil {
					return err
				}
				return done(c, s, "%s of %s is at %s from now on", args[1], s.Name, args[2])
			}, "SET", "REPLICA", "SERVER/SHARE")},
		{Name: "seed", Usage: "let another replica win the first fill, before anything was carried", ArgsUsage: "SET REPLICA", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				s, err := api.EditReplica(ctx, args[0], args[1], model.EditReplica{Seed: true})
				if err != nil {
					return err
				}
				return done(c, s, "%s wins the first fill of %s", args[1], s.Name)
			}, "SET", "REPLICA")},
		{Name: "sweep", Usage: "set how often a bucket is scanned for changes made there", ArgsUsage: "SET REPLICA", Flags: []cli.Flag{
			&cli.DurationFlag{Name: "every", Usage: "`DURATION` between two scans, from 1m to 168h; 0 for 6h", Required: true}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				every := c.Duration("every")
				if every%time.Minute != 0 || every < 0 {
					return usageError{"--every: give whole minutes, such as 2h or 90m"}
				}
				minutes := int(every / time.Minute)
				e := model.EditReplica{SweepMin: &minutes}
				s, err := api.EditReplica(ctx, args[0], args[1], e)
				if err != nil {
					return foretell(ctx, api, args[0], model.SettingsChange{Replica: &model.ReplicaChange{Name: args[1], Change: e}}, err)
				}
				return done(c, s, "%s is scanned every %s", args[1], text.Lasting(cmp.Or(every, model.UsualSweep)))
			}, "SET", "REPLICA")},
		{Name: "removals", Usage: "show the pending removals of a replica, apply them or restore the files", ArgsUsage: "SET REPLICA", Flags: []cli.Flag{
			&cli.BoolFlag{Name: "apply", Usage: "remove the files at the other replicas as well; attics keep them"},
			&cli.BoolFlag{Name: "restore", Usage: "restore the files from the other replicas"}, rehearseFlag()},
			Action: rehearsable(decideRemovals, "SET", "REPLICA")},
		{Name: "quota", Usage: "bound what may be on its way in to a replica, or what its attic may keep", ArgsUsage: "SET REPLICA", Flags: []cli.Flag{&cli.StringFlag{Name: "intake", Usage: "`SIZE` such as 4GiB"}, &cli.StringFlag{Name: "attic", Usage: "`SIZE` such as 20GiB; 0 for no bound"}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				var e model.EditReplica
				for flag, into := range map[string]**int64{"intake": &e.IntakeQuota, "attic": &e.AtticQuota} {
					if !c.IsSet(flag) {
						continue
					}
					bytes, err := sizeIn(flag, c.String(flag))
					if err != nil {
						return err
					}
					*into = &bytes
				}
				s, err := api.EditReplica(ctx, args[0], args[1], e)
				if err != nil {
					return foretell(ctx, api, args[0], model.SettingsChange{Replica: &model.ReplicaChange{Name: args[1], Change: e}}, err)
				}
				return done(c, s, "the quotas of %s are changed", args[1])
			}, "SET", "REPLICA")},
	}
}

// decideRemovals shows the pending removals of a replica, applies them or restores the files.
func decideRemovals(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	var d replica.Decision
	switch apply, restore := c.Bool("apply"), c.Bool("restore"); {
	case apply && restore:
		return usageError{"give --apply or --restore, not both"}
	case apply:
		d = replica.Apply
	case restore:
		d = replica.Restore
	default:
		return showRemovals(ctx, c, api, args)
	}
	e := model.EditReplica{Removals: &d}
	s, err := api.EditReplica(ctx, args[0], args[1], e)
	if err != nil {
		return foretell(ctx, api, args[0], model.SettingsChange{Replica: &model.ReplicaChange{Name: args[1], Change: e}}, err)
	}
	if d == replica.Restore {
		return done(c, s, "the next scan restores the files that are missing at %s", args[1])
	}
	return done(c, s, "the next scan removes the files that are missing at %s at the other replicas", args[1])
}

func showRemovals(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	set, err := api.ReplicaSet(ctx, args[0])
	if err != nil {
		return err
	}
	i := slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return namespace.Key(r.Name) == namespace.Key(args[1]) })
	if i < 0 {
		return usageError{fmt.Sprintf("REPLICA: %s has no replica %q; see: bspan replica show %s", set.Name, args[1], shellWord(set.Name))}
	}
	r := &set.Replicas[i]
	t := table{heads: []string{"file"}, empty: r.Name + " has no pending removals."}
	w := r.Removals
	if w == nil {
		return show(c, w, t)
	}
	for _, name := range w.Examples {
		t.add(name)
	}
	if more := w.Files - int64(len(w.Examples)); more > 0 {
		t.add(fmt.Sprintf("and %s more", humanize.Comma(more)))
	}
	t.after = fmt.Sprintf("Missing at %s since %s: %s, %s, of %s. The other replicas keep them.\n", r.Name, when(w.Since), english.Plural(int(w.Files), "file", ""), size(w.Bytes), english.Plural(int(w.Of), "file and folder", "files and folders"))
	switch r.Decision {
	case replica.Undecided:
		of := shellWord(set.Name) + " " + shellWord(r.Name)
		t.after += fmt.Sprintf("Restore the files: bspan replica removals %s --restore. Remove them everywhere: bspan replica removals %s --apply\n", of, of)
	default:
		t.after += fmt.Sprintf("Decided: %s. The next scan does it.\n", r.Decision)
	}
	return show(c, w, t)
}
