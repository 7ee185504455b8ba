package main

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/core/text"
	"bridgespan/model"
)

func checkOutput(format string) error {
	switch format {
	case "table", "json", "csv":
		return nil
	}
	return fmt.Errorf("output %q is none of table, json, csv", format)
}

// table is what a command shows to people and to spreadsheets.
type table struct {
	heads []string
	rows  [][]string
	empty string // said when there are no rows
	after string // said below the rows, to people alone
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

// show writes value as JSON, or t as a table or CSV, as --output asks.
func show(c *cli.Command, value any, t table) error {
	w := c.Root().Writer
	switch c.String("output") {
	case "json":
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		return encoder.Encode(value)
	case "csv":
		records := csv.NewWriter(w)
		_ = records.Write(t.heads)
		for _, row := range t.rows {
			_ = records.Write(text.Cells(row))
		}
		records.Flush()
		return records.Error()
	}
	return t.write(w)
}

func (t *table) write(out io.Writer) error {
	if len(t.rows) == 0 && t.empty != "" {
		_, err := fmt.Fprintln(out, t.empty)
		return err
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	if len(t.heads) > 0 {
		fmt.Fprintln(w, strings.ToUpper(strings.Join(t.heads, "\t")))
	}
	for _, row := range t.rows {
		fmt.Fprintln(w, strings.Join(row, "\t"))
	}
	if err := w.Flush(); err != nil || t.after == "" {
		return err
	}
	_, err := fmt.Fprintln(out, "\n"+t.after)
	return err
}

// done says that something was done: a sentence for people, an object for programs.
func done(c *cli.Command, value any, format string, args ...any) error {
	text := fmt.Sprintf(format, args...)
	if value == nil {
		value = map[string]string{"done": text}
	}
	t := table{rows: [][]string{{text}}}
	if c.String("output") == "csv" {
		t.heads = []string{"done"}
	}
	return show(c, value, t)
}

func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

// onNumber reads the number of something that a command lists.
func onNumber(text, list string, do func(id int64) error) error {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return usageError{fmt.Sprintf("%q is not a number from the list; list them with: bspan %s", text, list)}
	}
	return do(id)
}

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
