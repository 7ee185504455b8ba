package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/namespace"
	"bridgespan/core/verify"
	"bridgespan/model"
)

// editNamespace changes a namespace, or, for a path, an entry of one.
func editNamespace(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	ttl := sentInt(c, "ttl")
	if !strings.HasPrefix(args[0], "/") {
		change := model.EditNamespace{Note: sent(c, "note"), TTL: ttl, Returns: sent(c, "returns"), Hiding: sentBool(c, "hiding")}
		n, err := api.EditNamespace(ctx, args[0], change)
		if err != nil {
			return err
		}
		return done(c, n, "changed namespace %s", n.Name)
	}
	for _, name := range []string{"returns", "hiding"} {
		if c.IsSet(name) {
			return usageError{fmt.Sprintf("--%s is for a whole namespace: write its name without a slash", name)}
		}
	}
	name, e, err := entryAt(ctx, api, args[0])
	if err != nil {
		return err
	}
	if e, err = api.EditEntry(ctx, name, e, model.EditEntry{Note: sent(c, "note"), TTL: ttl, Letter: sent(c, "letter")}); err != nil {
		return err
	}
	return done(c, e, "changed /%s/%s", name, e.Path)
}

// entryAt finds the entry at a full path.
func entryAt(ctx context.Context, api *client.Client, full string) (string, namespace.Entry, error) {
	name, inside, err := namespace.Split("PATH", full)
	if err != nil {
		return name, namespace.Entry{}, err
	}
	e, err := api.EntryAt(ctx, name, inside)
	return name, e, err
}

func moveEntry(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	name, e, err := entryAt(ctx, api, args[0])
	if err != nil {
		return err
	}
	other, to, err := namespace.Split("NEWPATH", args[1])
	if err != nil {
		return err
	}
	if other != name {
		return usageError{fmt.Sprintf("an entry moves within its namespace; begin NEWPATH with /%s/", name)}
	}
	before := e.Path
	if e, err = api.EditEntry(ctx, name, e, model.EditEntry{Path: to}); err != nil {
		return err
	}
	return done(c, e, "moved /%s/%s to /%s/%s; no file was touched", name, before, name, e.Path)
}

func rankLocation(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	name, e, l, err := findLocation(ctx, c, api, args[0])
	if err != nil {
		return err
	}
	change := model.EditLocation{Rank: namespace.Rank(c.Args().Get(1)), Weight: sentInt(c, "weight")}
	if c.IsSet("only-for") {
		sites := []string{}
		for _, site := range c.StringSlice("only-for") {
			if site != "" { // "" for people of every site again
				sites = append(sites, site)
			}
		}
		change.OnlyFor = &sites
	}
	if e, err = api.EditLocation(ctx, name, e, l.ID, change); err != nil {
		return err
	}
	return done(c, e, "changed %s at /%s/%s", l.Target(), name, e.Path)
}

// checkLocations looks at locations now, or tells how they were found until now.
func checkLocations(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.Bool("over-time") {
		name, e, err := entryAt(ctx, api, args[0])
		if err != nil {
			return err
		}
		return showHealth(ctx, c, api, name, e)
	}
	name, inside := args[0], ""
	if strings.HasPrefix(name, "/") {
		var err error
		if name, inside, err = namespace.Split("PATH", name); err != nil {
			return err
		}
	}
	found, err := api.CheckLocations(ctx, name, inside)
	if err != nil {
		return err
	}
	t := table{heads: []string{"path", "location", "found", "trouble"}, empty: "There are no locations there."}
	wrong := 0
	for _, l := range found {
		if l.Health != namespace.Well {
			wrong++
		}
		t.add(l.Path, l.Location, string(l.Health), l.Text)
	}
	t.after = fmt.Sprintf("%d of %d locations are well.", len(found)-wrong, len(found))
	return show(c, found, t)
}

func showHealth(ctx context.Context, c *cli.Command, api *client.Client, name string, e namespace.Entry) error {
	spells, err := api.Health(ctx, name, e)
	if err != nil {
		return err
	}
	t := table{heads: []string{"location", "found", "from", "to", "trouble"}, empty: fmt.Sprintf("No location of /%s/%s was looked at yet.", name, e.Path)}
	for _, s := range spells {
		to := "now"
		if s.To != nil {
			to = when(*s.To)
		}
		t.add(s.Location, string(s.Health), when(s.From), to, s.Text)
	}
	return show(c, spells, t)
}

// showLens shows where each signpost leads somebody, and what they may do there.
func showLens(ctx context.Context, c *cli.Command, api *client.Client, name, inside string) error {
	through, err := through(c)
	if err != nil {
		return err
	}
	lens, err := api.Lens(ctx, name, c.String("from"), c.String("as"), through)
	if err != nil {
		return err
	}
	t := table{heads: []string{"path", "leads to", "may", "because"}, empty: "There is no signpost there."}
	shown := lens.Seen[:0]
	for _, s := range lens.Seen {
		full := namespace.Key("/" + name + "/" + inside)
		if inside != "" && namespace.Key(s.Path) != full && !strings.HasPrefix(namespace.Key(s.Path), full+"/") {
			continue
		}
		shown = append(shown, s)
		may, why := string(s.Level), s.Reason
		if s.Closed != "" {
			may, why = "-", s.Closed
		}
		t.add(s.Path, s.Location, may, why)
	}
	lens.Seen = shown
	return show(c, lens, t)
}

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
