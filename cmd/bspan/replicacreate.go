package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
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
	tell := func(model.ReplicaCreation) {}
	if c.String("output") == "table" {
		tell = (&stepTeller{c: c, said: map[int]string{}}).tell
	}
	s, err := api.CreateReplicaSet(ctx, n, tell)
	if err != nil {
		return err
	}
	return done(c, s, "%s is kept the same in %d places from now on; see how it goes with: bspan replica show %s", s.Name, len(s.Replicas), s.Name)
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
