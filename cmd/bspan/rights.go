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
	"bridgespan/core/finding"
	"bridgespan/model"
)

const pathHelp = "SERVER/SHARE/PATH, or a path of a namespace with a leading slash"

func rightsCommand() *cli.Command {
	change := func(name, usage string, flags []cli.Flag, names ...string) *cli.Command {
		flags = append(flags, &cli.BoolFlag{Name: "rehearse", Usage: "only tell what would change, for whom, on which files and folders"})
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: strings.Join(names, " "), Flags: flags, Action: signedIn(changeRights(model.RightsAction(name)), names...)}
	}
	return &cli.Command{
		Name: "rights", Usage: "who may do what with files and folders, and why", ArgsUsage: "PATH", Description: "PATH is " + pathHelp + ".",
		Flags: []cli.Flag{&cli.StringFlag{Name: "as", Usage: "what this `ACCOUNT` may do, and which entries and groups decide"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return cli.ShowSubcommandHelp(c)
			}
			return signedIn(showRights, "PATH")(ctx, c)
		},
		Commands: []*cli.Command{
			{Name: "who-can", Usage: "list everybody who has at least a level", ArgsUsage: "PATH", Flags: []cli.Flag{
				&cli.StringFlag{Name: "level", Usage: "full, change, write, read or list", Value: "change"},
				&cli.StringFlag{Name: "filter", Usage: "only users with `TEXT` in their name"},
				&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait; see it with: rights able RUN"}}, Action: signedIn(whoCan, "PATH")},
			{Name: "able", Usage: "show who has a level, as a run of who-can found it", ArgsUsage: "RUN", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onRun(args[0], func(id int64) error {
					w, err := api.WhoCan(ctx, id)
					if err != nil {
						return err
					}
					return show(c, w, whoCanTable(w))
				})
			}, "RUN")},
			{Name: "compare", Usage: "tell who gains and who loses between two places", ArgsUsage: "PATH PATH", Flags: []cli.Flag{
				&cli.BoolFlag{Name: "deep", Usage: "compare everything below as well, as a run that can be stopped and go on"},
				&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait; see it with: rights compared RUN"}}, Action: signedIn(compareRights, "PATH", "PATH")},
			{Name: "compared", Usage: "show a comparison of everything below two places", ArgsUsage: "RUN", Flags: []cli.Flag{
				&cli.StringFlag{Name: "filter", Usage: "only differences with `TEXT` in their path"},
				&cli.IntFlag{Name: "limit", Usage: "at most `N` differences", Value: mostShown}}, Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onRun(args[0], func(id int64) error {
					r, err := api.Comparison(ctx, id)
					if err != nil {
						return err
					}
					return showCompared(ctx, c, api, r)
				})
			}, "RUN")},
			{Name: "explain", Usage: "put a security descriptor, written as SDDL, in words", ArgsUsage: "SDDL", Flags: []cli.Flag{atServer()}, Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				p, err := api.Explain(ctx, c.String("at"), args[0])
				if err != nil {
					return err
				}
				t := table{heads: []string{"", "entry"}, empty: p.Sentence, after: p.Sentence}
				for i, e := range p.Entries {
					t.add(fmt.Sprint(i+1), entryLine(e))
				}
				return show(c, p, t)
			}, "SDDL")},
			change("grant", "grant a level to an account, or deny it", []cli.Flag{
				&cli.StringFlag{Name: "level", Usage: "full, change, write, read or list", Required: true},
				&cli.StringFlag{Name: "scope", Usage: "everything, this, folders, files, below or one-level", Value: "everything"},
				&cli.BoolFlag{Name: "deny", Usage: "deny instead of granting"}}, "PATH", "ACCOUNT"),
			change("revoke", "take away what an account was granted or denied here", nil, "PATH", "ACCOUNT"),
			change("own", "make an account the owner", []cli.Flag{&cli.BoolFlag{Name: "below", Usage: "of everything below as well"}}, "PATH", "ACCOUNT"),
			change("protect", "inherit nothing any more; what was inherited is kept as its own", []cli.Flag{&cli.BoolFlag{Name: "drop", Usage: "drop what was inherited"}}, "PATH"),
			change("inherit", "inherit from above again", nil, "PATH"),
			change("replace-below", "make everything below inherit from here alone", nil, "PATH"),
			{Name: "change", Usage: "show a change of permissions: what it did, and to what", ArgsUsage: "RUN", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onRun(args[0], func(id int64) error {
					r, err := api.RightsChange(ctx, id)
					if err != nil {
						return err
					}
					return show(c, r, changeTable(r))
				})
			}, "RUN")},
			{Name: "undo", Usage: "take back what a change of permissions did", ArgsUsage: "RUN", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onRun(args[0], func(id int64) error {
					r, err := api.UndoRights(ctx, id)
					if err != nil {
						return err
					}
					return finishChange(ctx, c, api, r)
				})
			}, "RUN")},
		},
	}
}

func showRights(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if as := c.String("as"); as != "" {
		return showRightsAs(ctx, c, api, args[0], as)
	}
	r, err := api.Rights(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"account", "may", "file", "share", "kind"}, empty: "No account is named there."}
	for _, p := range r.People {
		t.add(p.Account.Name, level(p.Level, p.Words), string(p.File), string(p.Share), string(p.Account.Kind))
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s\nOwner: %s", r.File.Sentence, accountName(r.File.Owner))
	for i, e := range r.File.Entries {
		fmt.Fprintf(&b, "\n%3d  %s", i+1, entryLine(e))
	}
	fmt.Fprintf(&b, "\nShare: %s", r.Share.Sentence)
	writeFindings(&b, r.Findings)
	t.after = b.String()
	return show(c, r, t)
}

func accountName(a *model.Account) string {
	if a == nil {
		return "nobody"
	}
	return a.Name
}

func level(l acl.Level, words []string) string {
	if l == acl.Unusual {
		return "special: " + strings.Join(words, ", ")
	}
	return string(l)
}

func entryLine(e model.RightsEntry) string {
	verb := "allow"
	if !e.Allow {
		verb = "deny"
	}
	scope := string(e.Scope)
	if scope == "" {
		scope = "a mixture"
	}
	line := fmt.Sprintf("%s %s %s (%s)", verb, e.Account.Name, level(e.Level, e.Words), scope)
	if e.Inherited {
		line += " from above"
		if e.From != "" {
			line = strings.TrimSuffix(line, "above") + e.From
		}
	}
	return line
}

// writeFindings writes each finding on a line of its own.
func writeFindings(b *strings.Builder, list []finding.Finding) {
	for _, f := range list {
		fmt.Fprintf(b, "\n%s", findingLine(f))
	}
}

func showRightsAs(ctx context.Context, c *cli.Command, api *client.Client, path, as string) error {
	r, err := api.RightsAs(ctx, path, as)
	if err != nil {
		return err
	}
	t := table{heads: []string{"", "because"}}
	for _, reason := range r.Reasons {
		mark := "-"
		if reason.Granted {
			mark = "+"
		}
		t.add(mark, reason.Text)
	}
	t.after = fmt.Sprintf("%s has %s there (files: %s, share: %s).", r.Account.Name, level(r.Level, r.Words), r.File, r.Share)
	if !r.Complete {
		t.after += "\nNot complete: " + r.Missing
	}
	return show(c, r, t)
}

func changeRights(what model.RightsAction) action {
	return func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		asked := model.ChangeRights{Path: args[0], Action: what, Rehearse: c.Bool("rehearse"), Level: acl.Level(c.String("level")), Scope: acl.Scope(c.String("scope")),
			Deny: c.Bool("deny"), Drop: c.Bool("drop"), Below: c.Bool("below")}
		if len(args) > 1 {
			asked.Account = args[1]
		}
		r, err := api.ChangeRights(ctx, asked)
		if err != nil {
			return err
		}
		return finishChange(ctx, c, api, r)
	}
}

// finishChange waits for a change to end, and shows it.
func finishChange(ctx context.Context, c *cli.Command, api *client.Client, r model.RightsChange) error {
	return throughRun(ctx, c, api, r.Run, r, func(id int64) error {
		r, err := api.RightsChange(ctx, id)
		if err != nil {
			return err
		}
		return show(c, r, changeTable(r))
	})
}

func changeTable(r model.RightsChange) table {
	t := table{heads: []string{"path", "state", "account", "before", "after", "gains", "loses"}, empty: "Nothing changes: the permissions are so already."}
	for _, o := range r.Objects {
		path, state := "/"+o.Path, o.State
		if o.Trouble != "" {
			state += ": " + o.Trouble
		}
		if len(o.Shifts) == 0 {
			t.add(path, state, "nobody", "", "", "", "")
		}
		for _, s := range o.Shifts {
			t.add(path, state, s.Account.Name, string(s.Before), string(s.After), strings.Join(s.Gains, ", "), strings.Join(s.Loses, ", "))
		}
	}
	n := r.Counts
	total := n.Planned + n.Done + n.Failed + n.Undone
	switch {
	case r.Asked.Rehearse:
		t.after = fmt.Sprintf("Rehearsed only: %d files and folders would change; nothing was changed.", total)
	case n.Undone > 0:
		t.after = fmt.Sprintf("%d of %d are as they were before.", n.Undone, total)
	default:
		t.after = fmt.Sprintf("%d of %d changed.", n.Done, total)
	}
	if int64(len(r.Objects)) < total {
		t.after += fmt.Sprintf(" The first %d are shown.", len(r.Objects))
	}
	if r.CanUndo {
		t.after += fmt.Sprintf("\nTo take it back: bspan rights undo %d", r.Run.ID)
	}
	return t
}

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
