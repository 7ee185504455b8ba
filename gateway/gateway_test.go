package gateway

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http/httptest"
	"strings"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// What goes wrong at a file server reaches people as the right status, in
// words, and without what is none of their business.
func TestErrorsForPeople(t *testing.T) {
	inner := errors.New("dial tcp 10.1.2.3:445: secret detail")
	wrap := func(err error) error { return tree.PathError("open", "a/b", fmt.Errorf("%w: %w", err, inner)) }
	for _, test := range []struct {
		err    error
		status int
	}{
		{wrap(fs.ErrPermission), 403}, {wrap(fs.ErrNotExist), 404}, {wrap(fs.ErrExist), 405}, {wrap(fs.ErrInvalid), 400},
		{wrap(tree.ErrInUse), 423}, {wrap(tree.ErrNoSpace), 507}, {wrap(tree.ErrUnreachable), 503}, {wrap(tree.ErrTorn), 400},
		{wrap(context.DeadlineExceeded), 503}, {wrap(context.Canceled), 400}, {errNotHere, 403}, {wrap(errors.New("odd")), 500},
		{fault.New(fault.NotFound, "look elsewhere", "nothing is there"), 404}, {fault.New(fault.Unavailable, "wait", "the database is away"), 503},
		{fmt.Errorf("%w for /n/a: one/s (held: by hand)", errNowhere), 503},
	} {
		if got := statusOf(test.err); got != test.status {
			t.Errorf("%v: status %d, want %d", test.err, got, test.status)
		}
		if text := explain(test.err); text == "" || strings.Contains(text, "secret") {
			t.Errorf("%v is explained as %q", test.err, text)
		}
	}
}

func TestPassOver(t *testing.T) {
	for err, want := range map[error]bool{
		tree.ErrUnreachable: true, smb.ErrNoShare: true, context.DeadlineExceeded: true,
		smb.ErrSignIn: false, fs.ErrPermission: false, fs.ErrNotExist: false, tree.ErrInUse: false,
	} {
		if got := passOver(fmt.Errorf("wrapped: %w", err)); got != want {
			t.Errorf("passing over for %v: %v", err, got)
		}
	}
}

func TestPersonOf(t *testing.T) {
	for user, want := range map[string]person{"ada": {"", "ada", "pw"}, `GARDEN\ada`: {"GARDEN", "ada", "pw"}, "ada@garden.test": {"", "ada@garden.test", "pw"}} {
		r := httptest.NewRequest("GET", "/", nil)
		r.SetBasicAuth(user, "pw")
		if got, ok := personOf(r); !ok || got != want {
			t.Errorf("%s is %+v, %v", user, got, ok)
		}
	}
	r := httptest.NewRequest("GET", "/", nil)
	r.SetBasicAuth("", "pw")
	if _, ok := personOf(r); ok {
		t.Error("nobody is somebody")
	}
}
