package main

import (
	"testing"

	"bridgespan/core/finding"
)

func TestFindingLine(t *testing.T) {
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
	} {
		if got := findingLine(c.f); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

// Each kind of action has a command.
func TestActionCommands(t *testing.T) {
	for do, command := range commands {
		if got := actionCommand(finding.To(do, "a", "b", "c")); got == "" || got == command {
			t.Errorf("%s: %q", do, got)
		}
	}
}
