package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// action is the body of a command that needs a signed-in client and arguments.
type action func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error

// signedIn makes a command's action: it checks the arguments, then connects.
func signedIn(do action, names ...string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, names...)
		if err != nil {
			return err
		}
		api, err := connect(c)
		if err != nil {
			return err
		}
		return do(ctx, c, api, args)
	}
}

func rehearseFlag() cli.Flag {
	return &cli.BoolFlag{Name: "rehearse", Usage: "only tell what would be changed"}
}

// rehearsable is a command that changes records alone: with --rehearse it tells
// what it would change, and changes nothing.
func rehearsable(do action, names ...string) cli.ActionFunc {
	return signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		if !c.Bool("rehearse") {
			return do(ctx, c, api, args)
		}
		err := do(client.Rehearse(ctx), c, api, args)
		told := new(client.Rehearsed)
		if !errors.As(err, &told) {
			return err
		}
		t := table{heads: []string{"what", "of", "differs"}, empty: "Nothing would change.", after: "Rehearsed only: nothing was changed."}
		for _, change := range told.Changes {
			differs := strings.Join(change.Words, "; ")
			if change.After == nil {
				differs = "removed"
			}
			t.add(change.Action, change.Subject, differs)
		}
		more := new(foretold)
		if errors.As(err, &more) {
			t.after = previewLines(more.preview) + t.after
			return show(c, rehearsedWith{told.Rehearsed, more.preview}, t)
		}
		return show(c, told.Rehearsed, t)
	}, names...)
}

// sent is a flag's value for a change: nil when it was not given.
func sent(c *cli.Command, name string) *string { return sentAs(c, name, c.String) }

// sentInt is sent, of a number.
func sentInt(c *cli.Command, name string) *int { return sentAs(c, name, c.Int) }

// sentBool is sent, of a switch.
func sentBool(c *cli.Command, name string) *bool { return sentAs(c, name, c.Bool) }

// take writes a flag's value into a field, when the flag was given.
func take[T any](c *cli.Command, name string, value func(string) T, field *T) {
	if c.IsSet(name) {
		*field = value(name)
	}
}

func sentAs[T any](c *cli.Command, name string, value func(string) T) *T {
	if !c.IsSet(name) {
		return nil
	}
	v := value(name)
	return &v
}

func noteFlag() cli.Flag {
	return &cli.StringFlag{Name: "note", Usage: "a `NOTE` for administrators"}
}

func siteCommand() *cli.Command {
	return &cli.Command{Name: "site", Usage: "places with servers and people, and the legs between them", Commands: []*cli.Command{
		{Name: "list", Usage: "list sites", Action: signedIn(listSites)},
		{Name: "add", Usage: "add a site", ArgsUsage: "NAME", Flags: []cli.Flag{noteFlag()},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				s, err := api.AddSite(ctx, model.NewSite{Name: args[0], Note: c.String("note")})
				if err != nil {
					return err
				}
				return done(c, s, "added site %s", s.Name)
			}, "NAME")},
		{Name: "edit", Usage: "change name or note of a site", ArgsUsage: "NAME", Flags: []cli.Flag{&cli.StringFlag{Name: "rename", Usage: "new `NAME`"}, noteFlag(), rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				s, err := api.EditSite(ctx, args[0], model.EditSite{Name: sent(c, "rename"), Note: sent(c, "note")})
				if err != nil {
					return err
				}
				return done(c, s, "changed site %s", s.Name)
			}, "NAME")},
		{Name: "remove", Usage: "remove a site without servers", ArgsUsage: "NAME", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveSite(ctx, args[0]); err != nil {
					return err
				}
				return done(c, nil, "removed site %s", args[0])
			}, "NAME")},
		{Name: "legs", Usage: "list the legs between sites", Action: signedIn(listLegs)},
		{Name: "link", Usage: "add or change the leg between a site and others, all alike", ArgsUsage: "SITE SITE...",
			Flags: []cli.Flag{
				&cli.FloatFlag{Name: "mbit", Usage: "speed in `MBIT`/s"},
				&cli.FloatFlag{Name: "rtt", Usage: "round trip in `MS`"},
				&cli.IntFlag{Name: "cost", Usage: "what directions count for crossing it; lower is nearer"},
				&cli.FloatFlag{Name: "back-mbit", Usage: "speed the other way in `MBIT`/s, when it is not the same"},
				&cli.IntFlag{Name: "back-cost", Usage: "cost the other way, when it is not the same"},
				&cli.StringFlag{Name: "like", Usage: "take what is not said from the leg between two `SITE/SITE`"},
			},
			Action: signedIn(linkSites, "SITE", "SITE...")},
		{Name: "unlink", Usage: "remove the leg between two sites", ArgsUsage: "SITE SITE", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveLeg(ctx, args[0], args[1]); err != nil {
					return err
				}
				return done(c, nil, "%s and %s are no longer linked", args[0], args[1])
			}, "SITE", "SITE")},
	}}
}

func listSites(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	sites, err := api.Sites(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"name", "servers", "note"}, empty: "There are no sites yet. Add one with: bspan site add NAME"}
	for _, s := range sites {
		t.add(s.Name, fmt.Sprint(s.Servers), s.Note)
	}
	return show(c, sites, t)
}

// linkSites links a site with each of the others, alike.
func linkSites(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	var leg namespace.Leg
	if like := c.String("like"); like != "" {
		from, to, ok := strings.Cut(like, "/")
		if !ok {
			return usageError{"--like " + like + " names no two sites; write SITE/SITE"}
		}
		var err error
		if leg, err = api.Leg(ctx, from, to); err != nil {
			return err
		}
		if !strings.EqualFold(leg.From, from) {
			leg = leg.Turned()
		}
	}
	leg.Mbit, leg.RTT, leg.Cost = cmp.Or(c.Float("mbit"), leg.Mbit), cmp.Or(c.Float("rtt"), leg.RTT), cmp.Or(c.Int("cost"), leg.Cost)
	leg.BackMbit, leg.BackCost = cmp.Or(c.Float("back-mbit"), leg.BackMbit), cmp.Or(c.Int("back-cost"), leg.BackCost)
	if leg.Mbit == 0 || leg.Cost == 0 {
		return usageError{"speed and cost are needed: give --mbit and --cost, or a leg to take them from with --like SITE/SITE"}
	}
	var legs []namespace.Leg
	var said []string
	for _, other := range args[1:] {
		leg.From, leg.To = args[0], other
		set, err := api.SetLeg(ctx, leg)
		if err != nil {
			return err
		}
		legs = append(legs, set)
		said = append(said, fmt.Sprintf("%s and %s are linked at cost %d", set.From, set.To, set.Cost))
	}
	return done(c, legs, "%s", strings.Join(said, "\n"))
}

func listLegs(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	legs, err := api.Legs(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"from", "to", "mbit/s", "back", "rtt ms", "cost", "back"}, empty: "No sites are linked yet. Link two with: bspan site link --mbit N --cost N SITE SITE"}
	for _, l := range legs {
		backMbit, backCost := "", ""
		if l.BackMbit != 0 {
			backMbit = humanize.Ftoa(l.BackMbit)
		}
		if l.BackCost != 0 {
			backCost = fmt.Sprint(l.BackCost)
		}
		t.add(l.From, l.To, humanize.Ftoa(l.Mbit), backMbit, humanize.Ftoa(l.RTT), fmt.Sprint(l.Cost), backCost)
	}
	return show(c, legs, t)
}

func serverFlags(required bool) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "site", Usage: "`SITE` where it stands", Required: required},
		&cli.StringFlag{Name: "address", Usage: "host name or `ADDRESS`", Required: required},
		&cli.IntFlag{Name: "port", Usage: "TCP `PORT`; the default is 445, 8620 for a mover and 443 for a cloud account"},
		&cli.StringFlag{Name: "domain", Usage: "`DOMAIN` of the account, when it is not the server's own"},
		&cli.StringFlag{Name: "account", Usage: "`ACCOUNT` that administers the server, or the access key of a cloud account; a mover has none"},
		&cli.StringFlag{Name: "certificate", Usage: "`FINGERPRINT` that a mover said at its start: the server is a host where one runs; its secret is the password"},
		&cli.StringFlag{Name: "region", Usage: "`REGION` of an S3 object service: the server is an account there, and its shares are buckets"},
		&cli.BoolFlag{Name: "path-style", Usage: "put bucket names of the object service in the path, not in the host name"},
		&cli.BoolFlag{Name: "plain", Usage: "connect to the object service without TLS: traffic can be read on the network"},
		&cli.StringFlag{Name: "currency", Usage: "`CURRENCY` of the prices of the object service, such as EUR"},
		&cli.FloatFlag{Name: "price-stored", Usage: "`PRICE` of 1 GB stored there for a month"},
		&cli.FloatFlag{Name: "price-out", Usage: "`PRICE` of 1 GB read out of it"},
		&cli.StringFlag{Name: "authority", Usage: "`FILE` with the CA certificate of the object service, in PEM"},
		&cli.StringFlag{Name: "proxy", Usage: "HTTP proxy to the object service, as `URL` such as http://proxy.example.org:3128, or http://USER@HOST:PORT; \"\" for none"},
		&cli.StringFlag{Name: "proxy-password-file", Usage: "`FILE` whose first line is the password of the user that the proxy names"},
		passwordFlag(), noteFlag(),
		&cli.StringFlag{Name: "beside", Usage: "of a mover: the file `SERVER` on the same host that shares the same folders; permissions there name its accounts"},
		&cli.StringFlag{Name: "name-for-people", Usage: "`NAME` by which people's machines reach it, where that is not its address"},
		&cli.BoolFlag{Name: "viewers-browse", Usage: "let viewers look into its folders, with the account that administers it"},
		&cli.BoolFlag{Name: "unsigned", Usage: "let messages pass that are not signed: whoever is between can change them"},
		&cli.BoolFlag{Name: "unchecked", Usage: "do not sign in to it first"},
	}
}

func serverCommand() *cli.Command {
	return &cli.Command{Name: "server", Usage: "file servers", Commands: []*cli.Command{
		{Name: "list", Usage: "list servers", Action: signedIn(listServers)},
		{Name: "show", Usage: "show a server and its last check", ArgsUsage: "NAME", Action: signedIn(showServer, "NAME")},
		{Name: "add", Usage: "add a server, after signing in to it", ArgsUsage: "NAME", Flags: serverFlags(true), Action: signedIn(addServer, "NAME")},
		{Name: "edit", Usage: "change a server; what is not given stays", ArgsUsage: "NAME",
			Flags: append(serverFlags(false), &cli.StringFlag{Name: "rename", Usage: "new `NAME`"}, &cli.BoolFlag{Name: "new-password", Usage: "ask for a new password"}, rehearseFlag()), Action: rehearsable(editServer, "NAME")},
		{Name: "use", Usage: "show who is connected, and what is open", ArgsUsage: "NAME", Action: signedIn(serverUse, "NAME")},
		{Name: "check", Usage: "try a server for real, line by line", ArgsUsage: "NAME", Action: signedIn(checkServer, "NAME")},
		{Name: "events", Usage: "make the token for event notifications of a cloud account; a token that was made before becomes invalid", ArgsUsage: "ACCOUNT", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(makeEventToken, "ACCOUNT")},
		{Name: "remove", Usage: "forget a server that no signpost leads to; the server itself is left alone", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "detach", Usage: "remove its locations from signposts as well, where others are left"}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveServer(ctx, args[0], c.Bool("detach")); err != nil {
					return err
				}
				return done(c, nil, "removed server %s from Bridge Span; the server itself was left alone", args[0])
			}, "NAME")},
	}}
}

func addServer(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	prompt := "Password of " + c.String("account") + " at " + c.String("address")
	switch mover := c.String("certificate") != ""; {
	case mover:
		prompt = "Secret of the mover at " + c.String("address")
	case c.String("account") == "":
		return usageError{"name the account that administers the server with --account, or the certificate of its mover with --certificate"}
	case c.String("region") != "":
		prompt = "Secret of the access key " + c.String("account")
	}
	cloud, err := cloudReach(c, nil)
	if err != nil {
		return err
	}
	proxyPassword, err := passwordIn(c.String("proxy-password-file"))
	if err != nil {
		return err
	}
	password, err := readPassword(c, prompt)
	if err != nil {
		return err
	}
	v, err := api.AddServer(ctx, model.NewServer{Name: args[0], Site: c.String("site"), Address: c.String("address"), Port: c.Int("port"),
		Domain: c.String("domain"), Account: c.String("account"), Certificate: c.String("certificate"), Cloud: cloud, Password: password, ProxyPassword: proxyPassword, Note: c.String("note"), Unsigned: c.Bool("unsigned"), ViewersBrowse: c.Bool("viewers-browse"), PeopleName: c.String("name-for-people"), Beside: c.String("beside"), Unchecked: c.Bool("unchecked")})
	if err != nil {
		return err
	}
	shares, err := api.Shares(ctx, v.Name)
	if err != nil {
		return err
	}
	shown := slices.DeleteFunc(shares, func(h model.Share) bool { return h.Hidden })
	return done(c, v, "added server %s with %d shares or folders; try it with: bspan server check %s", v.Name, len(shown), v.Name)
}

// cloudReach reads the connection settings of an object service from flags. Settings without a flag are copied
// from before, which may be nil. It returns nil when no flag was given.
func cloudReach(c *cli.Command, before func() (*model.CloudReach, error)) (*model.CloudReach, error) {
	var said bool
	for _, name := range []string{"region", "path-style", "plain", "authority", "proxy", "currency", "price-stored", "price-out"} {
		said = said || c.IsSet(name)
	}
	if !said {
		return nil, nil
	}
	reach := model.CloudReach{}
	if before != nil {
		was, err := before()
		if err != nil {
			return nil, err
		}
		if was != nil {
			reach = *was
		}
	}
	take(c, "region", c.String, &reach.Region)
	take(c, "currency", c.String, &reach.Currency)
	take(c, "price-stored", c.Float, &reach.StoredPrice)
	take(c, "price-out", c.Float, &reach.OutPrice)
	take(c, "path-style", c.Bool, &reach.PathStyle)
	take(c, "plain", c.Bool, &reach.Plain)
	take(c, "proxy", c.String, &reach.Proxy)
	if c.IsSet("authority") {
		text, err := os.ReadFile(c.String("authority"))
		if err != nil {
			return nil, fault.Field("authority", "name a file with a certificate in PEM", "%v", err)
		}
		reach.Authority = string(text)
	}
	if reach.Region == "" {
		return nil, usageError{"add --region: an object service needs the region of its buckets"}
	}
	return &reach, nil
}

func editServer(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	cloud, err := cloudReach(c, func() (*model.CloudReach, error) {
		before, err := api.Server(ctx, args[0])
		return before.Cloud, err
	})
	if err != nil {
		return err
	}
	e := model.EditServer{Name: sent(c, "rename"), Site: sent(c, "site"), Address: sent(c, "address"), Port: sentInt(c, "port"), Domain: sent(c, "domain"),
		Account: sent(c, "account"), Certificate: sent(c, "certificate"), Cloud: cloud, Note: sent(c, "note"), PeopleName: sent(c, "name-for-people"), Beside: sent(c, "beside"),
		Unsigned: sentBool(c, "unsigned"), ViewersBrowse: sentBool(c, "viewers-browse"), Unchecked: c.Bool("unchecked")}
	if e.Address != nil || e.Port != nil || e.Domain != nil || e.Account != nil || e.Certificate != nil || c.Bool("new-password") || c.IsSet("password-file") {
		var err error
		if e.Password, err = readPassword(c, "Password"); err != nil {
			return err
		}
	}
	if e.ProxyPassword, err = passwordIn(c.String("proxy-password-file")); err != nil {
		return err
	}
	v, err := api.EditServer(ctx, args[0], e)
	if err != nil {
		return err
	}
	return done(c, v, "changed server %s", v.Name)
}

// kindOf says what a server is reached by.
func kindOf(v model.Server) string {
	switch {
	case v.Can(model.HoldsBuckets):
		return "cloud"
	case !v.Can(model.SpeaksSMB):
		return "mover"
	}
	return "SMB"
}

// answers says in a word whether a server answered at the last look.
func answers(v model.Server) string {
	switch {
	case v.Untrusted != nil:
		return "untrusted answers"
	case v.Reachable == nil:
		return "not looked at yet"
	case *v.Reachable:
		return "answers"
	}
	return "does not answer"
}

func outcome(check *model.Check) string {
	if check == nil {
		return "never"
	}
	return fmt.Sprintf("%s (%s)", check.Outcome, humanize.Time(check.At))
}

func listServers(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	servers, err := api.Servers(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"name", "kind", "site", "address", "state", "last check", "note"}, empty: "There are no servers yet. Add one with: bspan server add NAME --site SITE --address HOST --account ACCOUNT"}
	for _, v := range servers {
		t.add(v.Name, kindOf(v), v.Site, fmt.Sprintf("%s:%d", v.Address, v.Port), answers(v), outcome(v.Check), v.Note)
	}
	return show(c, servers, t)
}

func showServer(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	v, err := api.Server(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"field", "value"}}
	t.add("name", v.Name)
	t.add("site", v.Site)
	t.add("address", fmt.Sprintf("%s:%d", v.Address, v.Port))
	if v.PeopleName != "" {
		t.add("name for people", v.PeopleName)
	}
	if v.Beside != "" {
		t.add("file server beside", v.Beside)
	}
	switch {
	case v.Can(model.ShowsCertificate):
		t.add("mover, known by", v.Certificate)
	case v.Can(model.HoldsBuckets):
		t.add("access key", v.Account)
		t.add("region", v.Cloud.Region)
		t.add("connection", map[bool]string{true: "without TLS: traffic can be read on the network", false: "TLS"}[v.Cloud.Plain])
	default:
		t.add("account", strings.TrimPrefix(v.Domain+`\`+v.Account, `\`))
	}
	if v.Unsigned {
		t.add("messages", "may pass unsigned: whoever is between can change them")
	}
	if v.Can(model.HasAccounts) {
		t.add("viewers", map[bool]string{true: "may look into its folders", false: "may not look into its folders"}[v.ViewersBrowse])
	}
	t.add("state", answers(v))
	if v.Since != nil {
		t.add("since", when(*v.Since))
	}
	if v.Trouble != "" {
		t.add("trouble", v.Trouble)
	}
	t.add("last check", outcome(v.Check))
	t.add("note", v.Note)
	return show(c, v, t)
}

func checkServer(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	check, err := api.CheckServer(ctx, args[0])
	if err != nil {
		return err
	}
	return showCheck(c, args[0], check)
}

// showCheck shows a check of something; one that failed is an error.
func showCheck(c *cli.Command, name string, check model.Check) error {
	t := table{heads: []string{"", "check", "found"}}
	remedies := ""
	for _, l := range check.Lines {
		t.add(string(l.Severity), l.Code, l.Found)
		if l.Remedy != "" {
			remedies += "\n" + findingLine(l)
		}
	}
	t.after = fmt.Sprintf("%s: %s, in %d ms.%s", name, check.Outcome, check.TookMs, remedies)
	if err := show(c, check, t); err != nil {
		return err
	}
	if check.Outcome == finding.Fail {
		return fmt.Errorf("the check of %s failed", name)
	}
	return nil
}

// makeEventToken shows the token once, with the address for notifications.
func makeEventToken(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	e, err := api.MakeEventToken(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"setting of the object service", "value"}, after: "The token is not shown again. Without event notifications, the next sweep finds changes made in the buckets.\n"}
	t.add("address", strings.TrimSuffix(api.Base, "/")+e.Path)
	t.add("bearer token", e.Token)
	return show(c, e, t)
}
