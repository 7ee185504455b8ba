package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

// mapCommand is about which accounts of different servers are those of the same people.
func mapCommand() *cli.Command {
	rule := func(usage string, required bool) cli.Flag {
		return &cli.StringSliceFlag{Name: "rule", Required: required, Usage: usage + ` such as 'fern\curators = heather\keepers', or 'fern\* = heather\*' for all that are called the same; may be given again`}
	}
	return &cli.Command{Name: "map", Usage: "which accounts of different servers are those of the same people", Commands: []*cli.Command{
		{Name: "list", Usage: "list account maps", Action: signedIn(listAccountMaps)},
		{Name: "show", Usage: "show the rules of an account map", ArgsUsage: "MAP", Action: signedIn(showAccountMap, "MAP")},
		{Name: "pairs", Usage: "tell whom of two servers an account map takes for the same, and who gains by it", ArgsUsage: "MAP SERVER SERVER", Action: signedIn(showAccountPairs, "MAP", "SERVER", "SERVER")},
		{Name: "create", Usage: "make an account map", ArgsUsage: "MAP", Flags: []cli.Flag{rule("a `RULE`", true), noteFlag(), rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				m, err := api.AddAccountMap(ctx, model.NewAccountMap{Name: args[0], Note: c.String("note"), Rules: c.StringSlice("rule")})
				if err != nil {
					return err
				}
				return done(c, m, "made the account map %s; see what it says of two servers with: bspan account map pairs %s SERVER SERVER", m.Name, m.Name)
			}, "MAP")},
		{Name: "edit", Usage: "change an account map; what is not given stays", ArgsUsage: "MAP", Flags: []cli.Flag{rule("all `RULE`s", false), &cli.StringFlag{Name: "name", Usage: "call it `NAME`"}, noteFlag(), rehearseFlag()},
			Action: rehearsable(editAccountMap, "MAP")},
		{Name: "remove", Usage: "remove an account map that nothing uses", ArgsUsage: "MAP", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveAccountMap(ctx, args[0]); err != nil {
					return err
				}
				return done(c, nil, "removed the account map %s", args[0])
			}, "MAP")},
	}}
}

func listAccountMaps(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.AccountMaps(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"map", "rules", "used by", "note"}, empty: `There are no account maps yet. Make one with: bspan account map create MAP --rule 'fern\* = heather\*'`}
	for _, m := range list {
		t.add(m.Name, strings.Join(m.Rules, "; "), english.Plural(m.Sets, "replica set", ""), m.Note)
	}
	return show(c, list, t)
}

func showAccountMap(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	m, err := api.AccountMap(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"rule"}, after: m.Note}
	for _, r := range m.Rules {
		t.add(r)
	}
	return show(c, m, t)
}

func editAccountMap(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	e := model.EditAccountMap{Name: sent(c, "name"), Note: sent(c, "note")}
	if c.IsSet("rule") {
		rules := c.StringSlice("rule")
		e.Rules = &rules
	}
	m, err := api.EditAccountMap(ctx, args[0], e)
	if err != nil {
		return err
	}
	more := ""
	if m.Sets > 0 {
		more = "; replica sets that use it go on as before until: bspan replica accounts SET --renew"
	}
	return done(c, m, "the account map %s is changed%s", m.Name, more)
}

// missingWords say that an account is missing, or a whole place of accounts.
func missingWords(name string) string {
	if place, ok := strings.CutSuffix(name, `\`); ok {
		return "no server or domain is called " + place
	}
	return name + " is not there"
}

func showAccountPairs(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	p, err := api.AccountPairs(ctx, args[0], args[1], args[2])
	if err != nil {
		return err
	}
	t := table{heads: []string{p.One, p.Other}, empty: fmt.Sprintf("The map %s says nothing of accounts of %s and %s.", args[0], p.One, p.Other)}
	for _, pair := range p.Pairs {
		t.add(pair.One.Name, pair.Other.Name)
	}
	var lines []string
	for _, w := range p.Wider {
		lines = append(lines, "! "+w+": who gains what the pair may.")
	}
	for _, l := range p.Lacking {
		lines = append(lines, "! "+missingWords(l)+": its rule does nothing.")
	}
	for _, r := range p.Clashing {
		lines = append(lines, "! "+r+" is denied by an earlier rule.")
	}
	if len(p.Without) > 0 {
		var names []string
		for _, a := range p.Without {
			names = append(names, a.Name)
		}
		lines = append(lines, "Without a pair: "+strings.Join(names, ", "))
	}
	t.after = strings.Join(lines, "\n")
	return show(c, p, t)
}
