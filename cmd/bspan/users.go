package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func userCommand() *cli.Command {
	role := func(required bool) cli.Flag {
		return &cli.StringFlag{Name: "role", Usage: "viewer, operator or administrator", Required: required}
	}
	return &cli.Command{Name: "user", Usage: "who may use Bridge Span itself", Commands: []*cli.Command{
		{Name: "list", Usage: "list users", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
			users, err := api.Users(ctx)
			if err != nil {
				return err
			}
			t := table{heads: []string{"name", "role", "since"}}
			for _, u := range users {
				t.add(u.Name, string(u.Role), when(u.Created))
			}
			return show(c, users, t)
		})},
		{Name: "add", Usage: "add a user", ArgsUsage: "NAME", Flags: []cli.Flag{role(true), passwordFlag()},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				password, err := readPassword(c, "Password for "+args[0])
				if err != nil {
					return err
				}
				u, err := api.AddUser(ctx, model.NewUser{Name: args[0], Password: password, Role: model.Role(c.String("role"))})
				if err != nil {
					return err
				}
				return done(c, u, "added %s as %s", u.Name, u.Role)
			}, "NAME")},
		{Name: "edit", Usage: "change role or password; a new password ends the user's sessions", ArgsUsage: "NAME",
			Flags: []cli.Flag{role(false), passwordFlag(), &cli.BoolFlag{Name: "new-password", Usage: "ask for a new password"}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				e := model.EditUser{Role: model.Role(c.String("role"))}
				if c.Bool("new-password") || c.IsSet("password-file") {
					var err error
					if e.Password, err = readPassword(c, "New password for "+args[0]); err != nil {
						return err
					}
				}
				u, err := api.EditUser(ctx, args[0], e)
				if err != nil {
					return err
				}
				return done(c, u, "%s is %s", u.Name, u.Role)
			}, "NAME")},
		{Name: "remove", Usage: "remove a user", ArgsUsage: "NAME", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveUser(ctx, args[0]); err != nil {
					return err
				}
				return done(c, nil, "removed user %s", args[0])
			}, "NAME")},
	}}
}

// tokenCommand is about what somebody is signed in with.
func tokenCommand() *cli.Command {
	return &cli.Command{Name: "token", Usage: "the sessions and tokens that people are signed in with", Commands: []*cli.Command{
		{Name: "list", Usage: "list your sessions and tokens, or as an administrator those of others",
			Flags: []cli.Flag{&cli.StringFlag{Name: "user", Usage: "of this `USER`"}, &cli.BoolFlag{Name: "all", Usage: "of all users"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
				held, err := api.Credentials(ctx, c.String("user"), c.Bool("all"))
				if err != nil {
					return err
				}
				t := table{heads: []string{"number", "user", "kind", "label", "last used", "from", "expires"}, empty: "No sessions or tokens."}
				for _, h := range held {
					label := h.Label
					if h.Current {
						label += " (this one)"
					}
					t.add(fmt.Sprint(h.ID), h.User, h.Kind, label, when(h.Used), h.Address, when(h.Expires))
				}
				return show(c, held, t)
			})},
		{Name: "remove", Usage: "end a session or token at once", ArgsUsage: "NUMBER", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onNumber(args[0], "token list", func(id int64) error {
					if err := api.EndCredential(ctx, id); err != nil {
						return err
					}
					return done(c, nil, "ended session or token %d", id)
				})
			}, "NUMBER")},
	}}
}

// lockCommand is about what people lock at the gateway.
func lockCommand() *cli.Command {
	return &cli.Command{Name: "lock", Usage: "the write locks that people hold at the gateway", Commands: []*cli.Command{
		{Name: "list", Usage: "list the locks that are held", Flags: []cli.Flag{&cli.StringFlag{Name: "filter", Usage: "whose path or account contains this `TEXT`"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
				locks, err := api.Locks(ctx, c.String("filter"))
				if err != nil {
					return err
				}
				t := table{heads: []string{"number", "path", "held by", "kind", "since", "until"}, empty: "Nobody holds a lock."}
				for _, l := range locks {
					t.add(fmt.Sprint(l.ID), l.Path, l.Account, lockKind(l), when(l.Since), when(l.Until))
				}
				return show(c, locks, t)
			})},
		{Name: "remove", Usage: "end a lock, whoever holds it", ArgsUsage: "NUMBER", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onNumber(args[0], "lock list", func(id int64) error {
					if err := api.EndLock(ctx, id); err != nil {
						return err
					}
					return done(c, nil, "ended lock %d", id)
				})
			}, "NUMBER")},
	}}
}

func lockKind(l model.GatewayLock) string {
	kind := "exclusive"
	if l.Shared {
		kind = "shared"
	}
	if l.Deep {
		kind += ", with everything below"
	}
	return kind
}

func changesCommand() *cli.Command {
	return &cli.Command{
		Name: "changes", Usage: "show who changed what, newest first",
		Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many at most"}},
		Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
			changes, err := api.Changes(ctx, c.Int("limit"))
			if err != nil {
				return err
			}
			t := table{heads: []string{"number", "when", "who", "what", "to"}, empty: "Nothing was changed yet."}
			for _, change := range changes {
				t.add(fmt.Sprint(change.ID), when(change.At), change.Who, change.Action, change.Subject)
			}
			return show(c, changes, t)
		}),
	}
}
