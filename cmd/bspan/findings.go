package main

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// findingLine says a finding in a line, with the command that does its remedy.
func findingLine(f finding.Finding) string {
	head := strings.TrimSpace(strings.ToUpper(string(f.Severity)) + " " + cmp.Or(f.Subject, strings.ReplaceAll(f.Code, "-", " ")))
	line := fmt.Sprintf("%s: %s", head, strings.TrimSuffix(f.Found, "."))
	if f.Count > 0 {
		line += fmt.Sprintf(" (on %d, such as %s)", f.Count, placeName(f.Samples[0]))
	}
	line += "."
	if f.Meaning != "" {
		line += " " + capital(f.Meaning) + "."
	}
	if f.Remedy == "" {
		return line
	}
	line += " To do: " + f.Remedy
	if command := actionCommand(f.Action); command != "" {
		line += ": " + command
	}
	return line + "."
}

// placeName is a path below a place, in words.
func placeName(path string) string {
	if path == "." {
		return "its top"
	}
	return path
}

// commands do what findings advise, by kinds of action: their arguments are filled in.
var commands = map[finding.Do]string{
	finding.CheckServer:      "bspan server check %s",
	finding.EditServer:       "bspan server edit %s",
	finding.CreateBucket:     "bspan share create %s %s",
	finding.UpdateMover:      "bspan mover update %s",
	finding.AddLeg:           "bspan site link --mbit N %s %s",
	finding.SetIntake:        "bspan replica quota %s %s --intake SIZE",
	finding.SetAttic:         "bspan replica quota %s %s --attic SIZE",
	finding.ShowAccounts:     "bspan replica accounts %s",
	finding.ShowTroubles:     "bspan replica troubles %s",
	finding.OpenLane:         "bspan replica open %s %s %s --for 4h",
	finding.DecideRemovals:   "bspan replica removals %s %s",
	finding.ShowVerification: "bspan replica verified %[2]s",
	finding.Grant:            "bspan rights grant %s %s --level full",
	finding.EditShare:        "bspan share edit %s/%s",
	finding.EditFront:        "bspan front edit %s/%s --check-as ACCOUNT",
	finding.EditAccountMap:   "bspan account map edit %s --rule RULE",
	finding.ShowRights:       "bspan rights %s",
	finding.Inherit:          "bspan rights inherit %s",
	finding.Revoke:           "bspan rights revoke %s %s",
	finding.VerifyLocation:   "bspan namespace verify --location %[3]s %[2]s",
	finding.OpenLocation:     "bspan namespace open --location %[3]s %[2]s",
	finding.MoveEntry:        "bspan namespace move %[2]s %[3]s",
	finding.RemoveEntry:      "bspan namespace remove-entry %[2]s",
	finding.RemoveLocation:   "bspan namespace remove-entry --location %[3]s %[2]s",
}

// actionCommand is the command that does an action; "" of none.
func actionCommand(a *finding.Action) string {
	if a == nil || commands[a.Do] == "" {
		return ""
	}
	args := make([]any, len(a.Args))
	for i, arg := range a.Args {
		args[i] = shellWord(arg)
	}
	command := fmt.Sprintf(commands[a.Do], args...)
	command, _, _ = strings.Cut(command, "%!(EXTRA")
	return strings.TrimSpace(command)
}

func lintNamespace(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	flaws, err := api.Lint(ctx, args[0], c.Bool("deep"))
	if err != nil {
		return err
	}
	if kinds := c.StringSlice("fix"); len(kinds) > 0 {
		return fixFlaws(ctx, c, api, args[0], flaws, kinds)
	}
	t := table{heads: []string{"flaw", "path", "found", "meaning", "remedy"}, empty: "Nothing to stumble over was found. " + namespace.NeverThere}
	fixable := 0
	for _, f := range flaws {
		if f.Action != nil && f.Action.Do.OfNamespace() {
			fixable++
		}
		t.add(f.Code, f.Subject, f.Found, f.Meaning, cmp.Or(actionCommand(f.Action), f.Remedy))
	}
	t.after = fmt.Sprintf("%d flaws; %d can be mended at once: bspan namespace lint --fix KIND %s\n%s", len(flaws), fixable, args[0], namespace.NeverThere)
	return show(c, flaws, t)
}

// fixFlaws mends every flaw of some kinds, one after the other.
func fixFlaws(ctx context.Context, c *cli.Command, api *client.Client, name string, flaws []finding.Finding, kinds []string) error {
	t := table{heads: []string{"flaw", "path", "done"}, empty: "There is no flaw of that kind that can be mended at once."}
	all := []model.Fixed{}
	for _, f := range flaws {
		if !slices.Contains(kinds, f.Code) || f.Action == nil || !f.Action.Do.OfNamespace() {
			continue
		}
		fixed, err := api.FixFlaw(ctx, name, model.FixFlaw{Action: *f.Action, Rehearse: c.Bool("rehearse")})
		if err != nil {
			return err
		}
		text := fixed.Text
		if fixed.Run != nil {
			text += fmt.Sprintf(": run %d is under way", fixed.Run.ID)
		}
		all = append(all, fixed)
		t.add(f.Code, f.Subject, text)
	}
	if c.Bool("rehearse") && len(t.rows) > 0 {
		t.after = "Rehearsed only: nothing was changed."
	}
	return show(c, all, t)
}

// shellWord writes a name so that a shell takes it as one word and nothing
// else: names of shares are other people's.
func shellWord(name string) string {
	plain := func(r rune) bool {
		return !strings.ContainsRune("/.-_", r) && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}
	if name != "" && !strings.ContainsFunc(name, plain) {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}
