package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/text"
	"bridgespan/model"
)

func calendarFlag(usage string) cli.Flag {
	return &cli.StringFlag{Name: "calendar", Usage: usage + `, as "full; mon-fri 8-18 off"`}
}

// setFlags describe a set that is to be made.
func setFlags() []cli.Flag {
	return append([]cli.Flag{noteFlag(),
		&cli.StringFlag{Name: "layout", Value: model.LayoutMesh, Usage: "mesh, hub (the first one with each), chain (each with the next) or custom"},
		&cli.StringFlag{Name: "seed", Usage: "the `REPLICA` whose content wins the first fill; the first one when not given"},
		calendarFlag("when lanes are open and how fast"),
		&cli.StringSliceFlag{Name: "lane", Usage: "a lane with a calendar of its own, as `FROM>TO=CALENDAR`, or one of a custom layout, as FROM>TO; may be given again"},
		&cli.StringSliceFlag{Name: "fill", Usage: "of an edge of a cloud set, as `REPLICA=names` (then contents), REPLICA=stubs (contents on first use) or REPLICA=whole; may be given again"},
		&cli.StringSliceFlag{Name: "free", Usage: "of an edge with stubs, as `REPLICA=PERCENT` of the volume that stay free; may be given again"},
		sealFlag("contents, or names (contents and names); of a cloud set"), recoveryKeyFlag(),
		&cli.StringSliceFlag{Name: "leave-out", Usage: "a `PATTERN` of names that stay where they are, such as *.tmp or cache/; may be given again"},
		&cli.StringSliceFlag{Name: "only", Usage: "a `PATTERN` of files; others stay where they are; may be given again"},
		&cli.StringFlag{Name: "permissions", Value: model.PermissionsCarry, Usage: "carry: the same everywhere; map: through an account map; leave: each replica has its own"},
		&cli.StringFlag{Name: "account-map", Usage: "carry permissions through this account `MAP`"},
		&cli.StringFlag{Name: "folder-rights", Usage: "permissions of folders that are made: inherit, seed (those of the seed's folder) or a descriptor in its text form"},
		&cli.StringSliceFlag{Name: "intake", Usage: "bound what may be on its way in at a time, as `SIZE` or REPLICA=SIZE, such as 4GiB; worked out from the largest files when not given; may be given again"},
		&cli.StringSliceFlag{Name: "attic", Usage: "bound what attics may keep, as `SIZE` or REPLICA=SIZE, such as 20GiB; may be given again"},
		&cli.IntFlag{Name: "attic-days", Usage: "keep what is removed or lost for so many `DAYS`"},
		removalLimitFlag(),
		&cli.StringFlag{Name: "publish", Usage: "let the signpost of this `PATH`, such as /trust/herbarium, lead to all replicas; those that were not verified are held"},
	}, retryFlags()...)
}

func removalLimitFlag() cli.Flag {
	return &cli.IntFlag{Name: "removal-limit", Usage: "hold removals until somebody decides when more than this `PERCENT` of a replica is removed within an hour; 0 for no limit"}
}

// retryFlags say how what could not be carried is tried again.
func retryFlags() []cli.Flag {
	return []cli.Flag{
		&cli.DurationFlag{Name: "retry-first", Usage: "try what could not be carried again after this long, then after twice as long each time"},
		&cli.DurationFlag{Name: "retry-most", Usage: "and at least so often"},
		&cli.IntFlag{Name: "alert-after", Usage: "tell what could not be carried after so many `TRIES` as an alert"},
	}
}

// placesUsage are the arguments that say where a set is to be.
const placesUsage = "SET [NAME=]SERVER/SHARE[/FOLDER] [NAME=]SERVER/SHARE[/FOLDER]…"

func replicaCommand() *cli.Command {
	return &cli.Command{Name: "replica", Usage: "folders that are kept the same in several places", Commands: append(slices.Concat(memberCommands(), verifyCommands(), probeCommands()), []*cli.Command{
		{Name: "list", Usage: "list replica sets", Action: signedIn(listReplicaSets)},
		{Name: "show", Usage: "show how the replicas and lanes of a set are", ArgsUsage: "SET", Action: signedIn(showReplicaSet, "SET")},
		{Name: "plan", Usage: "find out what will come of a set before it is made; nothing is changed", ArgsUsage: placesUsage, Flags: append(setFlags(), &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}),
			Action: signedIn(planReplicaSet, "SET", "SERVER/SHARE[/FOLDER]", "SERVER/SHARE[/FOLDER]...")},
		{Name: "planned", Usage: "show a plan again", ArgsUsage: "RUN", Action: signedIn(showReplicaPlan, "RUN")},
		{Name: "create", Usage: "keep a folder the same in several places; missing folders are made", ArgsUsage: placesUsage, Flags: append(setFlags(), &cli.BoolFlag{Name: "no-wait", Usage: "begin it, and do not wait until all replicas have picked it up"},
			&cli.BoolFlag{Name: "anyway", Usage: "create the set even if its latest plan, or a check of it, failed"}, rehearseFlag()),
			Action: rehearsable(createReplicaSet, "SET", "SERVER/SHARE[/FOLDER]", "SERVER/SHARE[/FOLDER]...")},
		{Name: "edit", Usage: "change the settings of a set; what is not given stays", ArgsUsage: "SET", Flags: append([]cli.Flag{noteFlag(), calendarFlag("when lanes without a calendar of their own are open, and how fast"),
			&cli.StringFlag{Name: "layout", Usage: "mesh, hub or chain; lanes that are in both stay as they are"}, &cli.IntFlag{Name: "attic-days", Usage: "keep what is removed or lost for so many `DAYS`"},
			&cli.StringSliceFlag{Name: "leave-out", Usage: "all `PATTERN`s of names that stay where they are"}, &cli.StringSliceFlag{Name: "only", Usage: "all `PATTERN`s of files; others stay where they are"},
			removalLimitFlag(), rehearseFlag()}, retryFlags()...),
			Action: rehearsable(editReplicaSet, "SET")},
		setPaused("pause", "neither look at nor carry anything until it is resumed", true, "%s is paused"),
		setPaused("resume", "go on with a set that is paused", false, "%s goes on"),
		{Name: "open", Usage: "open a lane that was closed by hand; with --for regardless of its calendar", ArgsUsage: "SET FROM TO", Flags: []cli.Flag{&cli.DurationFlag{Name: "for", Usage: "open it for so long regardless of its calendar, such as 2h"}, rehearseFlag()}, Action: rehearsable(openLane, "SET", "FROM", "TO")},
		{Name: "close", Usage: "close a lane by hand; its backlog waits", ArgsUsage: "SET FROM TO", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(closeLane, "SET", "FROM", "TO")},
		{Name: "lane", Usage: "give a lane a calendar of its own; without --calendar it has that of the set", ArgsUsage: "SET FROM TO", Flags: []cli.Flag{calendarFlag("when it is open and how fast"), rehearseFlag()}, Action: rehearsable(setLaneCalendar, "SET", "FROM", "TO")},
		{Name: "look", Usage: "look for changes at all replicas now, or at one", ArgsUsage: "SET [REPLICA]", Action: signedIn(lookAtReplicas, "SET", "REPLICA?")},
		{Name: "accounts", Usage: "tell what the accounts of a set's permissions are at each replica", ArgsUsage: "SET", Flags: []cli.Flag{&cli.BoolFlag{Name: "renew", Usage: "pair them anew, after the account map or accounts have changed; replicas at which that makes a difference are looked at anew"}, rehearseFlag()}, Action: rehearsable(replicaAccounts, "SET")},
		{Name: "backlog", Usage: "list what waits for a lane, in the order in which it is looked at", ArgsUsage: "SET FROM TO", Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 200, Usage: "at most `N`"}}, Action: signedIn(listBacklog, "SET", "FROM", "TO")},
		{Name: "troubles", Usage: "list what could not be carried and is tried again", ArgsUsage: "SET", Action: signedIn(listTroubles, "SET")},
		atticCommand(),
		{Name: "remove", Usage: "end a set; all files stay where they are, those in the attics too", ArgsUsage: "SET", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			if err := api.RemoveReplicaSet(ctx, args[0]); err != nil {
				return err
			}
			return done(c, nil, "the set %s has ended; its files are where they were", args[0])
		}, "SET")},
	}...)}
}

func listReplicaSets(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	sets, err := api.ReplicaSets(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"set", "state", "replicas", "backlog", "bytes", "conflicts kept", "status"}, empty: "There are no replica sets yet. Make one with: bspan replica create SET SERVER/SHARE SERVER/SHARE"}
	for _, s := range sets {
		var names []string
		var files, bytes, conflicts int64
		for _, r := range s.Replicas {
			names = append(names, r.Name)
			conflicts += r.Attic.Conflicts
		}
		for _, l := range s.Lanes {
			files, bytes = files+l.Backlog.Files, bytes+l.Backlog.Bytes
		}
		t.add(s.Name, s.State, strings.Join(names, ", "), humanize.Comma(files), humanize.IBytes(uint64(bytes)), humanize.Comma(conflicts), s.Summary)
	}
	return show(c, sets, t)
}

func showReplicaSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	s, err := api.ReplicaSet(ctx, args[0])
	if err != nil {
		return err
	}
	return show(c, s, replicaSetTable(s))
}

// replicaSetTable shows the lanes of a set, and below them its replicas.
func replicaSetTable(s model.ReplicaSet) table {
	t := table{heads: []string{"lane", "state", "backlog", "bytes", "oldest", "rate", "clears at", "transferred", "saved by delta", "status"}}
	for _, l := range s.Lanes {
		oldest, rate, empty := "", "", ""
		if l.Backlog.Oldest != nil {
			oldest = time.Since(*l.Backlog.Oldest).Round(time.Second).String()
		}
		if l.Rate > 0 {
			rate = humanize.IBytes(uint64(l.Rate)) + "/s"
		}
		if l.EmptyAt != nil {
			empty = l.EmptyAt.Local().Format("Mon 15:04")
		}
		if l.Stalled != nil {
			oldest, rate, empty = oldest+", stalled", "no progress", "unknown"
		}
		t.add(l.From+" > "+l.To, l.State, humanize.Comma(l.Backlog.Files), humanize.IBytes(uint64(l.Backlog.Bytes)), oldest, rate, empty, humanize.IBytes(uint64(l.Carried.Bytes)), humanize.IBytes(uint64(l.Carried.Spared)), l.Words)
	}
	var lines []string
	for _, r := range s.Replicas {
		line := fmt.Sprintf("%s (%s%s): %s.", r.Name, r.Target(), map[bool]string{true: ", seed"}[r.Seed], r.Words)
		if r.Looked != nil {
			line += fmt.Sprintf(" Last scan %s ago, in %s", time.Since(*r.Looked).Round(time.Second), time.Duration(r.LookMs)*time.Millisecond)
			if r.Swept {
				line += ", every " + text.Lasting(r.Sweep())
			}
			if r.Notified != nil {
				line += " and on notification"
			}
			line += "."
		}
		line += filledWords(s, r)
		switch {
		case s.Paused:
		case r.PickedUp == nil:
			line += " Settings not applied yet."
		case time.Since(*r.PickedUp) < 5*time.Minute:
			line += fmt.Sprintf(" Settings applied %s ago.", time.Since(*r.PickedUp).Round(time.Second))
		}
		if r.Attic.Items > 0 {
			line += fmt.Sprintf(" Attic: %s, %s", english.Plural(int(r.Attic.Items), "item", ""), english.Plural(int(r.Attic.Conflicts), "conflict", ""))
			if r.Attic.LastConflict != nil {
				line += ", last conflict " + when(*r.Attic.LastConflict)
			}
			line += "."
		}
		lines = append(lines, line)
	}
	if s.AccountMap != "" {
		lines = append(lines, fmt.Sprintf("Permissions are carried through the account map %s: bspan replica accounts %s", s.AccountMap, s.Name))
	}
	if v := s.Verified; v != nil {
		lines = append(lines, fmt.Sprintf("Verified %s ago (%s, run %d): %s", time.Since(v.At).Round(time.Second), v.Level, v.Run, v.Verdict))
	} else {
		lines = append(lines, "It was never verified: bspan replica verify "+s.Name)
	}
	for _, a := range s.Alerts {
		lines = append(lines, findingLine(a))
	}
	t.after = s.Summary + "\n" + strings.Join(lines, "\n")
	return t
}

// filledWords say how long the first fill took, and how long it was to take.
func filledWords(s model.ReplicaSet, r model.Replica) string {
	if r.Seed || r.Foretold == nil {
		return ""
	}
	foretold := r.Foretold.Sub(s.Created).Round(100 * time.Millisecond)
	if r.FilledAt == nil {
		return fmt.Sprintf(" Its first fill was to take %s.", foretold)
	}
	return fmt.Sprintf(" Its first fill took %s; %s were foretold.", r.FilledAt.Sub(s.Created).Round(100*time.Millisecond), foretold)
}

func editReplicaSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	e := model.EditReplicaSet{Note: sent(c, "note"), Calendar: sent(c, "calendar"), Layout: sent(c, "layout"), AtticDays: sentInt(c, "attic-days"), RemovalLimit: sentInt(c, "removal-limit")}
	if retries(c) {
		s, err := api.ReplicaSet(ctx, args[0])
		if err != nil {
			return err
		}
		e.Retry = retryIn(c, s.Retry)
	}
	if c.IsSet("leave-out") || c.IsSet("only") {
		s, err := api.ReplicaSet(ctx, args[0])
		if err != nil {
			return err
		}
		if c.IsSet("leave-out") {
			s.Filter.LeaveOut = c.StringSlice("leave-out")
		}
		if c.IsSet("only") {
			s.Filter.Only = c.StringSlice("only")
		}
		e.Filter = &s.Filter
	}
	s, err := api.EditReplicaSet(ctx, args[0], e)
	if err != nil {
		return foretell(ctx, api, args[0], model.SettingsChange{Set: &e}, err)
	}
	return done(c, s, "the settings of %s are changed", s.Name)
}

// retries reports whether it is given how what could not be carried is tried again.
func retries(c *cli.Command) bool {
	return c.IsSet("retry-first") || c.IsSet("retry-most") || c.IsSet("alert-after")
}

// retryIn reads how what could not be carried is tried again; what is not given stays.
func retryIn(c *cli.Command, r model.Retry) *model.Retry {
	if c.IsSet("retry-first") {
		r.FirstS = int(c.Duration("retry-first").Seconds())
	}
	if c.IsSet("retry-most") {
		r.MostS = int(c.Duration("retry-most").Seconds())
	}
	if c.IsSet("alert-after") {
		r.AlertAfter = c.Int("alert-after")
	}
	return &r
}

func setPaused(name, usage string, paused bool, text string) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: "SET", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		e := model.EditReplicaSet{Paused: &paused}
		s, err := api.EditReplicaSet(ctx, args[0], e)
		if err != nil {
			return foretell(ctx, api, args[0], model.SettingsChange{Set: &e}, err)
		}
		return done(c, s, text, s.Name)
	}, "SET")}
}

func openLane(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	closed, minutes := false, int(c.Duration("for").Round(time.Minute).Minutes())
	s, err := editLane(ctx, api, args, model.EditLane{Closed: &closed, OpenMinutes: &minutes})
	if err != nil {
		return err
	}
	if minutes > 0 {
		return done(c, s, "the lane from %s to %s is open for %s, whatever its calendar says", args[1], args[2], time.Duration(minutes)*time.Minute)
	}
	return done(c, s, "the lane from %s to %s is opened and closed by its calendar", args[1], args[2])
}

func closeLane(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	closed := true
	s, err := editLane(ctx, api, args, model.EditLane{Closed: &closed})
	if err != nil {
		return err
	}
	return done(c, s, "the lane from %s to %s is closed; open it with: bspan replica open %s %s %s", args[1], args[2], args[0], args[1], args[2])
}

// editLane changes a lane, or rehearses that.
func editLane(ctx context.Context, api *client.Client, args []string, e model.EditLane) (model.ReplicaSet, error) {
	s, err := api.EditLane(ctx, args[0], args[1], args[2], e)
	return s, foretell(ctx, api, args[0], model.SettingsChange{Lane: &model.LaneChange{From: args[1], To: args[2], Change: e}}, err)
}

func setLaneCalendar(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	text := c.String("calendar")
	s, err := editLane(ctx, api, args, model.EditLane{Calendar: &text})
	if err != nil {
		return err
	}
	if text == "" {
		return done(c, s, "the lane from %s to %s has the calendar of the set", args[1], args[2])
	}
	return done(c, s, "the lane from %s to %s has the calendar %s", args[1], args[2], text)
}

func lookAtReplicas(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	of, whom := "", "all replicas of "+args[0]
	if len(args) > 1 {
		of, whom = args[1], args[1]
	}
	if err := api.LookAtReplicas(ctx, args[0], of); err != nil {
		return err
	}
	return done(c, nil, "%s will be looked at now", whom)
}

func listTroubles(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	list, err := api.ReplicaTroubles(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"replica", "path", "problem", "held by", "since", "last tried", "times"}, empty: "Everything can be carried."}
	for _, r := range list {
		t.add(r.Replica, r.Path, r.Problem, r.Holder, when(r.Since), when(r.Last), humanize.Comma(int64(r.Times)))
	}
	return show(c, list, t)
}

func listBacklog(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	list, err := api.Backlog(ctx, args[0], args[1], args[2], c.Int("limit"))
	if err != nil {
		return err
	}
	t := table{heads: []string{"path", "what", "bytes", "come", "with it", "since", "tried", "again at"}, empty: "Nothing waits."}
	for _, w := range list {
		come, within, tried, again := "", "", "", ""
		if w.Arrived > 0 {
			come = humanize.IBytes(uint64(w.Arrived))
		}
		if w.Within > 0 {
			within = humanize.Comma(int64(w.Within))
		}
		if w.Tried > 0 {
			tried = humanize.Comma(int64(w.Tried))
		}
		if w.NextTry != nil {
			again = when(*w.NextTry)
		}
		t.add(w.Path, w.Kind, humanize.IBytes(uint64(w.Bytes)), come, within, when(w.Since), tried, again)
	}
	return show(c, list, t)
}

func atticCommand() *cli.Command {
	return &cli.Command{Name: "attic", Usage: "what replicas keep of what was removed, lost a conflict or was there before", Commands: []*cli.Command{
		{Name: "list", Usage: "list what attics keep, newest first", ArgsUsage: "SET", Flags: []cli.Flag{&cli.StringFlag{Name: "replica", Usage: "of this `REPLICA` alone"}, &cli.StringFlag{Name: "why", Usage: "removed, conflict, replaced or first-fill alone"}, &cli.StringFlag{Name: "path", Usage: "what was at this `PATH` alone"}, &cli.IntFlag{Name: "limit", Value: 50, Usage: "at most `N`"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				items, err := api.Attic(ctx, args[0], model.AtticFilter{Replica: c.String("replica"), Why: c.String("why"), Path: c.String("path")}, c.Int("limit"))
				if err != nil {
					return err
				}
				t := table{heads: []string{"number", "replica", "path", "why", "since"}, empty: "The attics are empty.", after: "Put something back with: bspan replica attic restore " + args[0] + " NUMBER"}
				for _, i := range items {
					t.add(fmt.Sprint(i.ID), i.Replica, i.Path, i.Why, when(i.At))
				}
				return show(c, items, t)
			}, "SET")},
		{Name: "compare", Usage: "show what an attic keeps beside what is at its path now", ArgsUsage: "SET NUMBER",
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onItem(args[1], func(id int64) error {
					v, err := api.CompareAttic(ctx, args[0], id)
					if err != nil {
						return err
					}
					return show(c, v, atticComparisonTable(v))
				})
			}, "SET", "NUMBER")},
		{Name: "restore", Usage: "put something back where it was, with its permissions", ArgsUsage: "SET NUMBER", Flags: []cli.Flag{&cli.StringFlag{Name: "as", Usage: "under another `PATH`"}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onItem(args[1], func(id int64) error {
					item, err := api.RestoreFromAttic(ctx, args[0], id, c.String("as"))
					if err != nil {
						return err
					}
					return done(c, item, "%s is back at %s; the other replicas will have it soon", item.Path, item.Replica)
				})
			}, "SET", "NUMBER")},
		{Name: "purge", Usage: "remove something from its attic, for good", ArgsUsage: "SET NUMBER", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onItem(args[1], func(id int64) error {
					if err := api.PurgeFromAttic(ctx, args[0], id); err != nil {
						return err
					}
					return done(c, nil, "number %d is gone for good", id)
				})
			}, "SET", "NUMBER")},
	}}
}

func atticComparisonTable(v model.AtticComparison) table {
	t := table{heads: []string{v.Item.Path, "in the attic", "now"}, after: strings.Join(v.Rights, "\n")}
	size, modified, text := "nothing is there", "", ""
	if v.Now != nil {
		size, modified = humanize.Comma(v.Now.Size), when(v.Now.Modified)
		text = beginning(v.Now.Text)
	}
	t.add("bytes", humanize.Comma(v.Kept.Size), size)
	t.add("last changed", when(v.Kept.Modified), modified)
	t.add("begins", beginning(v.Kept.Text), text)
	return t
}

// beginning is how a text begins.
func beginning(text *string) string {
	if text == nil {
		return "(no short text)"
	}
	line, _, _ := strings.Cut(*text, "\n")
	if runes := []rune(line); len(runes) > 60 {
		return string(runes[:60]) + "…"
	}
	return line
}

// onItem reads the number of something that an attic keeps.
func onItem(text string, do func(id int64) error) error {
	return onNumber(text, "replica attic list", do)
}
