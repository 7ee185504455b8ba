package main

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func compareRights(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if !c.Bool("deep") {
		r, err := api.CompareRights(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		return show(c, r, comparedTable(r))
	}
	r, err := api.StartComparison(ctx, args[0], args[1])
	if err != nil {
		return err
	}
	if c.Bool("no-wait") {
		return show(c, r, comparedTable(r))
	}
	return throughRun(ctx, c, api, *r.Run, r, func(id int64) error {
		r, err := api.Comparison(ctx, id)
		if err != nil {
			return err
		}
		return showCompared(ctx, c, api, r)
	})
}

// mostShown is how many differences one command shows, unless it says otherwise.
const mostShown = 200

// showCompared shows a comparison with as many differences as were asked for.
func showCompared(ctx context.Context, c *cli.Command, api *client.Client, r model.RightsComparison) error {
	most := cmp.Or(c.Int("limit"), mostShown)
	r.Differences = []model.RightsDifference{}
	for cursor := ""; len(r.Differences) < most; {
		page, err := api.Differences(ctx, r.Run.ID, c.String("filter"), cursor, min(most-len(r.Differences), 500))
		if err != nil {
			return err
		}
		r.Differences = append(r.Differences, page.Items...)
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	return show(c, r, comparedTable(r))
}

func comparedTable(r model.RightsComparison) table {
	t := table{heads: []string{"path", "account", "first", "second", "gains", "loses"}, empty: "Nobody gains and nobody loses: the permissions are the same."}
	if r.Run != nil {
		t.empty = fmt.Sprintf("Nobody gains and nobody loses: the permissions are the same (%s files and folders compared).", humanize.Comma(r.Looked))
	}
	for _, s := range r.Share {
		t.add("the share itself", s.Account.Name, string(s.Before), string(s.After), strings.Join(s.Gains, ", "), strings.Join(s.Loses, ", "))
	}
	for _, d := range r.Differences {
		switch {
		case d.Unread != "":
			t.add(d.Path, "", "", "", "", "cannot be read: "+d.Unread)
		case d.Only != "":
			t.add(d.Path, "", "", "", "", "only at the "+d.Only)
		case len(d.Shifts) == 0:
			t.add(d.Path, "nobody", "", "", "", "the text differs, not what it grants")
		}
		for _, s := range d.Shifts {
			t.add(d.Path, s.Account.Name, string(s.Before), string(s.After), strings.Join(s.Gains, ", "), strings.Join(s.Loses, ", "))
		}
	}
	t.after = comparedText(r)
	if r.Run != nil && r.Run.State != model.RunDone && len(t.rows) == 0 {
		t.empty = t.after
	}
	return t
}

// comparedText is what a comparison comes to.
func comparedText(r model.RightsComparison) string {
	var b strings.Builder
	if r.Run == nil {
		return "The two differ. To compare everything below as well: --deep"
	}
	if r.Run.State != model.RunDone {
		fmt.Fprintf(&b, "Run %d is %s, %.0f%%: so far ", r.Run.ID, r.Run.State, 100*r.Run.Fraction)
	}
	fmt.Fprintf(&b, "%s files and folders compared: %s differ", humanize.Comma(r.Looked), humanize.Comma(r.Differ))
	if r.OnlyFirst+r.OnlySecond > 0 {
		fmt.Fprintf(&b, ", %s are at the first place alone, %s at the second", humanize.Comma(r.OnlyFirst), humanize.Comma(r.OnlySecond))
	}
	if r.Unreadable > 0 {
		fmt.Fprintf(&b, ", %s could not be read", humanize.Comma(r.Unreadable))
	}
	b.WriteString(".")
	for i, a := range r.Accounts {
		if i == 20 {
			fmt.Fprintf(&b, "\n  and %d more accounts", len(r.Accounts)-i)
			break
		}
		fmt.Fprintf(&b, "\n  %s gains on %s, loses on %s", a.Account.Name, humanize.Comma(a.Gains), humanize.Comma(a.Loses))
	}
	if all := r.Differ + r.OnlyFirst + r.OnlySecond + r.Unreadable; int64(len(r.Differences)) < all {
		fmt.Fprintf(&b, "\nShown: %s of %s differences. See others with: bspan rights compared %d --filter TEXT, or --limit N", humanize.Comma(int64(len(r.Differences))), humanize.Comma(all), r.Run.ID)
	}
	return b.String()
}
