package main

import (
	"os/exec"
	"testing"

	"bridgespan/core/namespace"
)

// What a command prints to be typed is, to a shell, the name and nothing else.
func TestShellWord(t *testing.T) {
	for _, name := range []string{"/trust/a-b_c.1", "two words", "", "$(touch /nowhere)", "`id`", "it's", `back\slash "quoted"`, "#1;&|<>*", "Größe"} {
		out, err := exec.Command("sh", "-c", "printf %s "+shellWord(name)).Output()
		if err != nil || string(out) != name {
			t.Errorf("%q comes out as %q, %v", name, out, err)
		}
	}
}

func TestFixCommand(t *testing.T) {
	f := namespace.Flaw{Path: "/trust/seed bank", Location: "fern/seedbank", To: "/trust/seed-bank"}
	for fix, want := range map[namespace.FixKind]string{
		namespace.NoFix:          "",
		namespace.FixVerify:      "bspan namespace verify --location fern/seedbank '/trust/seed bank'",
		namespace.FixOpen:        "bspan namespace open --location fern/seedbank '/trust/seed bank'",
		namespace.FixMove:        "bspan namespace move '/trust/seed bank' /trust/seed-bank",
		namespace.FixRemove:      "bspan namespace remove-entry '/trust/seed bank'",
		namespace.FixRemovePlace: "bspan namespace remove-entry --location fern/seedbank '/trust/seed bank'",
	} {
		f.Fix = fix
		if got := fixCommand(f); got != want {
			t.Errorf("%s: %s, want %s", fix, got, want)
		}
	}
}
