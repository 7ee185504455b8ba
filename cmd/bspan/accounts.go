package main

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func directoryCommand() *cli.Command {
	return &cli.Command{Name: "directory", Usage: "domains whose accounts are asked for", Commands: []*cli.Command{
		{Name: "list", Usage: "list the domains", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
			list, err := api.Directories(ctx)
			if err != nil {
				return err
			}
			t := table{heads: []string{"domain", "address", "account", "sid", "note"}, empty: "No domain is known yet. Add one with: bspan directory add ADDRESS"}
			for _, d := range list {
				t.add(d.Name, fmt.Sprintf("%s:%d", d.Address, d.Port), d.Account, d.SID, d.Note)
			}
			return show(c, list, t)
		})},
		{Name: "add", Usage: "add a domain, after signing in to its directory", ArgsUsage: "ADDRESS", Flags: []cli.Flag{
			&cli.IntFlag{Name: "port", Usage: "TCP `PORT` of LDAP over TLS", Value: 636},
			&cli.StringFlag{Name: "account", Usage: "`ACCOUNT` that reads it: name@realm", Required: true},
			&cli.StringFlag{Name: "ca-file", Usage: "`FILE` with the certificate that vouches for it, in PEM"}, passwordFlag(), noteFlag()},
			Action: signedIn(addDirectory, "ADDRESS")},
		{Name: "remove", Usage: "forget a domain", ArgsUsage: "DOMAIN", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			if err := api.RemoveDirectory(ctx, args[0]); err != nil {
				return err
			}
			return done(c, nil, "forgot the domain %s", args[0])
		}, "DOMAIN")},
	}}
}

func addDirectory(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	n := model.NewDirectory{Address: args[0], Port: c.Int("port"), Account: c.String("account"), Note: c.String("note")}
	if file := c.String("ca-file"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return usageError{fmt.Sprintf("ca-file: %v", err)}
		}
		n.CA = string(text)
	}
	var err error
	if n.Password, err = readPassword(c, "Password of "+n.Account); err != nil {
		return err
	}
	d, err := api.AddDirectory(ctx, n)
	if err != nil {
		return err
	}
	return done(c, d, "added the domain %s (%s)", d.Name, d.SID)
}

func atServer() cli.Flag {
	return &cli.StringFlag{Name: "at", Usage: "as this `SERVER` sees it", Required: true}
}

func accountCommand() *cli.Command {
	return &cli.Command{Name: "account", Usage: "users and groups of servers and domains", Commands: []*cli.Command{
		{Name: "list", Usage: "list accounts of a server itself, or of a domain", Flags: []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "of this `SERVER` itself"}, &cli.StringFlag{Name: "domain", Usage: "of this `DOMAIN`"},
			&cli.StringFlag{Name: "filter", Usage: "a `PART` of the name"}}, Action: signedIn(listAccounts)},
		{Name: "show", Usage: "tell all about an account, with every group it belongs to", ArgsUsage: "ACCOUNT", Flags: []cli.Flag{atServer()}, Action: signedIn(showAccount, "ACCOUNT")},
		{Name: "create-user", Usage: "make a user of a server itself", ArgsUsage: "NAME", Flags: []cli.Flag{atServer(), passwordFlag()},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				password, err := readPassword(c, "Password for "+args[0])
				if err != nil {
					return err
				}
				a, err := api.CreateLocalUser(ctx, c.String("at"), model.NewLocalUser{Name: args[0], Password: password})
				if err != nil {
					return err
				}
				return done(c, a, "made the user %s (%s)", a.Name, a.SID)
			}, "NAME")},
		{Name: "create-group", Usage: "make a group of a server itself", ArgsUsage: "NAME", Flags: []cli.Flag{atServer()},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				a, err := api.CreateLocalGroup(ctx, c.String("at"), args[0])
				if err != nil {
					return err
				}
				return done(c, a, "made the group %s (%s)", a.Name, a.SID)
			}, "NAME")},
		{Name: "remove-group", Usage: "remove a group of a server itself", ArgsUsage: "NAME", Flags: []cli.Flag{atServer()},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveLocalGroup(ctx, c.String("at"), args[0]); err != nil {
					return err
				}
				return done(c, nil, "removed the group %s of %s", args[0], c.String("at"))
			}, "NAME")},
		{Name: "add-member", Usage: "make an account a member of a group of a server itself", ArgsUsage: "GROUP ACCOUNT", Flags: []cli.Flag{atServer()}, Action: signedIn(setMember(true), "GROUP", "ACCOUNT")},
		mapCommand(),
		{Name: "remove-member", Usage: "end a membership", ArgsUsage: "GROUP ACCOUNT", Flags: []cli.Flag{atServer()}, Action: signedIn(setMember(false), "GROUP", "ACCOUNT")},
	}}
}

func listAccounts(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	if (c.String("at") == "") == (c.String("domain") == "") {
		return usageError{"write --at SERVER or --domain DOMAIN: accounts belong to one of them"}
	}
	list, err := api.Accounts(ctx, c.String("at"), c.String("domain"), c.String("filter"))
	if err != nil {
		return err
	}
	t := table{heads: []string{"account", "kind", "full name", "sid"}, empty: "No account is called so."}
	for _, a := range list.Accounts {
		kind := string(a.Kind)
		if a.Disabled {
			kind += ", disabled"
		}
		t.add(a.Name, kind, a.FullName, a.SID)
	}
	if list.More {
		t.after = "There are more; ask for a part of the name with --filter."
	}
	return show(c, list, t)
}

func showAccount(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	d, err := api.Account(ctx, c.String("at"), args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"belongs to", "kind", "by way of", "sid"}}
	for _, g := range d.Groups {
		t.add(g.Group.Name, string(g.Group.Kind), strings.Join(g.Path[:max(0, len(g.Path)-1)], " → "), g.Group.SID)
	}
	t.after = fmt.Sprintf("%s is a %s, %s: %s.", d.Name, d.Kind, d.SID, d.Says)
	if len(d.Members) > 0 {
		var names []string
		for _, m := range d.Members {
			names = append(names, m.Name)
		}
		t.after += "\nMembers: " + strings.Join(names, ", ")
	}
	if !d.Complete {
		t.after += "\nNot complete: " + d.Missing
	}
	if len(t.rows) == 0 {
		t.empty = "It belongs to no group.\n\n" + t.after
	}
	return show(c, d, t)
}

func setMember(belongs bool) action {
	return func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		if err := api.SetMember(ctx, c.String("at"), args[0], args[1], belongs); err != nil {
			return err
		}
		if belongs {
			return done(c, nil, "%s is a member of %s at %s", args[1], args[0], c.String("at"))
		}
		return done(c, nil, "%s is no longer a member of %s at %s", args[1], args[0], c.String("at"))
	}
}

func serverUse(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	use, err := api.ServerUse(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"person", "open", "for", "from"}, empty: "Nobody is connected."}
	for _, s := range use.Sessions {
		t.add(s.Person, fmt.Sprintf("connected since %s, idle for %d s", when(s.Since), s.IdleS), "", s.Client)
	}
	for _, f := range use.Files {
		purpose := "reading"
		if f.Write {
			purpose = "writing"
		}
		t.add(f.Person, f.Path, purpose, "")
	}
	return show(c, use, t)
}

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
