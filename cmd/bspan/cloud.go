package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func cloudCommand() *cli.Command {
	move := []cli.Flag{rehearseFlag(), &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}}
	return &cli.Command{Name: "cloud", Usage: "contents of cloud sets: of a bucket and its edges", Commands: []*cli.Command{
		{Name: "plan", Usage: "check a cloud set before it is created, with first fill and costs; changes nothing", ArgsUsage: "SET CLOUD/BUCKET[/FOLDER] SERVER/SHARE[/FOLDER]...", Flags: append(setFlags(), &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}),
			Action: signedIn(planCloudSet, "SET", "CLOUD/BUCKET[/FOLDER]", "SERVER/SHARE[/FOLDER]...")},
		setupCommand(), keyCommand(),
		{Name: "list", Usage: "list the edges of cloud sets, with what they hold", ArgsUsage: "[SET]", Action: signedIn(listEdges, "SET?")},
		{Name: "where", Usage: "show where the content of a path is now", ArgsUsage: "SET PATH", Action: signedIn(showWhere, "SET", "PATH")},
		{Name: "arrival", Usage: "forecast when a path, or a change at a replica, arrives in the bucket and at each edge", ArgsUsage: "SET [PATH]", Flags: []cli.Flag{
			&cli.StringFlag{Name: "made-at", Usage: "`REPLICA` at which a change is made, instead of a path"},
			&cli.StringFlag{Name: "at", Usage: "`TIME` at which it is made, such as \"2026-03-02 17:30\"; now when absent"},
			&cli.StringFlag{Name: "size", Usage: "`SIZE` of what is changed, such as 2GiB"}}, Action: signedIn(forecastArrival, "SET", "PATH?")},
		{Name: "accounts", Usage: "list the accounts in the permissions of a set, and how each server resolves them", ArgsUsage: "SET", Flags: []cli.Flag{
			&cli.BoolFlag{Name: "latest", Usage: "show the latest list again"},
			&cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}}, Action: signedIn(findAccountUses, "SET")},
		{Name: "access", Usage: "compare what a person may do with a path at each edge", ArgsUsage: "SET [PATH]", Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Usage: "`NAME` of the person, such as ivy.marsh", Required: true}}, Action: signedIn(compareAccess, "SET", "PATH?")},
		{Name: "usage", Usage: "show the storage of a bucket, the reads of its edges, and their costs", ArgsUsage: "SET", Action: signedIn(showCloudUsage, "SET")},
		{Name: "verify", Usage: "compare the bucket and its edges; first reports how much it reads from the bucket", ArgsUsage: "SET", Flags: append(verifyFlags(), rehearseFlag()), Action: signedIn(verifyCloudSet, "SET")},
		{Name: "restore", Usage: "list earlier versions of a path that the set keeps, or put one back", ArgsUsage: "SET PATH", Flags: []cli.Flag{
			&cli.StringFlag{Name: "version", Usage: "put the version of this `NUMBER` back"},
			&cli.StringFlag{Name: "as", Usage: "under this `PATH`, when not where it was"}}, Action: signedIn(restoreVersion, "SET", "PATH")},
		{Name: "fetch", Usage: "fill the stubs of a folder or a file of an edge", ArgsUsage: "SET EDGE [PATH]", Flags: move, Action: signedIn(moveContents(false), "SET", "EDGE", "PATH?")},
		{Name: "offload", Usage: "make stubs of a folder or a file of an edge, whose contents the bucket has", ArgsUsage: "SET EDGE [PATH]", Flags: move, Action: signedIn(moveContents(true), "SET", "EDGE", "PATH?")},
		{Name: "policy", Usage: "set what an edge keeps whole; --rehearse shows what becomes a stub now", ArgsUsage: "SET EDGE", Flags: append(edgeFlags(), rehearseFlag()), Action: rehearsable(setPolicy, "SET", "EDGE")},
	}}
}

// edgeFlags are the settings of the policy of an edge.
func edgeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "fill", Usage: "names (then contents, the newest first), stubs (contents on first use) or whole files"},
		&cli.IntFlag{Name: "free", Usage: "`PERCENT` of the volume that stay free; 0 for no line"},
		&cli.IntFlag{Name: "unused", Usage: "`DAYS` without use after which files become stubs; 0 for none"},
		&cli.StringFlag{Name: "keep-newest", Usage: "`SIZE` of the files changed last that stay whole, such as 10GiB; 0 for none"},
		&cli.StringSliceFlag{Name: "never", Usage: "`PATTERN` of files or folders that stay whole, such as *.accdb or ledgers/; \"\" for none"},
		&cli.StringSliceFlag{Name: "prefetch", Usage: "`PATTERN` of files or folders: the edge fetches their new contents at once, such as drawings/ or *; \"\" turns prefetch off"},
		&cli.StringFlag{Name: "prefetch-hours", Usage: "the hours of prefetch, as `RULES` such as \"off; mon-fri 7-19 full\"; \"\" for always"},
		&cli.StringSliceFlag{Name: "refuse", Usage: "`PROGRAM` on the edge's host that is given no content of stubs; \"\" for none"},
		&cli.DurationFlag{Name: "patience", Usage: "how long a program waits for content before it gets an error; 0 for 1m"}}
}

// planCloudSet is planReplicaSet for a bucket and its edges.
func planCloudSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if !c.IsSet("layout") {
		if err := c.Set("layout", model.LayoutHub); err != nil {
			return err
		}
	}
	return planReplicaSet(ctx, c, api, args)
}

// cloudSets are the cloud sets, or one.
func cloudSets(ctx context.Context, api *client.Client, name string) (list []model.ReplicaSet, err error) {
	if name != "" {
		set, err := api.ReplicaSet(ctx, name)
		return []model.ReplicaSet{set}, err
	}
	all, err := api.ReplicaSets(ctx)
	for _, set := range all {
		if set.IsCloudSet() {
			list = append(list, set)
		}
	}
	return list, err
}

func listEdges(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	sets, err := cloudSets(ctx, api, append(args, "")[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"set", "edge", "state", "whole", "bytes", "stubs", "bytes in the bucket", "free", "line", "policy"}, empty: "There is no cloud set. Create one of a bucket and folders: bspan replica create NAME CLOUD/BUCKET SERVER/SHARE --layout hub"}
	for _, set := range sets {
		for _, r := range set.Replicas[1:] {
			f := r.EdgeFigures
			if f == nil {
				t.add(set.Name, r.Name, r.State, "", "", "", "", "", "", policyWords(r.Edge))
				continue
			}
			t.add(set.Name, r.Name, r.State, humanize.Comma(f.Whole), size(f.WholeBytes), humanize.Comma(f.Stubs), size(f.StubBytes), size(f.Free), size(f.Line), policyWords(r.Edge))
			if f.Trouble != "" {
				t.after += fmt.Sprintf("%s at %s: %s\n", set.Name, r.Name, f.Trouble)
			}
			if f.FillsOn == "open" {
				t.after += fmt.Sprintf("%s at %s: a stub is filled completely when a program opens it.\n", set.Name, r.Name)
			}
			if f.Short > 0 {
				t.after += fmt.Sprintf("%s at %s: %s are missing to the free-space line, although every file that may be a stub is one.\n", set.Name, r.Name, size(f.Short))
			}
		}
	}
	return show(c, sets, t)
}

func size(bytes int64) string { return humanize.IBytes(uint64(max(bytes, 0))) }

// policyWords say what an edge keeps whole.
func policyWords(p *model.EdgePolicy) string {
	if !p.HasStubs() {
		return "whole files"
	}
	words := []string{map[string]string{model.FillNames: "names first", model.FillStubs: "on first use"}[p.Fill]}
	if p.FreePercent > 0 {
		words = append(words, fmt.Sprintf("%d%% free", p.FreePercent))
	}
	if p.UnusedDays > 0 {
		words = append(words, "unused "+english.Plural(p.UnusedDays, "day", ""))
	}
	if p.KeepNewest > 0 {
		words = append(words, "newest "+size(p.KeepNewest)+" stay")
	}
	if f := p.Prefetch; f != nil {
		words = append(words, strings.Join(written([]string{"prefetches " + strings.Join(f.Folders, " "), f.Hours}), ", "))
	}
	if len(p.Never) > 0 {
		words = append(words, "never "+strings.Join(p.Never, " "))
	}
	return strings.Join(words, ", ")
}

func showWhere(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	w, err := api.WhereContent(ctx, args[0], args[1])
	if err != nil {
		return err
	}
	t := table{heads: []string{"place", "content", "version", "size", "occupies", "changed", "problem"}}
	for _, p := range w.Places {
		name, version, changed, bytes, occupies := p.Replica, "", "", "", ""
		if p.Bucket {
			name += " (bucket)"
		}
		if p.Content == model.ContentWhole || p.Content == model.ContentStub {
			version = map[bool]string{true: "current", false: "another"}[p.Current]
			bytes = size(p.Size)
			if !p.Bucket {
				occupies = size(p.Allocated)
			}
		}
		if p.Modified != nil {
			changed = when(*p.Modified)
		}
		t.add(name, contentWords[p.Content], version, bytes, occupies, changed, p.Problem)
	}
	return show(c, w, t)
}

var contentWords = map[string]string{model.ContentWhole: "here", model.ContentStub: "on first use", model.ContentFolder: "folder", model.ContentNowhere: "nothing", model.ContentUnknown: "unknown"}

func restoreVersion(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if text := c.String("version"); text != "" {
		return onNumber(text, "bspan cloud restore "+args[0]+" "+shellWord(args[1]), func(id int64) error {
			i, err := api.RestoreFromAttic(ctx, args[0], id, c.String("as"))
			if err != nil {
				return err
			}
			return done(c, i, "%s is back at %s", i.Path, i.Replica)
		})
	}
	items, err := api.Attic(ctx, args[0], model.AtticFilter{Path: strings.Trim(args[1], "/")}, 100)
	if err != nil {
		return err
	}
	t := table{heads: []string{"version", "kept since", "size", "reason", "replica"}, empty: "No earlier version of " + args[1] + " is kept. Attics keep what was removed or replaced; list them with: bspan replica attic list " + args[0]}
	for _, i := range items {
		t.add(fmt.Sprint(i.ID), when(i.At), size(i.Size), i.Why, i.Replica)
	}
	if len(items) > 0 {
		t.after = "Put one back with: bspan cloud restore --version NUMBER " + args[0] + " " + shellWord(args[1]) + "\n"
	}
	return show(c, items, t)
}

func moveContents(off bool) func(context.Context, *cli.Command, *client.Client, []string) error {
	return func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		asked := model.MoveContents{Edge: args[1], Path: append(args, "", "")[2], Offload: off, Rehearse: c.Bool("rehearse")}
		m, err := api.MoveContents(ctx, args[0], asked)
		if err != nil {
			return err
		}
		if m.Run == nil {
			return done(c, m, "%s", moveWords(m))
		}
		return throughRun(ctx, c, api, *m.Run, m, func(id int64) error {
			if m, err = api.ContentsMove(ctx, id); err != nil {
				return err
			}
			if err := done(c, m, "%s", movedWords(m)); err != nil || m.Failed == 0 {
				return err
			}
			return findings{fmt.Sprintf("%s could not be done now, such as %s: %s", english.Plural(int(m.Failed), "file", ""), m.Problems[0].Path, m.Problems[0].Problem)}
		})
	}
}

func moveWords(m model.ContentsMove) string {
	what := "would be fetched to"
	if m.Offload {
		what = "would become stubs at"
	}
	return fmt.Sprintf("%s (%s) %s %s; nothing was changed", english.Plural(int(m.Files), "file", ""), size(m.Bytes), what, m.Edge)
}

func movedWords(m model.ContentsMove) string {
	if m.Offload {
		return fmt.Sprintf("%s became stubs at %s, which freed %s", english.Plural(int(m.Moved), "file", ""), m.Edge, size(m.MovedBytes))
	}
	return fmt.Sprintf("%s (%s) were fetched to %s", english.Plural(int(m.Moved), "file", ""), size(m.MovedBytes), m.Edge)
}

func setPolicy(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	set, err := api.ReplicaSet(ctx, args[0])
	if err != nil {
		return err
	}
	p := model.EdgePolicy{Fill: model.FillNames}
	known := false
	for _, r := range set.Replicas {
		if strings.EqualFold(r.Name, args[1]) {
			known = true
			if r.Edge != nil {
				p = *r.Edge
			}
		}
	}
	if !known {
		return usageError{fmt.Sprintf("EDGE: %s has no edge %q; see: bspan cloud list %s", set.Name, args[1], set.Name)}
	}
	if !slices.ContainsFunc(policyFlagNames, c.IsSet) {
		return usageError{"say what to change, such as --free 20; see: bspan cloud policy --help"}
	}
	if err := policyFlags(c, &p); err != nil {
		return err
	}
	e := model.EditReplica{Edge: &p}
	s, err := api.EditReplica(ctx, args[0], args[1], e)
	if err != nil {
		return foretell(ctx, api, args[0], model.SettingsChange{Replica: &model.ReplicaChange{Name: args[1], Change: e}}, err)
	}
	return done(c, s, "%s of %s keeps: %s", args[1], s.Name, policyWords(&p))
}

var policyFlagNames = []string{"fill", "free", "unused", "keep-newest", "never", "prefetch", "prefetch-hours", "refuse", "patience"}

// policyFlags changes what flags say of a policy.
func policyFlags(c *cli.Command, p *model.EdgePolicy) error {
	take(c, "fill", c.String, &p.Fill)
	take(c, "free", c.Int, &p.FreePercent)
	take(c, "unused", c.Int, &p.UnusedDays)
	if c.IsSet("keep-newest") {
		bytes, err := sizeIn("keep-newest", c.String("keep-newest"))
		if err != nil {
			return err
		}
		p.KeepNewest = bytes
	}
	if c.IsSet("never") {
		p.Never = written(c.StringSlice("never"))
	}
	if err := prefetchFlags(c, p); err != nil {
		return err
	}
	if c.IsSet("refuse") {
		p.Refused = written(c.StringSlice("refuse"))
	}
	if c.IsSet("patience") {
		p.WaitS = int(c.Duration("patience").Seconds())
	}
	return nil
}

// prefetchFlags changes the prefetch settings by flags.
func prefetchFlags(c *cli.Command, p *model.EdgePolicy) error {
	if c.IsSet("prefetch") {
		folders := written(c.StringSlice("prefetch"))
		switch {
		case len(folders) == 0:
			p.Prefetch = nil
		case p.Prefetch == nil:
			p.Prefetch = &model.EdgePrefetch{Folders: folders}
		default:
			p.Prefetch.Folders = folders
		}
	}
	if c.IsSet("prefetch-hours") {
		if p.Prefetch == nil {
			return usageError{"--prefetch-hours needs --prefetch with folders, such as --prefetch drawings/"}
		}
		p.Prefetch.Hours = c.String("prefetch-hours")
	}
	return nil
}

// written are the texts that are not empty.
func written(list []string) (kept []string) {
	for _, text := range list {
		if text != "" {
			kept = append(kept, text)
		}
	}
	return kept
}
