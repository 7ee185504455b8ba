package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/acl"
	"bridgespan/model"
)

func whoCan(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	asked := acl.Level(c.String("level"))
	if !slices.Contains(acl.Levels, asked) || asked == acl.None {
		return usageError{fmt.Sprintf("level %q is none of full, change, write, read, list", asked)}
	}
	w, err := api.StartWhoCan(ctx, model.AskWhoCan{Path: args[0], Level: asked, Filter: c.String("filter")})
	if err != nil {
		return err
	}
	if c.Bool("no-wait") {
		return show(c, w, whoCanTable(w))
	}
	return throughRun(ctx, c, api, w.Run, w, func(id int64) error {
		w, err := api.WhoCan(ctx, id)
		if err != nil {
			return err
		}
		return show(c, w, whoCanTable(w))
	})
}

func whoCanTable(w model.WhoCan) table {
	t := table{heads: []string{"account", "has", "because"}}
	for _, p := range w.People {
		var why []string
		for _, r := range p.Reasons {
			why = append(why, r.Text)
		}
		t.add(p.Account.Name, level(p.Level, p.Words), strings.Join(why, "; "))
	}
	t.after = whoCanText(w)
	t.empty = t.after
	return t
}

// whoCanText is what a search comes to.
func whoCanText(w model.WhoCan) string {
	var b strings.Builder
	if w.Run.State != model.RunDone {
		fmt.Fprintf(&b, "Run %d is %s, %.0f%%: so far ", w.Run.ID, w.Run.State, 100*w.Run.Fraction)
	}
	fmt.Fprintf(&b, "%s of %s users", humanize.Comma(int64(w.Able)), humanize.Comma(int64(w.Looked)))
	if w.Filter != "" {
		fmt.Fprintf(&b, " with %q in their name", w.Filter)
	}
	if w.Able == 1 {
		fmt.Fprintf(&b, " has at least %s there.", w.Level)
	} else {
		fmt.Fprintf(&b, " have at least %s there.", w.Level)
	}
	if w.Able > len(w.People) && len(w.People) > 0 {
		fmt.Fprintf(&b, " The first %d by name are shown; see others with --filter.", len(w.People))
	}
	if !w.Complete {
		b.WriteString("\nNot complete: " + w.Missing)
	}
	return b.String()
}
