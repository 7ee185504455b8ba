package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// setupCommand sets up a cloud set step by step. It can be left after any step, and resumed.
func setupCommand() *cli.Command {
	draft := func() []cli.Flag {
		return []cli.Flag{
			&cli.StringFlag{Name: "account", Usage: "the cloud `ACCOUNT`; list them with: bspan server list"},
			&cli.StringFlag{Name: "bucket", Usage: "the `BUCKET[/FOLDER]`"},
			sealFlag("nothing, contents, or names (contents and names)"), recoveryKeyFlag(),
			&cli.StringFlag{Name: "quota", Usage: "`SIZE` that the provider lets the account store, such as 2TiB; 0 for no limit"},
			calendarFlag("when changes are carried and how fast"),
			&cli.StringSliceFlag{Name: "leave-out", Usage: "a `PATTERN` of names that stay where they are, such as *.tmp or cache/; may be given again"},
			&cli.StringSliceFlag{Name: "only", Usage: "a `PATTERN` of files; others stay where they are; may be given again"},
			&cli.StringFlag{Name: "permissions", Usage: "carry: the same everywhere; map: through an account map; leave: each replica has its own"},
			&cli.StringFlag{Name: "account-map", Usage: "carry permissions through this account `MAP`"},
			&cli.IntFlag{Name: "attic-days", Usage: "keep what is removed or replaced for so many `DAYS`"},
			removalLimitFlag(), noteFlag(), rehearseFlag()}
	}
	noWait := &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}
	return &cli.Command{Name: "setup", Usage: "set up a cloud set step by step; it can be left after any step, and resumed", Commands: []*cli.Command{
		{Name: "list", Usage: "list the cloud sets that are being set up", Action: signedIn(listSetups)},
		{Name: "show", Usage: "show the steps of a set-up, with what the latest checks found", ArgsUsage: "SET", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			s, err := api.CloudSetup(ctx, args[0])
			return showSetup(c, s, err)
		}, "SET")},
		{Name: "add", Usage: "begin the set-up of a cloud set", ArgsUsage: "SET", Flags: draft(), Action: rehearsable(addSetup, "SET")},
		{Name: "edit", Usage: "change the settings of a set-up, and check its steps; what is not given stays", ArgsUsage: "SET", Flags: draft(), Action: rehearsable(editSetup, "SET")},
		{Name: "edge", Usage: "add an edge to a set-up, change it or remove it, and check the steps", ArgsUsage: "SET SERVER[/SHARE[/FOLDER]]", Flags: append(edgeFlags(),
			&cli.BoolFlag{Name: "seed", Usage: "let its content win the first fill; without a seed, that of the bucket wins"},
			&cli.StringFlag{Name: "intake", Usage: "bound what may be on its way in at a time, as `SIZE` such as 4GiB; 0 for what the plan works out"},
			&cli.BoolFlag{Name: "system-volume", Usage: "accept a folder on the volume of the operating system"},
			&cli.BoolFlag{Name: "another", Usage: "add another folder of a server that has an edge already"},
			&cli.BoolFlag{Name: "remove", Usage: "remove the edge from the set-up"}, rehearseFlag()), Action: rehearsable(setupEdge, "SET", "SERVER[/SHARE[/FOLDER]]")},
		{Name: "check", Usage: "check the steps of a set-up, up to the first one that is not passed", ArgsUsage: "SET", Action: signedIn(checkSetup, "SET")},
		{Name: "plan", Usage: "plan the set: first fill, costs, and checks of all files; changes nothing", ArgsUsage: "SET", Flags: []cli.Flag{noWait}, Action: signedIn(planSetup, "SET")},
		{Name: "start", Usage: "create the set after its plan; the first fill begins", ArgsUsage: "SET", Flags: []cli.Flag{noWait, rehearseFlag()}, Action: rehearsable(startSetup, "SET")},
		{Name: "remove", Usage: "discard a set-up; its bucket and folders are not touched", ArgsUsage: "SET", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			if err := api.RemoveCloudSetup(ctx, args[0]); err != nil {
				return err
			}
			return done(c, nil, "discarded the set-up of %s", args[0])
		}, "SET")},
	}}
}

func listSetups(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.CloudSetups(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"set", "next step", "status", "account", "bucket", "edges", "changed", "by"}, empty: "No cloud set is being set up. Begin with: bspan cloud setup add SET --account ACCOUNT"}
	for _, s := range list {
		status := "being created"
		for _, step := range s.Steps {
			if step.Step == s.Next {
				status = step.State
			}
		}
		t.add(s.Name, s.Next, status, s.Account, s.Bucket, fmt.Sprint(len(s.Edges)), when(s.Changed), s.By)
	}
	return show(c, list, t)
}

// showSetup shows the steps of a set-up, and the command of the next one.
func showSetup(c *cli.Command, s model.CloudSetup, err error) error {
	if err != nil {
		return err
	}
	t := table{heads: []string{"step", "status", "check", "found"}}
	var next []string
	doesIt := false // a finding names the command of the next step
	for i, step := range s.Steps {
		name := fmt.Sprintf("%d. %s", i+1, step.Step)
		if len(step.Checks) == 0 {
			t.add(name, step.State, "", "")
		}
		for k, f := range step.Checks {
			if k > 0 {
				name = ""
			}
			status := step.State
			if k > 0 || step.State == model.SetupPassed && f.Severity != finding.Pass {
				status = string(f.Severity)
			}
			t.add(name, status, checkName(f), f.Found)
			if f.Severity != finding.Pass {
				next = append(next, findingLine(f))
				doesIt = doesIt || step.Step == s.Next && actionCommand(f.Action) != ""
			}
		}
	}
	if command := setupCommands[s.Next]; command != "" && !doesIt {
		next = append(next, "", fmt.Sprintf("Next step, %s: %s", s.Next, fmt.Sprintf(command, shellWord(s.Name))))
	}
	t.after = strings.Join(next, "\n")
	return show(c, s, t)
}

// checkName says what a check was about.
func checkName(f finding.Finding) string {
	code := strings.ReplaceAll(f.Code, "-", " ")
	if f.Subject == "" {
		return code
	}
	return f.Subject + ": " + code
}

// setupCommands are the commands of the steps.
var setupCommands = map[string]string{
	model.SetupAccount:  "bspan cloud setup edit %s --account ACCOUNT",
	model.SetupBucket:   "bspan cloud setup edit %s --bucket BUCKET[/FOLDER]",
	model.SetupMovers:   "bspan cloud setup edge %s SERVER",
	model.SetupSettings: "bspan cloud setup edit %s --permissions map --account-map MAP",
	model.SetupEdges:    "bspan cloud setup edge %s SERVER/SHARE[/FOLDER]",
	model.SetupPolicies: "bspan cloud setup edge %s SERVER --free PERCENT",
	model.SetupFill:     "bspan cloud setup edge %s SERVER --fill names",
	model.SetupPlan:     "bspan cloud setup plan %s",
	model.SetupStart:    "bspan cloud setup start %s",
}

func checkSetup(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	s, err := api.CheckCloudSetup(ctx, args[0])
	return showSetup(c, s, err)
}

func addSetup(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	e, err := setupEdits(c)
	if err != nil {
		return err
	}
	n := model.NewCloudSetup{Name: args[0]}
	e.Take(&n.CloudDraft)
	if _, err := api.AddCloudSetup(ctx, n); err != nil {
		return err
	}
	return checkSetup(ctx, c, api, args)
}

func editSetup(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	e, err := setupEdits(c)
	if err != nil {
		return err
	}
	if _, err := api.EditCloudSetup(ctx, args[0], e); err != nil {
		return err
	}
	return checkSetup(ctx, c, api, args)
}

// setupEdits are the settings that flags give.
func setupEdits(c *cli.Command) (e model.EditCloudSetup, err error) {
	e = model.EditCloudSetup{Account: sent(c, "account"), Note: sent(c, "note"), Calendar: sent(c, "calendar"), Permissions: sent(c, "permissions"), AccountMap: sent(c, "account-map"), AtticDays: sentInt(c, "attic-days"), RemovalLimit: sentInt(c, "removal-limit")}
	if c.IsSet("bucket") {
		bucket, folder, _ := strings.Cut(c.String("bucket"), "/")
		e.Bucket, e.Folder = &bucket, &folder
	}
	if e.Sealing, err = sealFlags(c); err != nil {
		return e, err
	}
	if c.IsSet("quota") {
		bytes, err := sizeIn("quota", c.String("quota"))
		if err != nil {
			return e, err
		}
		e.Quota = &bytes
	}
	if c.IsSet("leave-out") || c.IsSet("only") {
		e.Filter = &filter.Rules{LeaveOut: c.StringSlice("leave-out"), Only: c.StringSlice("only")}
	}
	if e.AccountMap != nil && e.Permissions == nil {
		through := model.PermissionsMap
		e.Permissions = &through
	}
	return e, nil
}

// setupEdge adds an edge, changes it or removes it.
func setupEdge(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	s, err := api.CloudSetup(ctx, args[0])
	if err != nil {
		return err
	}
	server, at, _ := strings.Cut(args[1], "/")
	share, sub, _ := strings.Cut(at, "/")
	edges := slices.Clone(s.Edges)
	i, err := edgeIn(edges, server, share, sub)
	switch {
	case err != nil:
		return err
	case c.Bool("another"):
		i, edges = len(edges), append(edges, model.DraftEdge{Server: server})
		edges[i].Share, edges[i].Sub = share, sub
	case c.Bool("remove") && i < 0:
		return usageError{fmt.Sprintf("%s is no edge of the set-up of %s; see: bspan cloud setup show %s", args[1], s.Name, shellWord(s.Name))}
	case c.Bool("remove"):
		edges = slices.Delete(edges, i, i+1)
	case i < 0:
		i, edges = len(edges), append(edges, model.DraftEdge{Server: server, Share: share, Sub: sub})
	case share != "":
		edges[i].Share, edges[i].Sub = share, sub
	}
	if !c.Bool("remove") {
		if err := edgeEdits(c, &edges[i]); err != nil {
			return err
		}
		for k := range edges {
			edges[k].Seed = edges[k].Seed && (k == i || !edges[i].Seed)
		}
	}
	if _, err := api.EditCloudSetup(ctx, args[0], model.EditCloudSetup{Edges: &edges}); err != nil {
		return err
	}
	return checkSetup(ctx, c, api, args[:1])
}

// edgeIn finds the edge at a server, or the one of its edges that is in a folder; it is negative when there is none.
func edgeIn(edges []model.DraftEdge, server, share, sub string) (int, error) {
	found, several := -1, false
	for i, e := range edges {
		if namespace.Key(e.Server) != namespace.Key(server) {
			continue
		}
		if namespace.Key(e.Share) == namespace.Key(share) && e.Sub == sub {
			return i, nil
		}
		several = found >= 0
		found = i
	}
	if several {
		return -1, usageError{fmt.Sprintf("%s has several edges; name one of them as SERVER/SHARE/FOLDER, or add another one with --another", server)}
	}
	return found, nil
}

func edgeEdits(c *cli.Command, e *model.DraftEdge) error {
	take(c, "seed", c.Bool, &e.Seed)
	take(c, "system-volume", c.Bool, &e.SystemVolume)
	if c.IsSet("intake") {
		bytes, err := sizeIn("intake", c.String("intake"))
		if err != nil {
			return err
		}
		e.IntakeQuota = bytes
	}
	if !slices.ContainsFunc(policyFlagNames, c.IsSet) {
		return nil
	}
	p := model.EdgePolicy{Fill: model.FillNames}
	if e.Policy != nil {
		p = *e.Policy
	}
	e.Policy = &p
	return policyFlags(c, &p)
}

func planSetup(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	p, err := api.PlanCloudSetup(ctx, args[0])
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, p.Run, p, func(id int64) error { return showPlan(ctx, c, api, id) })
}

func startSetup(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	made, err := api.StartCloudSetup(ctx, args[0])
	if err != nil {
		return err
	}
	if c.Bool("no-wait") {
		return show(c, made, runTable([]model.Run{made.Run}))
	}
	s, err := api.AwaitReplicaSet(ctx, made, tellSteps(c))
	if err != nil {
		return err
	}
	return done(c, s, "%s is created with %s; see its first fill with: bspan replica show %s", s.Name, english.Plural(len(s.Replicas)-1, "edge", ""), shellWord(s.Name))
}
