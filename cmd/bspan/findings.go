package main

import (
	"cmp"
	"fmt"
	"strings"

	"bridgespan/core/finding"
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
	finding.AddLeg:           "bspan site link --mbit N %s %s",
	finding.SetIntake:        "bspan replica quota %s %s --intake SIZE",
	finding.SetAttic:         "bspan replica quota %s %s --attic SIZE",
	finding.ShowAccounts:     "bspan replica accounts %s",
	finding.ShowTroubles:     "bspan replica troubles %s",
	finding.OpenLane:         "bspan replica open %s %s %s --for 4h",
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
