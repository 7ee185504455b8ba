package main

import (
	"os/exec"
	"testing"
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
