package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/account"
	"bridgespan/core/plan"
	"bridgespan/core/text"
	"bridgespan/model"
)

func forecastArrival(ctx context.Context, c *cli.Command, api *client.Client, args []string) (err error) {
	asked := model.AskArrival{Path: append(args, "")[1], MadeAt: c.String("made-at")}
	if c.IsSet("at") {
		if asked.At, err = timeIn("at", c.String("at")); err != nil {
			return err
		}
	}
	if c.IsSet("size") {
		if asked.Size, err = sizeIn("size", c.String("size")); err != nil {
			return err
		}
	}
	f, err := api.Arrival(ctx, args[0], asked)
	if err != nil {
		return err
	}
	t := table{heads: []string{"place", "event", "earliest", "expected", "latest", "probes", "reasons"}}
	for _, p := range f.Places {
		name := p.Replica
		if p.Bucket {
			name += " (bucket)"
		}
		took := ""
		if p.MeasuredMs != nil {
			took = (time.Duration(*p.MeasuredMs) * time.Millisecond).Round(100 * time.Millisecond).String()
		}
		for _, line := range arrivalLines(p) {
			t.add(name, line.what, line.earliest, line.expected, line.latest, took, strings.Join(p.Reasons, "; "))
			name, took, p.Reasons = "", "", nil
		}
	}
	return show(c, f, t)
}

type arrivalLine struct{ what, earliest, expected, latest string }

// timeIn reads a time of this host's clock.
func timeIn(flag, text string) (at time.Time, err error) {
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", time.DateOnly} {
		if at, err = time.ParseInLocation(form, text, time.Local); err == nil {
			return at, nil
		}
	}
	return at, usageError{fmt.Sprintf("--%s: %q is no time; write it as 2026-03-02 17:30", flag, text)}
}

// arrivalLines are the rows of a place: for name and content, or for both at once.
func arrivalLines(p model.PlaceArrival) (lines []arrivalLine) {
	add := func(what string, s *model.ArrivalSpan) {
		lines = append(lines, arrivalLine{what, when(s.Earliest), when(s.Expected), when(s.Latest)})
	}
	switch {
	case p.Present:
		return []arrivalLine{{what: "present"}}
	case p.Name == nil:
		return []arrivalLine{{what: "never"}}
	case p.Content != nil && *p.Name == *p.Content:
		add("name and content", p.Content)
	case p.Content != nil:
		add("name", p.Name)
		add("content", p.Content)
	default:
		add("name", p.Name)
		lines = append(lines, arrivalLine{what: "content on first use"})
	}
	return lines
}

func findAccountUses(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.Bool("latest") {
		list, err := api.LatestAccountUses(ctx, args[0])
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return usageError{"--latest: no accounts were listed yet; leave it out"}
		}
		return showAccountUses(c, list[0])
	}
	u, err := api.FindAccountUses(ctx, args[0])
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, u.Run, u, func(id int64) error {
		if u, err = api.AccountUses(ctx, id); err != nil {
			return err
		}
		return showAccountUses(c, u)
	})
}

var reachWords = map[account.Reach]string{account.ReachEverywhere: "same everywhere", account.ReachMapped: "mapped", account.ReachLocal: "local", account.ReachNone: "unresolved"}

func showAccountUses(c *cli.Command, u model.AccountUses) error {
	t := table{heads: []string{"account", "status", "items"}, empty: "The permissions name no accounts."}
	if len(u.Accounts) > 0 {
		for _, there := range u.Accounts[0].There {
			t.heads = append(t.heads, "at "+there.Replica)
		}
	}
	t.heads = append(t.heads, "example", "effect and remedy")
	for _, a := range u.Accounts {
		row := []string{a.Name, reachWords[a.Reach], humanize.Comma(a.Uses)}
		for _, there := range a.There {
			row = append(row, there.Name)
		}
		t.add(append(row, text.Middle(a.Example), strings.Join(written([]string{a.Effect, a.Remedy}), "; "))...)
	}
	t.after = fmt.Sprintf("Read the permissions of %s at %s.\n", english.Plural(int(u.Looked), "file or folder", "files and folders"), u.Read)
	if u.Unread > 0 {
		t.after += fmt.Sprintf("Could not read %s.\n", english.Plural(int(u.Unread), "item", ""))
	}
	if u.More {
		t.after += "There are more accounts than are listed.\n"
	}
	for _, m := range u.Missing {
		t.after += "Not reached: " + m + "\n"
	}
	return show(c, u, t)
}

func compareAccess(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	found, err := api.AccessAcross(ctx, args[0], append(args, "")[1], c.String("as"))
	if err != nil {
		return err
	}
	t := table{heads: []string{"edge", "account", "effective", "file permissions", "share permissions", "reasons"}}
	for _, p := range found.Places {
		if p.Rights == nil {
			t.add(p.Replica, "", "unknown", "", "", p.Problem)
			continue
		}
		var because []string
		for _, r := range p.Rights.Reasons {
			because = append(because, r.Text)
		}
		t.add(p.Replica, p.Rights.Account.Name, string(p.Rights.Level), string(p.Rights.File), string(p.Rights.Share), strings.Join(written(append(because, p.Rights.Missing)), "; "))
	}
	t.after = "Not the same everywhere.\n"
	if found.Same {
		t.after = "The same at all edges that could be asked.\n"
	}
	return show(c, found, t)
}

func showCloudUsage(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	u, err := api.CloudUsage(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"place", "item", "files", "size", "cost"}}
	t.add(u.Bucket+" (bucket)", "files", humanize.Comma(u.Files), size(u.Bytes), "")
	t.add("", "earlier versions", humanize.Comma(u.Earlier), size(u.EarlierBytes), "")
	t.add("", "storage per month", "", size(u.Bytes+u.EarlierBytes), plan.Money(u.Stored, u.Currency))
	for _, e := range u.Edges {
		t.add(e.Replica, "transferred since "+u.Since.Local().Format(time.DateOnly), "", size(e.Carried), "")
		if e.Fetched > 0 || e.FetchedBytes > 0 || e.Problem != "" {
			t.add("", strings.Join(written([]string{"stubs filled since the start of its mover", e.Problem}), ": "), humanize.Comma(e.Fetched), size(e.FetchedBytes), "")
		}
		if p := e.Prefetched; p != nil {
			t.add("", fmt.Sprintf("prefetched within 30 days, %s of them used", humanize.Comma(p.Used)), humanize.Comma(p.Files), size(p.Bytes), plan.Money(p.Cost, u.Currency))
			if p.Advice != "" {
				t.after += fmt.Sprintf("%s: %s To turn it off: bspan cloud policy %s %s --prefetch \"\"\n", e.Replica, p.Advice, shellWord(args[0]), shellWord(e.Replica))
			}
		}
		t.add("", "read from the bucket", "", size(e.Carried+e.FetchedBytes), plan.Money(e.Cost, u.Currency))
		for _, m := range e.Months {
			t.add("", "read in "+m.Month, "", size(m.Bytes), plan.Money(m.Cost, u.Currency))
		}
	}
	if u.Currency == "" {
		t.after += pricesUnknown + "\n"
	}
	return show(c, u, t)
}

// verifyCloudSet first reports how much verifyReplicaSet will read from the bucket.
func verifyCloudSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	u, err := api.CloudUsage(ctx, args[0])
	if err != nil {
		return err
	}
	reads := "Reads no contents from the bucket."
	if bytes, cost := u.Verified(c.String("level"), c.Int("sample")); bytes > 0 {
		reads = fmt.Sprintf("Reads up to %s from %s, %s.", size(bytes), u.Bucket, plan.Money(cost, u.Currency))
	}
	if c.Bool("rehearse") {
		return done(c, u, "%s Nothing was verified.", reads)
	}
	if c.String("output") == "table" {
		fmt.Fprintln(c.Root().ErrWriter, reads)
	}
	return verifyReplicaSet(ctx, c, api, args)
}
