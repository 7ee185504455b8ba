package attack

import (
	"testing"

	"bridgespan/e2e/harness"
)

// All of these work on one estate, one after the other.
func TestUsers(t *testing.T) {
	e := harness.StartEstate(t)
	t.Run("hostile server", func(t *testing.T) { testHostileServer(t, e) })
	t.Run("hostile mover", func(t *testing.T) { testHostileMover(t, e) })
	t.Run("tampered messages", func(t *testing.T) { testTamperedMessages(t, e) })
	t.Run("runs stop", func(t *testing.T) { testRunsStop(t, e) })
	t.Run("guests at the gateway", func(t *testing.T) { testGuestsAtGateway(t, e) })
	t.Run("strangers at the gateway", func(t *testing.T) { testStrangersLearnNothing(t, e) })
	t.Run("stored scripts", func(t *testing.T) { testStoredScripts(t, e) })
	t.Run("reserved names", func(t *testing.T) { testReservedNames(t, e) })
	t.Run("sign-ins end", func(t *testing.T) { testSignInsEnd(t, e) })
	t.Run("locks are ended", func(t *testing.T) { testLocksAreEnded(t, e) })
	t.Run("long names", func(t *testing.T) { testLongNames(t, e) })
	t.Run("parallel guesses", func(t *testing.T) { testParallelGuesses(t, e) })
	t.Run("viewers browse", func(t *testing.T) { testViewersBrowse(t, e) })
	t.Run("lens over a refused share", func(t *testing.T) { testLensOverRefusedShare(t, e) })
}
