package main

import (
	"context"
	"fmt"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func verifyReplicaSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	v, err := api.VerifyReplicaSet(ctx, args[0], c.String("level"))
	if err != nil {
		return err
	}
	if c.Bool("no-wait") {
		return show(c, v, runTable([]model.Run{v.Run}))
	}
	run, err := follow(ctx, c, api, v.Run)
	if err != nil {
		return err
	}
	if v, err = api.ReplicaVerification(ctx, run.ID); err != nil {
		return err
	}
	if err := show(c, v, replicaVerificationTable(v)); err != nil {
		return err
	}
	return ended(run)
}

func showReplicaVerification(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	return onRun(args[0], func(id int64) error {
		v, err := api.ReplicaVerification(ctx, id)
		if err != nil {
			return err
		}
		return show(c, v, replicaVerificationTable(v))
	})
}

func replicaVerificationTable(v model.ReplicaVerification) table {
	t := table{heads: []string{"replica", "path", "differs in", v.Against, "there", ""}}
	for _, r := range v.Replicas {
		for _, d := range r.Differences {
			note := ""
			if d.Explained {
				note = "explained"
			}
			t.add(r.Replica, d.Path, string(d.Kind), d.First, d.Second, note)
		}
		t.after += fmt.Sprintf("%s: %s files and folders compared, %s read; %s differences, and %s that are explained.\n", r.Replica, humanize.Comma(r.Counts.Compared), humanize.IBytes(uint64(r.Read)), humanize.Comma(r.Counts.Unexplained()), humanize.Comma(r.Counts.Explained))
	}
	t.after += v.Verdict
	if len(t.rows) == 0 {
		t.empty = t.after
	}
	return t
}
