package main

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

func frontCommand() *cli.Command {
	rehearse := &cli.BoolFlag{Name: "rehearse", Usage: "only tell what would be done"}
	settings := []cli.Flag{
		&cli.StringFlag{Name: "branch", Usage: "show only this `FOLDER` of the namespace"},
		&cli.StringFlag{Name: "comment", Usage: "`TEXT` that people see beside the share"},
		&cli.BoolFlag{Name: "leave-out-failing", Usage: "leave out failing locations while another one is open, instead of listing them last"},
		&cli.StringFlag{Name: "check-as", Usage: "check the front at intervals with this `ACCOUNT`, DOMAIN\\NAME or NAME; - for none"},
		passwordFlag(),
	}
	return &cli.Command{Name: "front", Usage: "namespaces as shares of SMB servers, which people open in their own file browsers", Commands: []*cli.Command{
		{Name: "list", Usage: "list the fronts, of one namespace or all", ArgsUsage: "[NAMESPACE]", Action: func(ctx context.Context, c *cli.Command) error {
			api, err := connect(c)
			if err != nil {
				return err
			}
			return listFronts(ctx, c, api, c.Args().First())
		}},
		{Name: "show", Usage: "show a front: whether it is current, what it leaves out, its last check", ArgsUsage: "HOST/SHARE", Action: signedIn(onFront(showFront), "HOST/SHARE")},
		{Name: "add", Usage: "show a namespace as a share of the file service at a host where a mover runs", ArgsUsage: "NAMESPACE HOST",
			Flags: append([]cli.Flag{&cli.StringFlag{Name: "share", Usage: "`NAME` of the share; that of the namespace when absent"}, rehearse}, settings...), Action: signedIn(addFront, "NAMESPACE", "HOST")},
		{Name: "edit", Usage: "change a front; what is not given stays", ArgsUsage: "HOST/SHARE", Flags: append([]cli.Flag{rehearseFlag()}, settings...), Action: rehearsable(onFront(editFront), "HOST/SHARE")},
		{Name: "check", Usage: "test a front as a client would: each link and its first location", ArgsUsage: "HOST/SHARE",
			Flags:  []cli.Flag{&cli.StringFlag{Name: "as", Usage: "sign in with this `ACCOUNT`, DOMAIN\\NAME or NAME; absent: the account for checks"}, passwordFlag(), &cli.StringFlag{Name: "below", Usage: "only what is at or below this `PATH` of the front"}},
			Action: signedIn(onFront(checkFront), "HOST/SHARE")},
		{Name: "remove", Usage: "remove a front with all that it made, and nothing else", ArgsUsage: "HOST/SHARE",
			Flags:  []cli.Flag{rehearse, &cli.BoolFlag{Name: "forget", Usage: "remove it from Bridge Span only, when its host is lost; its folder and share stay on the host"}},
			Action: signedIn(onFront(removeFront), "HOST/SHARE")},
	}}
}

// onFront splits HOST/SHARE.
func onFront(do func(ctx context.Context, c *cli.Command, api *client.Client, host, share string) error) action {
	return func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
		target, err := namespace.ParseTarget("HOST/SHARE", args[0])
		if err == nil && target.Sub != "" {
			err = fault.Field("HOST/SHARE", "write the server and the share of the front", "%q is not a front", args[0])
		}
		if err != nil {
			return err
		}
		return do(ctx, c, api, target.Server, target.Share)
	}
}

func listFronts(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	list, err := api.Fronts(ctx, name)
	if err != nil {
		return err
	}
	t := table{heads: []string{"front", "people open", "site", "shows", "state", "links", "written", "check"}, empty: "There are no fronts. Add one with: bspan front add NAMESPACE HOST"}
	for _, f := range list.Fronts {
		t.add(f.Server+"/"+f.Share, f.UNC(), f.Site, frontShows(f), frontState(f), fmt.Sprint(f.Links), whenOr(f.Written, "not yet"), outcome(f.Check))
	}
	t.after = list.Keeping
	return show(c, list.Fronts, t)
}

func frontShows(f model.Front) string {
	return strings.TrimSuffix("/"+f.Namespace+"/"+f.Branch, "/")
}

func frontState(f model.Front) string {
	if f.Trouble != "" {
		return f.State + ": " + f.Trouble
	}
	return f.State
}

func showFront(ctx context.Context, c *cli.Command, api *client.Client, host, share string) error {
	f, err := api.Front(ctx, host, share)
	if err != nil {
		return err
	}
	t := frontTable(f)
	list, err := api.FrontConnections(ctx, host, share)
	if err != nil {
		t.after = strings.TrimSpace(t.after + "\nThe list of connections failed: " + err.Error())
	}
	for _, who := range list {
		t.after += fmt.Sprintf("\n%s at %s has it open since %s.", cmp.Or(who.Person, "somebody"), who.Machine, when(who.Since))
	}
	t.after = strings.TrimSpace(t.after)
	return show(c, f, t)
}

func frontTable(f model.Front) table {
	t := table{heads: []string{"field", "value"}}
	t.add("people open", f.UNC())
	t.add("shows", frontShows(f)+" as seen from "+f.Site)
	t.add("state", frontState(f))
	if f.Since != nil {
		t.add("since", when(*f.Since))
	}
	t.add("content", fmt.Sprintf("%s, %s", english.Plural(int(f.Folders), "folder", ""), english.Plural(int(f.Links), "link", "")))
	t.add("last written", whenOr(f.Written, "not yet"))
	if f.CaughtUp != nil {
		t.add("last compared", fmt.Sprintf("%s, %s", when(*f.CaughtUp), english.Plural(int(f.CaughtUpChanges), "difference", "")))
	}
	t.add("failing locations", map[bool]string{true: "left out while another one is open", false: "last in the list"}[f.LeaveOutFailing])
	t.add("account for checks", cmp.Or(strings.TrimPrefix(f.CheckDomain+`\`+f.CheckAccount, `\`), "none"))
	t.add("last check", outcome(f.Check))
	t.add("comment", f.Comment)
	var more []string
	for _, l := range f.LeftOut {
		more = append(more, fmt.Sprintf("Not shown: %s: %s.", l.Path, l.Why))
	}
	if len(f.Foreign) > 0 {
		more = append(more, fmt.Sprintf("Foreign items in its folder, left as they are: %s.", strings.Join(f.Foreign, ", ")))
	}
	if f.Check != nil {
		for _, l := range f.Check.Lines {
			if l.Remedy != "" {
				more = append(more, findingLine(l))
			}
		}
	}
	t.after = strings.Join(more, "\n")
	return t
}

// checker is the account that is to check a front; nil when none is named.
func checker(c *cli.Command, flag string) (*model.FrontCheckAs, error) {
	text := c.String(flag)
	switch text {
	case "":
		return nil, nil
	case "-":
		return &model.FrontCheckAs{}, nil
	}
	as := &model.FrontCheckAs{Account: text}
	if domain, account, ok := strings.Cut(text, `\`); ok {
		as.Domain, as.Account = domain, account
	}
	var err error
	as.Password, err = readPassword(c, "Password of "+text)
	return as, err
}

func addFront(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	as, err := checker(c, "check-as")
	if err != nil {
		return err
	}
	n := model.NewFront{Namespace: strings.Trim(args[0], "/"), Server: args[1], Share: c.String("share"), Branch: c.String("branch"), Comment: c.String("comment"), LeaveOutFailing: c.Bool("leave-out-failing"), CheckAs: as, Rehearse: c.Bool("rehearse")}
	if n.Share == "" {
		n.Share = n.Namespace
	}
	plan, err := api.AddFront(ctx, n)
	if err != nil {
		return err
	}
	return show(c, plan, frontPlanTable(plan))
}

func frontPlanTable(p model.FrontPlan) table {
	t := table{heads: []string{"step", "state", "found"}}
	for _, s := range p.Steps {
		t.add(s.Text, s.State, s.Found)
	}
	var lines []string
	for _, f := range p.Checks {
		lines = append(lines, findingLine(f))
	}
	if len(p.Lines) > 0 {
		lines = append(lines, "Missing in the configuration of the file service:")
		for _, l := range p.Lines {
			lines = append(lines, "  "+l)
		}
	}
	switch {
	case p.Rehearsed:
		lines = append(lines, "Rehearsed only: nothing was changed.")
	case p.Run != 0:
		lines = append(lines, "People open "+p.Front.UNC()+". "+model.FrontKeeping)
	}
	t.after = strings.Join(lines, "\n")
	return t
}

func editFront(ctx context.Context, c *cli.Command, api *client.Client, host, share string) error {
	as, err := checker(c, "check-as")
	if err != nil {
		return err
	}
	f, err := api.EditFront(ctx, host, share, model.EditFront{CheckAs: as, Branch: sent(c, "branch"), Comment: sent(c, "comment"), LeaveOutFailing: sentBool(c, "leave-out-failing")})
	if err != nil {
		return err
	}
	return show(c, f, frontTable(f))
}

func checkFront(ctx context.Context, c *cli.Command, api *client.Client, host, share string) error {
	as, err := checker(c, "as")
	if err != nil {
		return err
	}
	check, err := api.CheckFront(ctx, host, share, model.AskFrontCheck{As: as, Below: c.String("below")})
	if err != nil {
		return err
	}
	return showCheck(c, host+"/"+share, check)
}

func removeFront(ctx context.Context, c *cli.Command, api *client.Client, host, share string) error {
	plan, err := api.RemoveFront(ctx, host, share, model.RemoveFront{Forget: c.Bool("forget"), Rehearse: c.Bool("rehearse")})
	if err != nil {
		return err
	}
	t := frontPlanTable(plan)
	switch {
	case plan.Rehearsed:
	case c.Bool("forget"):
		t.after = host + "/" + share + " is removed from Bridge Span. Its folder and share stay on the host."
	default:
		t.after = plan.Front.UNC() + " is gone; what was behind its links stays."
	}
	return show(c, plan, t)
}

// whenOr is a time, or a word for none.
func whenOr(at *time.Time, none string) string {
	if at == nil {
		return none
	}
	return when(*at)
}

// tellKeeping tells people for how long machines keep where they were led, if a front shows a namespace.
func tellKeeping(ctx context.Context, c *cli.Command, api *client.Client, name string) {
	if c.String("output") != "table" {
		return
	}
	if list, err := api.Fronts(ctx, name); err == nil && len(list.Fronts) > 0 {
		fmt.Fprintln(c.Root().ErrWriter, list.Keeping)
	}
}
