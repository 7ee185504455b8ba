package access

import (
	"context"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
)

// A credential is asked for once a second at most, is refused when it was ended
// or ran out, and outlives the database for a while.
func TestHolders(t *testing.T) {
	h := newHolders()
	start := time.Now().UTC()
	answers, asked := error(nil), 0
	ask := func(context.Context, [32]byte, time.Time) (records.Account, records.Credential, error) {
		asked++
		return records.Account{User: model.User{Name: "ivy"}}, records.Credential{Expires: start.Add(time.Hour)}, answers
	}
	away := fault.New(fault.Unavailable, "wait", "the database is away")
	ended := fault.New(fault.SignIn, "sign in", "you are not signed in")
	for _, step := range []struct {
		what    string
		after   time.Duration
		answers error
		good    bool
		asked   int
	}{
		{"the first time", 0, nil, true, 1},
		{"right after", 500 * time.Millisecond, nil, true, 1},
		{"a second later", time.Second, nil, true, 2},
		{"the database away, right after", 1900 * time.Millisecond, away, true, 2},
		{"the database away", time.Minute, away, true, 3},
		{"the database away for long", 20 * time.Minute, away, false, 4},
		{"the database back", 21 * time.Minute, nil, true, 5},
		{"ended elsewhere", 22 * time.Minute, ended, false, 6},
		{"still ended, and the database away", 22*time.Minute + time.Second, away, false, 7},
		{"made again", 23 * time.Minute, nil, true, 8},
		{"after it ran out, and the database away", time.Hour, away, false, 9},
	} {
		answers = step.answers
		account, _, err := h.find(t.Context(), [32]byte{1}, start.Add(step.after), ask)
		if (err == nil) != step.good || asked != step.asked || step.good && account.Name != "ivy" {
			t.Errorf("%s: %q, %v, asked %d times, want %d", step.what, account.Name, err, asked, step.asked)
		}
	}
}
