package main

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/account"
	"bridgespan/core/finding"
	"bridgespan/model"
)

// migrationCommand moves shares to other servers.
func migrationCommand() *cli.Command {
	const source = "SERVER[/SHARE]..."
	folder := &cli.StringSliceFlag{Name: "folder", Usage: "let a share go to this folder below the target, as `SERVER/SHARE=FOLDER`; may be given again"}
	leave := &cli.StringSliceFlag{Name: "leave", Usage: "leave this `SERVER/SHARE` where it is; may be given again"}
	return &cli.Command{Name: "migration", Usage: "move shares with their permissions and accounts to another server", Commands: []*cli.Command{
		{Name: "list", Usage: "list migrations", Action: signedIn(listMigrations)},
		{Name: "show", Usage: "show the shares of a migration, with the latest survey of each", ArgsUsage: "MIGRATION", Flags: []cli.Flag{&cli.BoolFlag{Name: "accounts", Usage: "show the accounts in use instead"}}, Action: signedIn(showMigration, "MIGRATION")},
		{Name: "add", Usage: "begin a migration of every share of a server, or of single shares; nothing is changed there", ArgsUsage: "MIGRATION " + source, Flags: []cli.Flag{leave, folder, noteFlag(), rehearseFlag()}, Action: rehearsable(addMigration, "MIGRATION", source)},
		{Name: "edit", Usage: "change the sources of a migration, or the shares that stay; what is not given stays", ArgsUsage: "MIGRATION", Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "source", Usage: "migrate this `SERVER[/SHARE]`, and no others than are given; may be given again"}, leave,
			&cli.BoolFlag{Name: "leave-none", Usage: "leave no share where it is"}, folder, noteFlag(), rehearseFlag()}, Action: rehearsable(editMigration, "MIGRATION")},
		{Name: "remove", Usage: "remove a migration; the surveys of its shares stay", ArgsUsage: "MIGRATION", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			if err := api.RemoveMigration(ctx, args[0]); err != nil {
				return err
			}
			return done(c, nil, "removed the migration %s", args[0])
		}, "MIGRATION")},
		{Name: "survey", Usage: "survey the shares of a migration: sizes, names, permissions, accounts, open files; a later survey shows what changes in a day", ArgsUsage: "MIGRATION", Flags: []cli.Flag{&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}}, Action: signedIn(surveyMigration, "MIGRATION")},
		{Name: "target", Usage: "choose where a folder for each share goes, or check that place again", ArgsUsage: "MIGRATION [SERVER/SHARE[/FOLDER]]", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(targetMigration, "MIGRATION", "SERVER/SHARE[/FOLDER]?")},
		{Name: "report", Usage: "write what the surveys found to a file: .html as a page that needs nothing else, .csv with a line for each share", ArgsUsage: "MIGRATION FILE", Flags: []cli.Flag{&cli.BoolFlag{Name: "accounts", Usage: "write a line for each account in use, as .csv"}}, Action: signedIn(reportMigration, "MIGRATION", "FILE")},
	}}
}

func listMigrations(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.Migrations(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"migration", "sources", "shares", "surveyed", "files", "size", "changed per day", "note"}, empty: "There is no migration. Begin with: bspan migration add MIGRATION SERVER"}
	for _, m := range list {
		t.add(m.Name, strings.Join(m.Sources, " "), fmt.Sprint(m.Totals.Shares), fmt.Sprint(m.Totals.Surveyed), humanize.Comma(m.Totals.Files), size(m.Totals.Bytes), size(m.Totals.ChangedPerDay), m.Note)
	}
	return show(c, list, t)
}

func showMigration(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.Bool("accounts") {
		list, err := api.MigrationAccounts(ctx, args[0])
		if err != nil {
			return err
		}
		return show(c, list, accountsTable(list))
	}
	m, err := api.Migration(ctx, args[0])
	return shownMigration(c, m, err)
}

// shownMigration shows the shares of a migration, what they sum up to, and the next command.
func shownMigration(c *cli.Command, m model.Migration, err error) error {
	if err != nil {
		return err
	}
	t := table{heads: []string{"share", "folder", "status", "files", "size", "changed per day", "unreadable", "open", "refused names"}, empty: "No share of its sources is known. List them with: bspan share list SERVER"}
	for _, h := range m.Shares {
		line := []string{h.Server + "/" + h.Share, h.Folder, surveyWords(h), "", "", "", "", "", ""}
		if h.Left != "" {
			line[1] = ""
		}
		if k := h.Counts; k != nil && h.Left == "" {
			copy(line[3:], []string{humanize.Comma(k.Files), size(k.Bytes), size(k.ChangedPerDay), humanize.Comma(k.KeptOut), humanize.Comma(k.Open), humanize.Comma(k.Names)})
		}
		t.add(line...)
	}
	t.after = migrationWords(&m)
	return show(c, m, t)
}

// surveyWords say how far the survey of a share is.
func surveyWords(h model.MigrationShare) string {
	switch {
	case h.Left == model.LeftByChoice:
		return "stays"
	case h.Left == model.LeftByKind:
		return "stays (administrative)"
	case h.Survey.State == model.SurveyRunning:
		return fmt.Sprintf("%.0f%%", 100*h.Survey.Fraction)
	case h.Survey.State == model.SurveyComplete:
		return when(h.Counts.At)
	}
	return h.Survey.State
}

func migrationWords(m *model.Migration) string {
	var b strings.Builder
	n := m.Totals
	fmt.Fprintf(&b, "%s: %d of %s surveyed, %s, %s; %s change in a day.", m.Name, n.Surveyed, english.Plural(n.Shares, "share", ""), english.Plural(int(n.Files), "file", ""), size(n.Bytes), size(n.ChangedPerDay))
	for _, missing := range m.Missing {
		fmt.Fprintf(&b, "\n%s", missing)
	}
	for _, h := range m.Shares {
		if h.Survey.Trouble != "" {
			fmt.Fprintf(&b, "\n%s/%s: %s", h.Server, h.Share, h.Survey.Trouble)
		}
	}
	if n.KeptOut > 0 {
		fmt.Fprintf(&b, "\n%s cannot be read by the account of the server. See the findings with: bspan share surveyed RUN", english.Plural(int(n.KeptOut), "item", ""))
	}
	switch {
	case n.Surveyed < n.Shares:
		fmt.Fprintf(&b, "\nNext: bspan migration survey %s", shellWord(m.Name))
	case m.Target == "" && n.Shares > 0:
		fmt.Fprintf(&b, "\nNext: bspan migration target %s SERVER/SHARE", shellWord(m.Name))
	case m.Target != "":
		fmt.Fprintf(&b, "\nTarget: %s, %s", m.Target, targetWords(m))
	}
	return b.String()
}

// targetWords say what the latest check of the target found.
func targetWords(m *model.Migration) string {
	if m.TargetChecked == nil {
		return "not checked. Next: bspan migration target " + shellWord(m.Name)
	}
	n := map[finding.Severity]int{}
	for _, f := range m.TargetChecks {
		n[f.Severity]++
	}
	return fmt.Sprintf("checked %s: %d passed, %s, %d failed", when(*m.TargetChecked), n[finding.Pass], english.Plural(n[finding.Warn], "warning", ""), n[finding.Fail])
}

func accountsTable(list []model.MigrationAccount) table {
	known := map[account.Reach]string{account.ReachEverywhere: "other servers", account.ReachLocal: "this server alone", account.ReachNone: "nobody"}
	t := table{heads: []string{"server", "account", "kind", "known to", "files", "folders", "on share", "members"}, empty: "No accounts are known. Survey the shares first: bspan migration survey MIGRATION"}
	for _, a := range list {
		onShare := ""
		if a.OnShare {
			onShare = "yes"
		}
		t.add(a.Server, a.Name, string(a.Kind), known[a.Reach], humanize.Comma(a.Files), humanize.Comma(a.Folders), onShare, strings.Join(a.Members, ", "))
	}
	return t
}

func addMigration(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	folders, err := askedFolders(c)
	if err != nil {
		return err
	}
	m, err := api.AddMigration(ctx, model.NewMigration{Name: args[0], MigrationDraft: model.MigrationDraft{Sources: args[1:], Leave: c.StringSlice("leave"), Folders: folders, Note: c.String("note")}})
	return shownMigration(c, m, err)
}

// askedFolders reads where shares go.
func askedFolders(c *cli.Command) (list []model.MigrationFolder, err error) {
	for _, text := range c.StringSlice("folder") {
		share, folder, ok := strings.Cut(text, "=")
		if !ok {
			return nil, usageError{fmt.Sprintf("--folder: %q names no folder; write it as SERVER/SHARE=FOLDER", text)}
		}
		list = append(list, model.MigrationFolder{Share: share, Folder: folder})
	}
	return list, nil
}

func editMigration(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	e := model.EditMigration{Sources: c.StringSlice("source")}
	if c.IsSet("leave") || c.Bool("leave-none") {
		if c.IsSet("leave") && c.Bool("leave-none") {
			return usageError{"--leave and --leave-none exclude each other: omit one"}
		}
		e.Leave = new(c.StringSlice("leave"))
	}
	if c.IsSet("note") {
		e.Note = new(c.String("note"))
	}
	if c.IsSet("folder") {
		folders, err := askedFolders(c)
		if err != nil {
			return err
		}
		e.Folders = &folders
	}
	if e.Leave == nil && e.Folders == nil && e.Note == nil && len(e.Sources) == 0 {
		return usageError{"nothing is to be changed; write --source, --leave, --leave-none, --folder or --note"}
	}
	m, err := api.EditMigration(ctx, args[0], e)
	return shownMigration(c, m, err)
}

func surveyMigration(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	runs, err := api.SurveyMigration(ctx, args[0])
	if err != nil {
		return err
	}
	if c.Bool("no-wait") {
		return show(c, runs, runTable(runs))
	}
	for surveyed := -1; ; {
		for _, run := range runs {
			if run, err = follow(ctx, c, api, run); err != nil {
				return err
			}
			if err := ended(run); err != nil {
				return err
			}
		}
		m, err := api.Migration(ctx, args[0])
		if err != nil || m.Totals.Surveyed == m.Totals.Shares || m.Totals.Surveyed == surveyed {
			return shownMigration(c, m, err)
		}
		surveyed = m.Totals.Surveyed
		// A call begins a part of very many surveys.
		if runs, err = api.SurveyMigration(ctx, args[0]); err != nil {
			return err
		}
	}
}

// targetMigration chooses the target, and shows what its checks find.
func targetMigration(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if len(args) == 1 && c.Bool("rehearse") {
		return usageError{"--rehearse: a check changes nothing; name the target that is to be chosen, or omit the option"}
	}
	if len(args) > 1 {
		if _, err := api.EditMigration(ctx, args[0], model.EditMigration{Target: &args[1]}); err != nil {
			return err
		}
	}
	m, err := api.CheckMigrationTarget(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"check", "status", "found"}}
	var after []string
	for _, f := range m.TargetChecks {
		t.add(checkName(f), string(f.Severity), f.Found)
		if f.Severity != finding.Pass {
			after = append(after, findingLine(f))
		}
	}
	t.after = strings.Join(after, "\n")
	if err := show(c, m, t); err != nil {
		return err
	}
	if finding.Worst(m.TargetChecks) == finding.Fail {
		return findings{"a check of the target failed: see above"}
	}
	return nil
}

func reportMigration(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	name, file := args[0], args[1]
	form := map[string]string{".html": "html", ".csv": "shares"}[strings.ToLower(filepath.Ext(file))]
	switch {
	case form == "":
		return usageError{fmt.Sprintf("FILE: %q ends neither in .html nor in .csv", file)}
	case c.Bool("accounts") && form == "html":
		return usageError{"--accounts writes a .csv file; the .html page lists the accounts too"}
	case c.Bool("accounts"):
		form = "accounts"
	}
	if err := writeFile(file, func(w io.Writer) error { return api.MigrationSurveyReport(ctx, name, form, w) }); err != nil {
		return err
	}
	return done(c, map[string]string{"file": file}, "%s is written", file)
}
