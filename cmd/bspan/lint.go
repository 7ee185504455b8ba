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
