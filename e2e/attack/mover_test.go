package attack

import (
	"bytes"
	"strings"
	"sync/atomic"
	"testing"

	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/standin/tamper"
)

// A mover that answers with nonsense ends nothing and fills no memory. It is left alone,
// which is said, and used again after a check that comes out well.
func testHostileMover(t *testing.T, e *harness.Estate) {
	reed := harness.StartMover(t)
	var says atomic.Pointer[func(call string, answer []byte) []byte]
	before := tamper.StartMover(reed.HostPort(), func(call string, answer []byte) []byte {
		if change := says.Load(); change != nil {
			return (*change)(call, answer)
		}
		return answer
	})
	t.Cleanup(before.Stop)
	host := reed.NewServer("reed", "Upland")
	host.Address, host.Port = harness.SplitHostPort(t, before.Address())
	host.Certificate = before.Fingerprint()
	_, err := e.API.AddServer(t.Context(), host)
	must(t, err)
	for name, change := range map[string]func(call string, answer []byte) []byte{
		"negative sizes": func(_ string, answer []byte) []byte {
			return bytes.ReplaceAll(answer, []byte(`"name":"."`), []byte(`"name":".","size":-1`))
		},
		"a line without an end": func(string, []byte) []byte { return []byte(`{"entry":{"name":"` + strings.Repeat("n", 3<<20)) },
		"a name that leads out": func(_ string, answer []byte) []byte {
			return bytes.ReplaceAll(answer, []byte(`"name":"."`), []byte(`"name":"../.."`))
		},
		"no JSON": func(string, []byte) []byte { return []byte("\x00\x01\x02\n") },
	} {
		says.Store(&change)
		check, err := e.API.CheckServer(t.Context(), "reed")
		if err == nil && check.Outcome != finding.Fail {
			t.Errorf("%s: the check is content: %+v", name, check.Lines)
		}
		v, err := e.API.Server(t.Context(), "reed")
		must(t, err)
		if v.Untrusted == nil || v.Reachable == nil || *v.Reachable {
			t.Errorf("%s: the server is %+v", name, v)
		}
		must(t, e.API.Ready(t.Context()))
		says.Store(nil)
		_, err = e.API.CheckServer(t.Context(), "reed")
		must(t, err)
		if v, err = e.API.Server(t.Context(), "reed"); err != nil || v.Untrusted != nil || !*v.Reachable {
			t.Errorf("%s, after a good check: %+v, %v", name, v, err)
		}
	}
	must(t, e.API.RemoveServer(t.Context(), "reed", false))
}
