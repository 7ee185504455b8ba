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
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/survey"
	"bridgespan/model"
	"bridgespan/tree"
)

func shareCommand() *cli.Command {
	settings := []cli.Flag{noteFlag(),
		&cli.StringSliceFlag{Name: "let", Usage: "let `ACCOUNT=LEVEL` through: full, change, read, or none to deny; may be given again"},
		&cli.BoolFlag{Name: "hide-unreadable", Usage: "do not list entries that a person cannot open"},
		&cli.BoolFlag{Name: "encrypt", Usage: "let only encrypted connections in"},
		&cli.StringFlag{Name: "offline", Usage: "whether clients may keep copies: by-hand, documents, programs or never"},
		&cli.BoolFlag{Name: "read-only", Usage: "let nobody more than read through"},
		&cli.BoolFlag{Name: "rehearse", Usage: "only tell what would be done"},
	}
	return &cli.Command{Name: "share", Usage: "shares of the file servers", Commands: []*cli.Command{
		{Name: "list", Usage: "list shares as last seen, of one server or all", ArgsUsage: "[SERVER]", Flags: []cli.Flag{&cli.BoolFlag{Name: "hidden", Usage: "also those that servers keep out of lists"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				api, err := connect(c)
				if err != nil {
					return err
				}
				return listShares(ctx, c, api, c.Args().First())
			}},
		{Name: "show", Usage: "look at a share as it is now", ArgsUsage: "SERVER/SHARE", Action: signedIn(onShare(showShare), "SERVER/SHARE")},
		{Name: "create", Usage: "make a share, or a bucket of a cloud account", ArgsUsage: "SERVER NAME", Flags: append([]cli.Flag{&cli.StringFlag{Name: "path", Usage: "`FOLDER` on the server, as it writes paths, or SHARE:FOLDER; a bucket has none"}}, settings...),
			Action: signedIn(createShare, "SERVER", "NAME")},
		{Name: "edit", Usage: "change a share; what is not given stays", ArgsUsage: "SERVER/SHARE", Flags: settings, Action: signedIn(onShare(editShare), "SERVER/SHARE")},
		{Name: "remove", Usage: "end a share, whose files stay, or remove an empty bucket", ArgsUsage: "SERVER/SHARE", Flags: []cli.Flag{&cli.BoolFlag{Name: "detach", Usage: "remove its locations from signposts as well, where others are left"}, &cli.BoolFlag{Name: "rehearse", Usage: "only tell what it would mean"}}, Action: signedIn(onShare(removeShare), "SERVER/SHARE")},
		{Name: "survey", Usage: "count what is in shares, and find what should be known about their permissions", ArgsUsage: "SERVER[/SHARE]…", Flags: []cli.Flag{&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}}, Action: surveyShares},
		{Name: "surveys", Usage: "list the newest surveys, of one share or all", ArgsUsage: "[SERVER/SHARE]", Action: listSurveys},
		{Name: "surveyed", Usage: "show a survey, or with --since what changed since an earlier one", ArgsUsage: "RUN", Flags: []cli.Flag{&cli.IntFlag{Name: "since", Usage: "compare with this earlier `RUN`"}}, Action: signedIn(showSurvey, "RUN")},
	}}
}

// onShare splits SERVER/SHARE.
func onShare(do func(ctx context.Context, c *cli.Command, api *client.Client, t namespace.Target) error) action {
	return func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		target, err := namespace.ParseTarget("SERVER/SHARE", args[0])
		if err != nil {
			return err
		}
		if target.Sub != "" {
			return fault.Field("SERVER/SHARE", fmt.Sprintf("write %s/%s alone, if you mean the whole share", target.Server, target.Share), "%s is a folder of a share, and this is about shares", target)
		}
		return do(ctx, c, api, target)
	}
}

func listShares(ctx context.Context, c *cli.Command, api *client.Client, server string) error {
	shares, err := api.Shares(ctx, server)
	if err != nil {
		return err
	}
	t := table{heads: []string{"server", "share", "kind", "path", "note"}, empty: "No shares were seen yet. Look with: bspan server check NAME"}
	shown := []model.Share{}
	for _, h := range shares {
		if h.Hidden && !c.Bool("hidden") {
			continue
		}
		shown = append(shown, h)
		t.add(h.Server, h.Name, h.Kind, h.Path, h.Note)
	}
	return show(c, shown, t)
}

func showShare(ctx context.Context, c *cli.Command, api *client.Client, target namespace.Target) error {
	d, err := api.Share(ctx, target.Server, target.Share)
	if err != nil {
		return err
	}
	t := table{heads: []string{"name", "kind", "size", "modified"}}
	for _, e := range d.Entries {
		size := ""
		if e.Kind == "file" {
			size = humanize.IBytes(uint64(e.Size))
		}
		t.add(e.Name, e.Kind, size, when(e.Modified))
	}
	led := "no signpost leads here"
	if len(d.LedToFrom) > 0 {
		led = "led to from " + strings.Join(d.LedToFrom, ", ")
	}
	space := fmt.Sprintf("%s free of %s", humanize.IBytes(uint64(d.Free)), humanize.IBytes(uint64(d.Total)))
	if d.Total >= tree.Endless {
		space = "capacity unlimited"
	}
	t.after = fmt.Sprintf("%s/%s is %s: %s; %s.", d.Server, d.Name, d.Path, space, led)
	v, err := api.Server(ctx, target.Server)
	if err != nil {
		return err
	}
	if d.Kind == "disk" && v.Can(model.SpeaksSMB) {
		now, err := api.ShareNow(ctx, target.Server, target.Share)
		if err != nil {
			return err
		}
		t.after += "\n" + settingsText(now)
	}
	if len(t.rows) == 0 {
		t.empty = "The share is empty.\n\n" + t.after
	}
	return show(c, d, t)
}

func settingsText(s model.ShareNow) string {
	var through []string
	for _, g := range s.Access {
		through = append(through, fmt.Sprintf("%s=%s", g.Account, g.Level))
	}
	yes := map[bool]string{true: "yes", false: "no"}
	text := fmt.Sprintf("Lets through: %s. Hides what a person cannot open: %s. Demands encryption: %s. Offline copies: %s. Connections: %d.",
		strings.Join(through, ", "), yes[s.HideUnreadable], yes[s.Encrypt], s.Offline, s.Uses)
	for _, who := range s.Connected {
		text += "\n" + who
	}
	return text
}

// settingsOf reads the settings that were given.
func settingsOf(c *cli.Command) (model.ShareSettings, error) {
	s := model.ShareSettings{Note: sent(c, "note"), Offline: c.String("offline"), ReadOnly: c.Bool("read-only")}
	for _, name := range []string{"hide-unreadable", "encrypt"} {
		if c.IsSet(name) {
			value := c.Bool(name)
			if name == "encrypt" {
				s.Encrypt = &value
			} else {
				s.HideUnreadable = &value
			}
		}
	}
	for _, text := range c.StringSlice("let") {
		name, level, ok := strings.Cut(text, "=")
		if !ok || !slices.Contains([]acl.Level{acl.Full, acl.Change, acl.Read, acl.None}, acl.Level(level)) {
			return s, usageError{fmt.Sprintf("let %q: write ACCOUNT=LEVEL, where LEVEL is full, change, read or none", text)}
		}
		s.Access = append(s.Access, model.ShareGrant{Account: name, Level: acl.Level(level)})
	}
	return s, nil
}

func createShare(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	settings, err := settingsOf(c)
	if err != nil {
		return err
	}
	plan, err := api.CreateShare(ctx, args[0], model.NewShare{Name: args[1], Path: c.String("path"), ShareSettings: settings, Rehearse: c.Bool("rehearse")})
	if err != nil {
		return err
	}
	return show(c, plan, planTable(plan))
}

func editShare(ctx context.Context, c *cli.Command, api *client.Client, target namespace.Target) error {
	settings, err := settingsOf(c)
	if err != nil {
		return err
	}
	plan, err := api.EditShare(ctx, target.Server, target.Share, model.EditShare{ShareSettings: settings, Rehearse: c.Bool("rehearse")})
	if err != nil {
		return err
	}
	return show(c, plan, planTable(plan))
}

func removeShare(ctx context.Context, c *cli.Command, api *client.Client, target namespace.Target) error {
	plan, err := api.RemoveShare(ctx, target.Server, target.Share, c.Bool("rehearse"), c.Bool("detach"))
	if err != nil {
		return err
	}
	return show(c, plan, planTable(plan))
}

func planTable(p model.SharePlan) table {
	t := table{heads: []string{"", "step"}, empty: "Nothing changes: the share is so already."}
	for _, s := range p.Steps {
		t.add(s.State, s.Text)
	}
	var b strings.Builder
	for _, a := range p.Advice {
		fmt.Fprintln(&b, findingLine(a))
	}
	if p.Folder != nil {
		verb := "has"
		if p.NewFolder {
			verb = "will get"
			if !p.Rehearsed {
				verb = "got"
			}
		}
		fmt.Fprintf(&b, "The folder %s %s these permissions: %s\n", p.Path, verb, p.Folder.Sentence)
	}
	if p.Share != nil {
		fmt.Fprintf(&b, "The share: %s\n", p.Share.Sentence)
	}
	for _, e := range p.Effective {
		fmt.Fprintf(&b, "  %s: %s (files %s, share %s)\n", e.Account.Name, level(e.Level, e.Words), e.File, e.Share)
	}
	for _, who := range p.Connected {
		fmt.Fprintln(&b, who)
	}
	if p.Rehearsed {
		b.WriteString("Rehearsed only: nothing was changed.")
	}
	t.after = strings.TrimSpace(b.String())
	return t
}

func surveyShares(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return usageError{"SERVER/SHARE is missing; write: bspan share survey SERVER/SHARE…, or SERVER for every share in its lists"}
	}
	api, err := connect(c)
	if err != nil {
		return err
	}
	var places []model.SurveyPlace
	for _, text := range c.Args().Slice() {
		if !strings.Contains(text, "/") {
			places = append(places, model.SurveyPlace{Server: text})
			continue
		}
		target, err := namespace.ParseTarget("SERVER/SHARE", text)
		if err != nil {
			return err
		}
		places = append(places, model.SurveyPlace{Server: target.Server, Share: target.Share, Sub: target.Sub})
	}
	runs, err := api.StartSurveys(ctx, places...)
	if err != nil {
		return err
	}
	if c.Bool("no-wait") {
		return show(c, runs, runTable(runs))
	}
	var surveys []model.Survey
	for _, run := range runs {
		if run, err = follow(ctx, c, api, run); err != nil {
			return err
		}
		if err := ended(run); err != nil {
			return err
		}
		s, err := api.Survey(ctx, run.ID)
		if err != nil {
			return err
		}
		surveys = append(surveys, s)
	}
	if len(surveys) == 1 {
		return show(c, surveys[0], surveyTable(surveys[0]))
	}
	return show(c, surveys, surveysTable(surveys))
}

func surveysTable(surveys []model.Survey) table {
	t := table{heads: []string{"run", "share", "files", "folders", "size", "occupies", "findings", "took"}}
	for _, s := range surveys {
		t.add(fmt.Sprint(s.Run.ID), s.Run.Subject, humanize.Comma(s.Figures.Files), humanize.Comma(s.Figures.Folders), humanize.IBytes(uint64(s.Figures.Bytes)), humanize.IBytes(uint64(s.Figures.Allocated)),
			fmt.Sprint(len(s.Findings)), fmt.Sprintf("%.1f s", float64(s.Run.WorkedMs)/1000))
	}
	t.after = "See one with: bspan share surveyed RUN"
	return t
}

func surveyTable(s model.Survey) table {
	f := s.Figures
	t := table{heads: []string{"", "files", "size"}}
	section := func(name string, list []survey.Class, most int) {
		for i, class := range list {
			if i == most || class.Files == 0 {
				continue
			}
			t.add(name+" "+class.Name, humanize.Comma(class.Files), humanize.IBytes(uint64(class.Bytes)))
		}
	}
	section("type", f.Types, 8)
	section("changed", f.Ages, 20)
	section("size", f.Sizes, 20)
	section("in", f.Tops, 8)
	for i, n := range f.Largest {
		if i < 5 {
			t.add("largest "+n.Path, "", humanize.IBytes(uint64(n.Size)))
		}
	}
	if len(f.Longest) > 0 {
		t.add("longest path", fmt.Sprintf("%d characters", f.Longest[0].Size), "")
	}
	for _, n := range f.Names {
		t.add("name "+string(n.Kind), humanize.Comma(n.Count), "")
	}
	for _, a := range s.Accounts[:min(len(s.Accounts), 8)] {
		t.add("account "+a.Name, humanize.Comma(a.Files), "")
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s files and %s folders, %s, occupying %s; %d different sets of permissions. %s, %.1f s.", s.Run.Subject, humanize.Comma(f.Files), humanize.Comma(f.Folders),
		humanize.IBytes(uint64(f.Bytes)), humanize.IBytes(uint64(f.Allocated)), s.Distinct, s.Run.State, float64(s.Run.WorkedMs)/1000)
	if f.Unreadable+f.Unseen > 0 {
		fmt.Fprintf(&b, "\n%d folders could not be listed, and the permissions of %d entries not read: %s", f.Unreadable, f.Unseen, strings.Join(f.Trouble, "; "))
	}
	for _, o := range s.Open {
		fmt.Fprintf(&b, "\n%s has %s open", o.Person, o.Path)
	}
	writeFindings(&b, s.Findings)
	t.after = b.String()
	return t
}

func listSurveys(ctx context.Context, c *cli.Command) error {
	var target namespace.Target
	if text := c.Args().First(); text != "" {
		var err error
		if target, err = namespace.ParseTarget("SERVER/SHARE", text); err != nil {
			return err
		}
	}
	api, err := connect(c)
	if err != nil {
		return err
	}
	runs, err := api.Surveys(ctx, target.Server, target.Share, 50)
	if err != nil {
		return err
	}
	t := runTable(runs)
	t.empty = "Nothing was surveyed yet. Begin with: bspan share survey SERVER/SHARE"
	return show(c, runs, t)
}

func showSurvey(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	return onRun(args[0], func(id int64) error {
		if since := c.Int("since"); since != 0 {
			cmp, err := api.CompareSurveys(ctx, int64(since), id)
			if err != nil {
				return err
			}
			return show(c, cmp, comparisonTable(cmp))
		}
		s, err := api.Survey(ctx, id)
		if err != nil {
			return err
		}
		return show(c, s, surveyTable(s))
	})
}

func signed(n int64) string {
	if n < 0 {
		return "-" + humanize.IBytes(uint64(-n))
	}
	return "+" + humanize.IBytes(uint64(n))
}

func comparisonTable(c model.SurveyComparison) table {
	f := c.Figures
	t := table{heads: []string{"", "files", "size"}, empty: "Nothing grew or shrank between the two."}
	for _, s := range f.Tops {
		t.add("in "+s.Name, fmt.Sprintf("%+d", s.Files), signed(s.Bytes))
	}
	for _, s := range f.Types {
		t.add("type "+s.Name, fmt.Sprintf("%+d", s.Files), signed(s.Bytes))
	}
	t.after = fmt.Sprintf("In %.2f days: %+d files, %+d folders, %s (%s a day). Written: %s files with %s (%s a day).", f.Days, f.Files, f.Folders, signed(f.Bytes), signed(int64(f.BytesPerDay)),
		humanize.Comma(f.Changed.Files), humanize.IBytes(uint64(f.Changed.Bytes)), humanize.IBytes(uint64(f.ChangedPerDay)))
	if len(t.rows) == 0 {
		t.empty += "\n\n" + t.after
	}
	return t
}
