package sets

import (
	"testing"

	"bridgespan/core/finding"
	"bridgespan/mover/edge"
)

// The trigger of stubs is a finding: a warning with a remedy where programs wait for whole files, and none while it is unknown.
func TestJudgeStubs(t *testing.T) {
	for on, c := range map[edge.Trigger]struct {
		severity finding.Severity
		ok       bool
	}{edge.OnRead: {finding.Pass, true}, edge.OnOpen: {finding.Warn, true}, edge.AnyTrigger: {"", false}} {
		f, ok := judgeStubs("sedge", on)
		if ok != c.ok || f.Severity != c.severity || ok && f.Subject != "sedge" || (f.Remedy != "") != (c.severity == finding.Warn) {
			t.Errorf("%q: %+v, %v", on, f, ok)
		}
	}
}
