// Package e2e tests Bridge Span as its users meet it: the real programs over a
// real MariaDB and real file servers.
package e2e

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
