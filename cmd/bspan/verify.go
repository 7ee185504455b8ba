package main

import (
	"context"
	"fmt"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/verify"
	"bridgespan/model"
)

func verifyLocation(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	name, e, l, err := findLocation(ctx, c, api, args[0])
	if err != nil {
		return err
	}
	v, err := api.VerifyLocation(ctx, name, e, l.ID, c.String("against"))
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, v.Run, v, func(id int64) error {
		v, err := api.Verification(ctx, id)
		if err != nil {
			return err
		}
		return show(c, v, verificationTable(v))
	})
}

func verificationTable(v model.Verification) table {
	t := table{heads: []string{"path", "differs in", v.Against, v.Location, ""}, empty: "No difference."}
	shown := 0
	for _, d := range v.Differences {
		if shown++; shown > 40 {
			break
		}
		note := ""
		if d.Explained {
			note = "explained: of one server alone"
		}
		first, second := d.First, d.Second
		switch d.Kind {
		case verify.Permissions: // too long for a line
			first, second = "", "see: bspan rights compare"
		case verify.Missing:
			second = "missing"
		case verify.Extra:
			first = "missing"
		}
		t.add(d.Path, string(d.Kind), first, second, note)
	}
	n := v.Counts
	t.after = fmt.Sprintf("%s files and folders compared (%s): %s missing, %s extra, %s of another kind, %s of other size, %s of other time, %s with other permissions, %s of other owners; %s differences are explained.\n%s",
		humanize.Comma(n.Compared), humanize.IBytes(uint64(n.Bytes)), humanize.Comma(n.Missing), humanize.Comma(n.Extra), humanize.Comma(n.Kinds), humanize.Comma(n.Sizes), humanize.Comma(n.Times),
		humanize.Comma(n.Permissions), humanize.Comma(n.Owners), humanize.Comma(n.Explained), v.Verdict)
	if shown > 40 {
		t.after = "The first 40 differences are shown; see more with --output json.\n" + t.after
	}
	if len(t.rows) == 0 {
		t.empty = t.after
	}
	return t
}
