package main

import (
	"strings"
	"testing"

	"bridgespan/core/finding"
)

func TestFindingLine(t *testing.T) {
	found := finding.New(finding.Warn, "everyone-changes", "Everyone", "it changes", "", "take it away").With(finding.To(finding.ShowRights, "fern/council/2026"))
	found.Count, found.Samples = 3, []string{"2026/a.txt"}
	for _, c := range []struct {
		f    finding.Finding
		want string
	}{
		{finding.New(finding.Pass, "clock", "", "0.1 s off", "x", "y"), "PASS clock: 0.1 s off."},
		{finding.New(finding.Warn, "name", "", "there is a space in it", "", "use a hyphen"), "WARN name: there is a space in it. To do: use a hyphen."},
		{finding.New(finding.Fail, "failing", "reed", "it does not answer.", "nothing is carried there", "check the server").With(finding.To(finding.CheckServer, "reed")),
			"FAIL reed: it does not answer. Nothing is carried there. To do: check the server: bspan server check reed."},
		{finding.New(finding.Warn, "attic-full", "reed", "it is full", "the oldest goes", "give it a larger quota").With(finding.To(finding.SetAttic, "field notes", "reed")),
			"WARN reed: it is full. The oldest goes. To do: give it a larger quota: bspan replica quota 'field notes' reed --attic SIZE."},
		{finding.New(finding.Fail, "differs", "notes", "2 differ", "people get others", "see them").With(finding.To(finding.ShowVerification, "notes", "7")),
			"FAIL notes: 2 differ. People get others. To do: see them: bspan replica verified 7."},
		{found, "WARN Everyone: it changes (on 3, such as 2026/a.txt). To do: take it away: bspan rights fern/council/2026."},
	} {
		if got := findingLine(c.f); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

// Each kind of action has a command, and what goes into it is, to a shell, names alone.
func TestActionCommands(t *testing.T) {
	for _, do := range finding.Dos() {
		command := actionCommand(finding.To(do, "a", "b", "c"))
		if !strings.HasPrefix(command, "bspan ") || strings.Contains(command, "%") {
			t.Errorf("%s: %q", do, command)
		}
	}
	for want, a := range map[string]*finding.Action{
		"": nil,
		"bspan namespace verify --location fern/seedbank '/trust/seed bank'":       finding.To(finding.VerifyLocation, "trust", "/trust/seed bank", "fern/seedbank"),
		"bspan namespace move '/trust/seed bank' /trust/seed-bank":                 finding.To(finding.MoveEntry, "trust", "/trust/seed bank", "/trust/seed-bank"),
		"bspan namespace remove-entry '/trust/seed bank'":                          finding.To(finding.RemoveEntry, "trust", "/trust/seed bank"),
		"bspan namespace remove-entry --location fern/seedbank '/trust/seed bank'": finding.To(finding.RemoveLocation, "trust", "/trust/seed bank", "fern/seedbank"),
		"bspan rights revoke fern/council/a.txt 'LARKFIELD\\old one'":              finding.To(finding.Revoke, "fern/council/a.txt", `LARKFIELD\old one`),
	} {
		if got := actionCommand(a); got != want {
			t.Errorf("%+v: %s, want %s", a, got, want)
		}
	}
}
