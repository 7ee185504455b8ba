package gateway

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

func TestRefusals(t *testing.T) {
	now := time.Unix(1000, 0)
	fern, yarrow := namespace.Listener{HostPort: "fern:445"}, namespace.Listener{HostPort: "yarrow:445"}
	member := person{"LARKFIELD", "Ivy", "wrong"}
	alone := person{"", "ivy", "wrong"}
	for name, c := range map[string]struct {
		first, then person
		at          namespace.Listener
		err         error
		after       time.Duration
		refused     bool
	}{
		"another server of the domain":        {member, member, yarrow, smb.ErrSignIn, time.Second, true},
		"the same in other letters":           {member, person{"larkfield", "IVY", "wrong"}, yarrow, smb.ErrSignIn, time.Second, true},
		"another password":                    {member, person{"LARKFIELD", "Ivy", "right"}, yarrow, smb.ErrSignIn, time.Second, false},
		"a while later":                       {member, member, yarrow, smb.ErrSignIn, refusedFor, false},
		"a server of its own":                 {alone, alone, yarrow, smb.ErrSignIn, time.Second, false},
		"the same server of its own":          {alone, alone, fern, smb.ErrSignIn, time.Second, true},
		"one that takes everybody for guests": {member, member, yarrow, smb.ErrGuest, time.Second, false},
		"one that does not answer":            {member, member, yarrow, tree.ErrUnreachable, time.Second, false},
		"one that lets them in":               {member, member, yarrow, nil, time.Second, false},
	} {
		var r refusals
		r.note(refusedBy(fern, c.first), c.err, now)
		if got := r.has(refusedBy(c.at, c.then), now.Add(c.after)); got != c.refused {
			t.Errorf("%s: refused %v, want %v", name, got, c.refused)
		}
	}
	var r refusals
	for i := range 3 * mostRefusals {
		r.note(refusedBy(fern, person{"D", fmt.Sprint(i), "x"}), errors.Join(smb.ErrSignIn), now.Add(time.Duration(i)*time.Millisecond))
	}
	if len(r.until) > mostRefusals {
		t.Errorf("%d are remembered", len(r.until))
	}
}
