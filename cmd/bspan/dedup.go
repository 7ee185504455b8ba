package main

import (
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

func dedupCommand() *cli.Command {
	counting := []cli.Flag{
		&cli.IntFlag{Name: "min-age", Usage: "only files that were not changed for so many `DAYS`"},
		&cli.StringFlag{Name: "min-size", Usage: "only files of this `SIZE` or more, such as 32KiB"},
		&cli.StringSliceFlag{Name: "skip-folder", Usage: "leave out a `FOLDER`: a name wherever it is, or a path such as /scans/raw; may be given again"},
		&cli.StringSliceFlag{Name: "skip-type", Usage: "leave out files by their `ENDING`, such as .mdb; may be given again"},
		&cli.StringFlag{Name: "budget", Usage: "count in this much `MEMORY`; 512MB when absent"},
		&cli.BoolFlag{Name: "exact", Usage: "count every chunk, with sorted files in the work folder where memory does not do; else a sample is counted there"},
		&cli.BoolFlag{Name: "anyway", Usage: "also when the work folder seems to lie on the volume itself"},
		&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"},
	}
	estimate := append([]cli.Flag{
		&cli.StringFlag{Name: "name", Usage: "call the volume `NAME`; its places when absent"},
		&cli.StringFlag{Name: "profile", Usage: "documents, disk-images or backups"},
		&cli.StringFlag{Name: "compress", Usage: "measure compression of a `sample` of the chunks, or of all; all is usual on volumes with up to 256 GiB"},
		&cli.StringFlag{Name: "priority", Usage: "low, normal or high: read 1, 2 or 4 files side by side"},
		&cli.BoolFlag{Name: "rehearse", Usage: "only tell what speaks against it"},
		&cli.StringFlag{Name: "again", Usage: "do it again and again: `WHEN` such as \"sat 02:30\", \"daily 04:00\" or \"every 6h\""},
		&cli.StringFlag{Name: "week", Usage: "read only when `RULES` let it, such as \"off; mon-fri 20-6 full; sat-sun 100\""},
		&cli.FloatFlag{Name: "pace", Usage: "read at most so many `MBIT` a second"},
	}, counting...)
	return &cli.Command{Name: "dedup", Usage: "what deduplication would save", Commands: []*cli.Command{
		{Name: "estimate", Usage: "read a volume and tell what would be saved: shares, or one that was estimated before", ArgsUsage: "VOLUME | SERVER/SHARE[/FOLDER]…", Flags: estimate, Action: signedIn(estimateVolume, "VOLUME | SERVER/SHARE...")},
		{Name: "list", Usage: "list the volumes that were estimated", Action: signedIn(listVolumes)},
		{Name: "show", Usage: "show an estimate, or the latest of a volume", ArgsUsage: "RUN | VOLUME", Flags: []cli.Flag{
			&cli.StringFlag{Name: "by", Value: "folder", Usage: "where the saving is: by folder, type, age, size or owner; or the largest sets of equal files: twins; nearly equal ones: near; chunks: the most shared; min-age: the curve"},
			&cli.StringFlag{Name: "report", Usage: "write it to `FILE` as an HTML page that needs nothing else"}},
			Action: signedIn(showEstimate, "RUN | VOLUME")},
		{Name: "compare", Usage: "show two estimates side by side", ArgsUsage: "RUN RUN", Action: signedIn(compareEstimates, "RUN", "RUN")},
		{Name: "what-if", Usage: "tell what another policy would save, without reading the volume again", ArgsUsage: "VOLUME", Flags: counting, Action: signedIn(whatIf, "VOLUME")},
		{Name: "pool", Usage: "tell what volumes would save together, and which shares should live together", ArgsUsage: "VOLUME…", Flags: counting, Action: signedIn(poolVolumes, "VOLUME...")},
		{Name: "prove", Usage: "pack a folder into a chunk store, take it out again, compare, and show what it took beside what was foretold", ArgsUsage: "VOLUME SERVER/SHARE[/FOLDER]", Flags: []cli.Flag{
			&cli.BoolFlag{Name: "keep", Usage: "keep the store, to be inspected"}, &cli.BoolFlag{Name: "anyway", Usage: "also when the work folder seems to lie on the volume itself"}, &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}},
			Action: signedIn(proveEstimate, "VOLUME", "SERVER/SHARE[/FOLDER]")},
		storeCommand(),
		{Name: "plan", Usage: "tell when the work could be done, in the hours that are left free", ArgsUsage: "VOLUME", Flags: []cli.Flag{
			&cli.StringFlag{Name: "week", Value: "off; mon-fri 20-6 full; sat-sun full", Usage: "when it may work, as `RULES`"},
			&cli.StringFlag{Name: "backups", Usage: "when backups work, as `RULES`: whatever is not off"},
			&cli.StringFlag{Name: "export", Usage: "write the windows to `FILE` as an iCalendar object (RFC 5545)"}}, Action: signedIn(planDedup, "VOLUME")},
		{Name: "forget", Usage: "forget a volume, what was read of it and its jobs; the volume itself is not touched", ArgsUsage: "VOLUME", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			if err := api.ForgetEstimatedVolume(ctx, args[0]); err != nil {
				return err
			}
			return done(c, nil, "what was read of %s is forgotten", args[0])
		}, "VOLUME")},
	}}
}

// countingOf reads what is to be counted, and how.
func countingOf(c *cli.Command) (asked model.Counting, err error) {
	asked.Exact, asked.Anyway = c.Bool("exact"), c.Bool("anyway")
	rules := &asked.Policy
	rules.MinDays = c.Int("min-age")
	for _, f := range c.StringSlice("skip-folder") {
		rules.LeaveOut = append(rules.LeaveOut, strings.TrimSuffix(f, "/")+"/")
	}
	for _, t := range c.StringSlice("skip-type") {
		rules.LeaveOut = append(rules.LeaveOut, "*."+strings.TrimLeft(t, "*."))
	}
	if rules.Smallest, err = bytesOf(c, "min-size"); err != nil {
		return asked, err
	}
	asked.Budget, err = bytesOf(c, "budget")
	return asked, err
}

func bytesOf(c *cli.Command, flag string) (int64, error) {
	text := c.String(flag)
	if text == "" {
		return 0, nil
	}
	return sizeIn(flag, text)
}

// sizeIn reads a size that a flag gives.
func sizeIn(flag, text string) (int64, error) {
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<62 {
		return 0, usageError{fmt.Sprintf("--%s: %q is no size; write it such as 32KiB or 2GB", flag, text)}
	}
	return int64(n), nil
}

func estimateVolume(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	asked := model.NewEstimate{Name: c.String("name"), Profile: c.String("profile"), Compress: c.String("compress"), Priority: c.String("priority"), Pace: c.Float("pace")}
	var err error
	if asked.Counting, err = countingOf(c); err != nil {
		return err
	}
	if text := c.String("week"); text != "" {
		week, err := calendar.Parse("--week", text)
		if err != nil {
			return err
		}
		asked.Calendar = &week
	}
	volumes, err := api.EstimatedVolumes(ctx)
	if err != nil {
		return err
	}
	if len(args) == 1 && isVolume(volumes, args[0]) {
		asked.Name = args[0]
	} else {
		for _, arg := range args {
			t, err := namespace.ParseTarget("SERVER/SHARE", arg)
			if err != nil {
				return err
			}
			asked.Places = append(asked.Places, model.DedupPlace{Server: t.Server, Share: t.Share, Sub: t.Sub})
		}
	}
	if c.Bool("rehearse") {
		return lookBefore(ctx, c, api, asked)
	}
	if again := c.String("again"); again != "" {
		job, err := api.ScheduleEstimate(ctx, model.ScheduleEstimate{NewEstimate: asked, Rule: again})
		if err != nil {
			return err
		}
		return done(c, job, "job %d estimates %s %s, the next time %s", job.ID, job.Subject, job.Rule, when(job.Next))
	}
	e, err := api.StartEstimate(ctx, asked)
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, e.Run, e, func(id int64) error { return showFound(ctx, c, api, id, "folder") })
}

// lookBefore tells what speaks against an estimate before it is begun.
func lookBefore(ctx context.Context, c *cli.Command, api *client.Client, asked model.NewEstimate) error {
	l, err := api.LookBeforeEstimate(ctx, asked)
	if err != nil {
		return err
	}
	t := table{heads: []string{"place", "capacity", "free", "storage", "file system"}}
	for _, g := range l.Places {
		t.add(namespace.Target{Server: g.Server, Share: g.Share, Sub: g.Sub}.String(), iec(g.Capacity), iec(g.Free), g.Storage, g.FileSystem)
	}
	t.after = fmt.Sprintf("Nothing is begun. The volume would be called %s, and read with the profile %s: %s.", l.Volume.Name, l.Volume.Profile, l.Why)
	if len(l.Warnings) == 0 {
		t.after += " Nothing that could be seen speaks against it."
	}
	if slices.ContainsFunc(l.Places, func(g model.DedupGround) bool { return g.Storage == "" }) {
		t.after += "\nNeither SMB nor the server's registry tells what kind of storage it is: see at the server that it is neither removable nor mounted read-only."
	}
	t.after += warningLines(l.Warnings)
	return show(c, l, t)
}

func isVolume(volumes []model.EstimatedVolume, name string) bool {
	for _, v := range volumes {
		if strings.EqualFold(v.Name, name) {
			return true
		}
	}
	return false
}

func listVolumes(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	volumes, err := api.EstimatedVolumes(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"volume", "profile", "estimated", "run", "files", "bytes", "would be saved", "rate", "proved", "space lasts", "now"}, empty: "No volume was estimated yet. Begin with: bspan dedup estimate SERVER/SHARE"}
	for _, v := range volumes {
		now := ""
		if v.Busy != nil {
			now = fmt.Sprintf("run %d %s %.0f%%", v.Busy.ID, v.Busy.State, 100*v.Busy.Fraction)
		}
		if v.Latest == nil {
			t.add(v.Name, v.Profile, "", "", "", "", "", "", "", "", now)
			continue
		}
		l := &v.Latest.Totals
		rate, _, _ := l.Rate()
		t.add(v.Name, v.Profile, when(v.Latest.At), fmt.Sprint(v.Latest.Run), humanize.Comma(l.Files), iec(l.Bytes), figure(l.Saving), fmt.Sprintf("%.1f%%", rate), proved(v.Proof), lasts(v.Runway), now)
	}
	return show(c, volumes, t)
}

// proved is by how much a proof found an estimate off.
func proved(p *model.ProofPoint) string {
	if p == nil {
		return ""
	}
	return fmt.Sprintf("%.2f%% off", math.Abs(p.Off))
}

// lasts says how long free space lasts.
func lasts(r *dedup.Runway) string {
	if r == nil {
		return ""
	}
	weeks := func(w *float64) string {
		if w == nil {
			return "no end"
		}
		return english.Plural(int(*w), "week", "")
	}
	return fmt.Sprintf("%s; saving, %s", weeks(r.Without), weeks(r.With))
}

func compareEstimates(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	return onRun(args[0], func(first int64) error {
		return onRun(args[1], func(second int64) error {
			both, err := api.CompareEstimates(ctx, first, second)
			if err != nil {
				return err
			}
			a, b := &both.Before, &both.After
			return show(c, both, estimatesTable(a.Found, b.Found, fmt.Sprintf("run %d, %s", a.Run.ID, when(a.Run.Created)), fmt.Sprintf("run %d, %s", b.Run.ID, when(b.Run.Created))))
		})
	})
}

// comparedTable shows two findings side by side.
func estimatesTable(a, b *dedup.Found, first, second string) table {
	t := table{heads: []string{"", first, second, "difference"}}
	about := func(name string, x, y dedup.Figure) { t.add(name, figure(x), figure(y), iec(y.Bytes-x.Bytes)) }
	bytes := func(name string, x, y int64) { t.add(name, iec(x), iec(y), iec(y-x)) }
	count := func(name string, x, y int64) { t.add(name, humanize.Comma(x), humanize.Comma(y), humanize.Comma(y-x)) }
	count("files", a.Totals.Files, b.Totals.Files)
	bytes("bytes", a.Totals.Bytes, b.Totals.Bytes)
	count("files in policy", a.Totals.InPolicy.Files, b.Totals.InPolicy.Files)
	bytes("bytes in policy", a.Totals.InPolicy.Bytes, b.Totals.InPolicy.Bytes)
	about("different chunks", a.Totals.Unique, b.Totals.Unique)
	about("compressed", a.Totals.Packed, b.Totals.Packed)
	bytes("equal files alone save", a.WholeFiles, b.WholeFiles)
	about("would be saved", a.Totals.Saving, b.Totals.Saving)
	x, _, _ := a.Totals.Rate()
	y, _, _ := b.Totals.Rate()
	t.add("rate", fmt.Sprintf("%.1f%%", x), fmt.Sprintf("%.1f%%", y), fmt.Sprintf("%+.1f", y-x))
	return t
}

func whatIf(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	counting, err := countingOf(c)
	if err != nil {
		return err
	}
	a, err := api.StartWhatIf(ctx, args[0], model.WhatIf{Counting: counting})
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, a.Run, a, func(id int64) error { return showWhatIf(ctx, c, api, id) })
}

// showWhatIf shows what another policy would save, beside the latest estimate.
func showWhatIf(ctx context.Context, c *cli.Command, api *client.Client, id int64) error {
	a, err := api.WhatIf(ctx, id)
	if err != nil || a.Found == nil {
		return err
	}
	v, err := api.EstimatedVolume(ctx, a.Volume)
	if err != nil {
		return err
	}
	var t table
	if v.Latest != nil {
		now, err := api.Estimate(ctx, v.Latest.Run)
		if err != nil {
			return err
		}
		t = estimatesTable(now.Found, a.Found, fmt.Sprintf("run %d", v.Latest.Run), "under this policy")
	}
	t.after = sentence(a.Volume, a.Found) + warningLines(a.Warnings)
	return show(c, a, t)
}

func planDedup(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	var asked model.NewDedupPlan
	var err error
	if asked.Week, err = calendar.Parse("--week", c.String("week")); err != nil {
		return err
	}
	if text := c.String("backups"); text != "" {
		backups, err := calendar.Parse("--backups", text)
		if err != nil {
			return err
		}
		asked.Backups = &backups
	}
	p, err := api.PlanDedup(ctx, args[0], asked)
	if err != nil {
		return err
	}
	if name := c.String("export"); name != "" {
		if err := writeFile(name, func(w io.Writer) error { _, err := io.WriteString(w, p.ICalendar); return err }); err != nil {
			return err
		}
	}
	t := table{heads: []string{"window", "hours", "pace", "shared with a backup"}}
	for _, w := range p.Nights.Windows {
		shared := ""
		if w.Backup > 0 {
			shared = fmt.Sprintf("%d h", w.Backup)
		}
		pace := w.Pace
		if pace != "full" {
			pace += " Mbit/s"
		}
		t.add(fmt.Sprintf("%s %d:00", w.Day, w.From), fmt.Sprint(w.Hours), pace, shared)
	}
	t.after = fmt.Sprintf("%s\nMeasured: %.0f Mbit/s, with %.1f of %d processors busy. Memory for the index of all chunks: %s.", p.Summary, p.Nights.Rate, p.Busy, p.Of, iec(p.Memory)) + warningLines(p.Warnings)
	t.empty = p.Summary + warningLines(p.Warnings)
	return show(c, p, t)
}

func poolVolumes(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	counting, err := countingOf(c)
	if err != nil {
		return err
	}
	p, err := api.StartPool(ctx, model.NewPool{Volumes: args, Counting: counting})
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, p.Run, p, func(id int64) error { return showPool(ctx, c, api, id) })
}

// showPool shows what volumes would save together.
func showPool(ctx context.Context, c *cli.Command, api *client.Client, id int64) error {
	p, err := api.Pool(ctx, id)
	if err != nil || p.Pooled == nil {
		return err
	}
	t := table{heads: []string{"kept", "files", "bytes", "would take", "saves"}}
	kept := func(name string, k dedup.Kept) {
		t.add(name, humanize.Comma(k.Files), iec(k.Bytes), figure(k.Stored), figure(k.Saving))
	}
	for _, k := range p.Pooled.Alone {
		kept(k.Name+", by itself", k)
	}
	kept("all together", p.Pooled.Together)
	for _, k := range p.Pooled.Shares {
		kept(k.Name+", by itself", k)
	}
	t.after = p.Summary
	for i, c := range p.Pooled.Common {
		if i == 10 {
			break
		}
		t.after += fmt.Sprintf("\n%s and %s have %s in common.", c.A, c.B, figure(c.Bytes))
	}
	return show(c, p, t)
}
