package main

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/acl"
	"bridgespan/core/mapping"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

func namespaceCommand() *cli.Command {
	ttlFlag := &cli.IntFlag{Name: "ttl", Usage: "for how many `SECONDS` directions may be kept"}
	targetFlag := func(name string) cli.Flag {
		return &cli.StringFlag{Name: name, Usage: "a location, as `SERVER/SHARE[/FOLDER]`"}
	}
	manner := []cli.Flag{noteFlag(), ttlFlag, &cli.StringFlag{Name: "returns", Usage: "when people come back to a preferred location that is well again: at-once, or later, when their directions run out"},
		&cli.BoolFlag{Name: "hiding", Usage: "let people see only the entries that they may open"}}
	weights := []cli.Flag{&cli.IntFlag{Name: "weight", Usage: "share of the people among locations that stand equal: `1` to 1000"},
		&cli.StringSliceFlag{Name: "only-for", Usage: "lead only people at this `SITE` there; may be given again"}}
	return &cli.Command{Name: "namespace", Usage: "the trees of names that people see", Commands: []*cli.Command{
		{Name: "list", Usage: "list namespaces", Action: signedIn(listNamespaces)},
		{Name: "tree", Usage: "show the tree of a namespace, or of a branch of it; or as somebody sees it", ArgsUsage: "NAME|PATH",
			Flags:  []cli.Flag{&cli.StringFlag{Name: "from", Usage: "as it is seen from this `SITE`"}, &cli.StringFlag{Name: "as", Usage: "as this `ACCOUNT`, a person or a group, sees it"}, throughFlag()},
			Action: signedIn(showNamespace, "NAME")},
		{Name: "create", Usage: "make an empty namespace", ArgsUsage: "NAME", Flags: manner,
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				n, err := api.AddNamespace(ctx, model.NewNamespace{Name: args[0], Note: c.String("note"), TTL: c.Int("ttl"), NamespaceManner: model.NamespaceManner{Returns: c.String("returns"), Hiding: c.Bool("hiding")}})
				if err != nil {
					return err
				}
				return done(c, n, "made namespace %s; add to it with: bspan namespace add /%s/PATH --to SERVER/SHARE", n.Name, n.Name)
			}, "NAME")},
		{Name: "remove", Usage: "remove a namespace; no file is touched", ArgsUsage: "NAME",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "with-entries", Usage: "although it has entries"}, rehearseFlag()},
			Action: rehearsable(removeNamespace, "NAME")},
		{Name: "add", Usage: "add a signpost, a further location of one, or (without --to) a folder", ArgsUsage: "PATH",
			Flags: append([]cli.Flag{targetFlag("to"), &cli.StringFlag{Name: "rank", Usage: "first, normal or last among locations that are equally near"},
				&cli.BoolFlag{Name: "open-now", Usage: "lead people to a further location before it was verified"}, noteFlag(), ttlFlag}, weights...),
			Action: signedIn(addEntry, "PATH")},
		{Name: "edit", Usage: "change a namespace, or an entry at a path", ArgsUsage: "NAME|PATH", Flags: append([]cli.Flag{rehearseFlag(), &cli.StringFlag{Name: "letter", Usage: "drive `LETTER` of a signpost, E to Z; empty to take it back"}}, manner...), Action: rehearsable(editNamespace, "NAME|PATH")},
		{Name: "move", Usage: "give an entry another path, and everything below it with it; no file is touched", ArgsUsage: "PATH NEWPATH",
			Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(moveEntry, "PATH", "NEWPATH")},
		{Name: "rank", Usage: "order the locations of a signpost that are equally near", ArgsUsage: "PATH [first|normal|last]", Flags: append([]cli.Flag{targetFlag("location"), rehearseFlag()}, weights...), Action: rehearsable(rankLocation, "PATH", "RANK?")},
		{Name: "check", Usage: "look at the locations of a namespace, or of what is at and below a path, now", ArgsUsage: "NAME|PATH",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "over-time", Usage: "tell how they were found until now instead"}}, Action: signedIn(checkLocations, "NAME|PATH")},
		{Name: "verify", Usage: "find out whether a location holds what another one holds; one that waits for that opens when nothing differs", ArgsUsage: "PATH",
			Flags:  []cli.Flag{targetFlag("location"), &cli.StringFlag{Name: "against", Usage: "compare with this location, `SERVER/SHARE[/FOLDER]`; otherwise with one that is open"}, &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}},
			Action: signedIn(verifyLocation, "PATH")},
		{Name: "lint", Usage: "find what people will stumble over, and mend what can be mended at once", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "deep", Usage: "also ask the file servers whether anybody may open what signposts lead to"},
				&cli.StringSliceFlag{Name: "fix", Usage: "mend every flaw of this `KIND`; may be given again"}, &cli.BoolFlag{Name: "rehearse", Usage: "with --fix: only tell what would be done"}},
			Action: signedIn(lintNamespace, "NAME")},
		{Name: "mappings", Usage: "write drives and mount points for a person or group, or tell what changed since they were handed out", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.StringFlag{Name: "for", Usage: "for this `ACCOUNT`; without it, list who was given what"}, &cli.StringFlag{Name: "from", Usage: "standing at this `SITE`"},
				&cli.StringFlag{Name: "format", Usage: "batch, powershell, autofs, fstab or csv", Value: "csv"}, &cli.BoolFlag{Name: "hand-out", Usage: "keep that it was handed out, and the letters that were given"}},
			Action: signedIn(namespaceMappings, "NAME")},
		{Name: "history", Usage: "list what was changed, or return to how it was after a change", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 30, Usage: "at most `N`"}, &cli.Int64Flag{Name: "return-to", Usage: "make it as it was right after this `CHANGE`"},
				&cli.BoolFlag{Name: "rehearse", Usage: "only tell what would change"}, &cli.StringFlag{Name: "fingerprint", Usage: "do it only if nothing changed since the rehearsal that printed this `TEXT`"}},
			Action: signedIn(namespaceHistory, "NAME")},
		{Name: "hold", Usage: "keep people from a location", ArgsUsage: "PATH", Flags: []cli.Flag{targetFlag("location"), &cli.StringFlag{Name: "why", Usage: "the `REASON`, for directions to show"}, rehearseFlag()},
			Action: rehearsable(setState(namespace.Held), "PATH")},
		{Name: "open", Usage: "lead people to a location again", ArgsUsage: "PATH", Flags: []cli.Flag{targetFlag("location"), rehearseFlag()},
			Action: rehearsable(setState(namespace.Open), "PATH")},
		{Name: "remove-entry", Usage: "remove an entry, or one location of it; no file is touched", ArgsUsage: "PATH",
			Flags:  []cli.Flag{targetFlag("location"), rehearseFlag()},
			Action: rehearsable(removeEntry, "PATH")},
	}}
}

func listNamespaces(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.Namespaces(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"name", "folders", "signposts", "ttl", "note"}, empty: "There are no namespaces yet. Make one with: bspan namespace create NAME"}
	for _, n := range list {
		t.add(n.Name, fmt.Sprint(n.Folders), fmt.Sprint(n.Signposts), fmt.Sprintf("%d s", n.TTL), n.Note)
	}
	return show(c, list, t)
}

func showNamespace(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	name, inside := args[0], ""
	if strings.HasPrefix(name, "/") {
		var err error
		if name, inside, err = namespace.Split("PATH", name); err != nil {
			return err
		}
	}
	if c.String("from") != "" || c.String("as") != "" {
		return showLens(ctx, c, api, name, inside)
	}
	n, err := api.Namespace(ctx, name)
	if err != nil {
		return err
	}
	entries, err := api.Entries(ctx, name)
	if err != nil {
		return err
	}
	if inside != "" {
		key := namespace.Key(inside)
		entries = slices.DeleteFunc(entries, func(e namespace.Entry) bool {
			return namespace.Key(e.Path) != key && !strings.HasPrefix(namespace.Key(e.Path), key+"/")
		})
	}
	t := table{heads: []string{"path", "leads to", "site", "state", "rank"}, empty: "The namespace is empty. Add to it with: bspan namespace add /" + name + "/PATH --to SERVER/SHARE"}
	people := c.String("output") == "table"
	for _, e := range entries {
		addEntryRows(&t, name, e, people)
	}
	return show(c, map[string]any{"namespace": n, "entries": entries}, t)
}

// addEntryRows adds a row for each location; people see names indented by
// depth, programs the full path on every row.
func addEntryRows(t *table, name string, e namespace.Entry, people bool) {
	title := "/" + name + "/" + e.Path
	if people {
		title = strings.Repeat("  ", strings.Count(e.Path, "/")) + path.Base(e.Path)
	}
	if e.Kind == namespace.Folder {
		if people {
			title += "/"
		}
		t.add(title, "", "", "", "")
		return
	}
	for i, l := range e.Locations {
		if people && i > 0 {
			title = ""
		}
		state := string(l.State)
		if l.Why != "" {
			state += ": " + l.Why
		}
		t.add(title, l.Target().String(), l.Site, state, string(l.Rank))
	}
}

func removeNamespace(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	n, err := api.Namespace(ctx, args[0])
	if err != nil {
		return err
	}
	if err := api.RemoveNamespace(ctx, args[0], c.Bool("with-entries")); err != nil {
		return err
	}
	return done(c, nil, "removed namespace %s with %d folders and %d signposts; no file was touched", n.Name, n.Folders, n.Signposts)
}

func addEntry(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	name, inside, err := namespace.Split("PATH", args[0])
	if err != nil {
		return err
	}
	if c.String("to") == "" {
		e, err := api.AddEntry(ctx, name, model.NewEntry{Path: inside, Kind: namespace.Folder, Note: c.String("note")})
		if err != nil {
			return err
		}
		return done(c, e, "added folder /%s/%s", name, e.Path)
	}
	target, err := namespace.ParseTarget("to", c.String("to"))
	if err != nil {
		return err
	}
	location := model.NewLocation{Server: target.Server, Share: target.Share, Sub: target.Sub, Rank: namespace.Rank(c.String("rank")), Weight: c.Int("weight"), OnlyFor: c.StringSlice("only-for"), OpenNow: c.Bool("open-now")}
	known, err := api.EntryAt(ctx, name, inside)
	switch {
	case err == nil:
		return addLocation(ctx, c, api, name, known, location)
	case !client.IsNotFound(err):
		return err
	}
	e, err := api.AddEntry(ctx, name, model.NewEntry{Path: inside, Kind: namespace.Signpost, Note: c.String("note"), TTL: c.Int("ttl"), Locations: []model.NewLocation{location}})
	if err != nil {
		return err
	}
	return done(c, e, "added signpost /%s/%s, which leads to %s", name, e.Path, e.Locations[0].Target())
}

func addLocation(ctx context.Context, c *cli.Command, api *client.Client, name string, e namespace.Entry, location model.NewLocation) error {
	e, err := api.AddLocation(ctx, name, e, location)
	if err != nil {
		return err
	}
	l := e.Locations[len(e.Locations)-1]
	text := "open"
	if l.State == namespace.Held {
		text = fmt.Sprintf("held (%s); when you have looked at it: bspan namespace open --location %s /%s/%s", l.Why, l.Target(), name, e.Path)
	}
	return done(c, e, "added %s to /%s/%s: %s", l.Target(), name, e.Path, text)
}

// findLocation finds the entry at a path and the location that --location names.
func findLocation(ctx context.Context, c *cli.Command, api *client.Client, full string) (string, namespace.Entry, namespace.Location, error) {
	name, inside, err := namespace.Split("PATH", full)
	if err != nil {
		return name, namespace.Entry{}, namespace.Location{}, err
	}
	e, err := api.EntryAt(ctx, name, inside)
	if err != nil {
		return name, e, namespace.Location{}, err
	}
	if c.String("location") == "" && len(e.Locations) == 1 {
		return name, e, e.Locations[0], nil
	}
	var targets []string
	for _, l := range e.Locations {
		if strings.EqualFold(l.Target().String(), strings.TrimSuffix(c.String("location"), "/")) {
			return name, e, l, nil
		}
		targets = append(targets, l.Target().String())
	}
	return name, e, namespace.Location{}, usageError{fmt.Sprintf("say which location of %s with --location: %s", full, strings.Join(targets, ", "))}
}

func setState(state namespace.State) action {
	return func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		name, e, l, err := findLocation(ctx, c, api, args[0])
		if err != nil {
			return err
		}
		e, err = api.EditLocation(ctx, name, e, l.ID, model.EditLocation{State: state, Why: c.String("why")})
		if err != nil {
			return err
		}
		tellKeeping(ctx, c, api, name)
		return done(c, e, "%s is %s at /%s/%s", l.Target(), state, name, e.Path)
	}
}

func removeEntry(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.String("location") != "" {
		name, e, l, err := findLocation(ctx, c, api, args[0])
		if err != nil {
			return err
		}
		if e, err = api.RemoveLocation(ctx, name, e, l.ID); err != nil {
			return err
		}
		tellKeeping(ctx, c, api, name)
		return done(c, e, "removed the location %s from /%s/%s; no file was touched", l.Target(), name, e.Path)
	}
	name, inside, err := namespace.Split("PATH", args[0])
	if err != nil {
		return err
	}
	e, err := api.EntryAt(ctx, name, inside)
	if err != nil {
		return err
	}
	if err := api.RemoveEntry(ctx, name, e); err != nil {
		return err
	}
	return done(c, nil, "removed the %s /%s/%s; no file was touched", e.Kind, name, e.Path)
}

func whereCommand() *cli.Command {
	return &cli.Command{
		Name: "where", Usage: "show where a path leads, in which order, and why", ArgsUsage: "PATH",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "stand at this `SITE`"},
			&cli.StringFlag{Name: "as", Usage: "be this `ACCOUNT`: told what it may do there; among equal locations each person keeps their own order"},
			throughFlag(),
			&cli.BoolFlag{Name: "fresh", Usage: "read everything for this answer, past what is remembered"},
		},
		Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			through, err := through(c)
			if err != nil {
				return err
			}
			where := api.Where
			if c.Bool("fresh") {
				where = api.WhereNow
			}
			if through == "front" {
				where = func(ctx context.Context, path, from, as string) (model.Directions, error) {
					return api.WhereThroughFront(ctx, path, from, as, c.Bool("fresh"))
				}
			} else if c.String("as") != "" {
				where = func(ctx context.Context, path, from, as string) (model.Directions, error) {
					return api.WhereMay(ctx, path, from, as, c.Bool("fresh"))
				}
			}
			d, err := where(ctx, args[0], c.String("from"), c.String("as"))
			if err != nil {
				return err
			}
			return show(c, d, directionsTable(d))
		}, "PATH"),
	}
}

func throughFlag() cli.Flag {
	return &cli.StringFlag{Name: "through", Value: "gateway", Usage: "as people come there: through the `gateway`, or through the front at their site (front)"}
}

// through is how people come to a namespace.
func through(c *cli.Command) (string, error) {
	switch t := c.String("through"); t {
	case "gateway", "front":
		return t, nil
	default:
		return "", usageError{fmt.Sprintf("--through %s: say gateway or front", t)}
	}
}

func directionsTable(d model.Directions) table {
	if d.Kind == string(namespace.Folder) {
		t := table{heads: []string{"name"}, empty: d.Path + " is an empty folder of the namespace."}
		for _, name := range d.Names {
			t.add(name)
		}
		t.after = d.Path + " is a folder of the namespace itself; it leads nowhere else."
		return t
	}
	t := table{heads: []string{"", "location", "site", "state", "reason"}}
	used := 0
	for i, direction := range d.Directions {
		order := fmt.Sprint(i + 1)
		if direction.Usable {
			used++
		} else {
			order = "-"
		}
		t.add(order, path.Join(direction.Target().String(), d.Rest), direction.Site, string(direction.State), direction.Reason)
	}
	t.after = fmt.Sprintf("%s leads through the signpost %s; directions may be kept for %d s.", d.Path, d.Signpost, d.TTL)
	if d.Through != "" {
		t.after = fmt.Sprintf("People at %s open %s, through the front %s and the signpost %s.", d.From, d.Opens, d.Through, d.Signpost)
	}
	switch {
	case d.May != nil && d.May.Level == acl.None:
		t.after += fmt.Sprintf("\n%s may do nothing there.", d.May.Account.Name)
	case d.May != nil:
		var why []string
		for _, r := range d.May.Reasons {
			if r.Granted {
				why = append(why, r.Text)
			}
		}
		t.after += fmt.Sprintf("\n%s has %s there: %s.", d.May.Account.Name, level(d.May.Level, d.May.Words), strings.Join(why, "; "))
	case d.MayTrouble != "":
		t.after += fmt.Sprintf("\nWhat %s may do there is not known now: %s.", d.As, d.MayTrouble)
	}
	if d.Fresh {
		t.after += "\nRead for this answer, past everything that is remembered."
	}
	if used == 0 {
		t.after = fmt.Sprintf("%s leads nowhere now: no location of %s is open.", d.Path, d.Signpost)
	}
	return t
}

// namespaceMappings writes the file itself to standard output, and what is to
// be known about it to standard error.
func namespaceMappings(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.String("for") == "" {
		return listHandouts(ctx, c, api, args[0])
	}
	m, err := api.Mappings(ctx, args[0], model.AskMappings{For: c.String("for"), From: c.String("from"), Format: mapping.Format(c.String("format"))}, c.Bool("hand-out"))
	if err != nil {
		return err
	}
	if c.String("output") == "json" {
		return show(c, m, table{})
	}
	for _, closed := range m.Closed {
		fmt.Fprintln(c.Root().ErrWriter, "left out:", closed)
	}
	if m.Through != "" {
		fmt.Fprintf(c.Root().ErrWriter, "through the front %s: they stay right when a server behind a signpost changes\n", m.Through)
	}
	if m.Last != nil {
		fmt.Fprintf(c.Root().ErrWriter, "last handed out %s; changed since: %d\n", when(*m.Last), len(m.Changes))
	}
	for _, change := range m.Changes {
		fmt.Fprintln(c.Root().ErrWriter, "changed:", change)
	}
	_, err = fmt.Fprint(c.Root().Writer, m.Text)
	return err
}

func listHandouts(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	list, err := api.Handouts(ctx, name)
	if err != nil {
		return err
	}
	t := table{heads: []string{"for", "at", "handed out", "by", "changed since"}, empty: "Nothing was handed out yet. Begin with: bspan namespace mappings --for ACCOUNT --format batch --hand-out " + name}
	for _, h := range list {
		changes := h.Changes
		if h.Trouble != "" {
			changes = append(changes, "not known now: "+h.Trouble)
		}
		t.add(h.For, h.From, when(h.At), h.Who, strings.Join(changes, "; "))
	}
	return show(c, list, t)
}
