// Package attack attacks a running Bridge Span as an enemy would: as a user, as a file
// server, as a mover, and from between them. What was possible once stays impossible.
package attack

import (
	"os"
	"testing"

	"bridgespan/e2e/harness"
)

func TestMain(m *testing.M) {
	code := m.Run()
	harness.Clean()
	os.Exit(code)
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
