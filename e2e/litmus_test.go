package e2e

import (
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"bridgespan/e2e/harness"
	"bridgespan/standin/standintest"
)

// litmusSuites are the suites of the protocol's own test program, with how many
// tests each has: all of them must be run, and pass.
var litmusSuites = map[string]int{"basic": 16, "copymove": 13, "props": 30, "locks": 41, "http": 4}

var litmusSummary = regexp.MustCompile("summary for `(\\w+)': of (\\d+) tests run: (\\d+) passed, (\\d+) failed")

// testLitmus runs the Debian package litmus on a location over SMB.
func testLitmus(t *testing.T, e *harness.Estate) {
	cmd := exec.Command("litmus", "-k", e.Gateway+"/garden/store/", "ada", standintest.Password("ada"))
	cmd.Dir = t.TempDir()
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("litmus: %v", err)
	}
	text := string(out)
	seen, all := 0, 0
	for _, m := range litmusSummary.FindAllStringSubmatch(text, -1) {
		run, _ := strconv.Atoi(m[2])
		passed, _ := strconv.Atoi(m[3])
		if want, known := litmusSuites[m[1]]; !known || run != want || passed != want {
			t.Errorf("%s: %d of %d passed, want %d", m[1], passed, run, want)
		}
		seen, all = seen+1, all+passed
	}
	if seen != len(litmusSuites) || all != 104 || strings.Contains(text, "FAIL") || strings.Contains(text, "SKIPPED") {
		t.Errorf("%d suites, %d tests passed:\n%s", seen, all, text)
	}
}
