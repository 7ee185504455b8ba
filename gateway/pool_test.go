package gateway

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/smbadmin"
	"bridgespan/standin/standintest"
	"bridgespan/tree/smb"
)

// nobody hears of servers that fail.
type nobody struct{}

func (nobody) Suspect(context.Context, string) {}
func (nobody) Distrust(string, error)          {}
func (nobody) Quarantined(string) bool         { return false }

// A session ends with its age, also while it is used all the time: an account that is gone
// since it signed in does not go on.
func TestSessionsAge(t *testing.T) {
	server := standintest.FileServer(t, "oak", "store")
	p := newPool(nobody{}, time.Hour)
	t.Cleanup(p.close)
	listens := namespace.Listener{Server: "oak", HostPort: server.HostPort()}
	ben := person{account: "ben", password: standintest.Password("ben")}
	first, err := p.borrow(t.Context(), listens, ben)
	if err != nil {
		t.Fatal(err)
	}
	again, err := p.borrow(t.Context(), listens, ben)
	if err != nil || again != first {
		t.Errorf("a young session is not used again: %v", err)
	}
	p.giveBack(again)
	removeUser(t, server.HostPort(), "ben")
	p.mu.Lock()
	first.begun = first.begun.Add(-2 * time.Hour)
	p.mu.Unlock()
	if _, err := p.borrow(t.Context(), listens, ben); !errors.Is(err, smb.ErrSignIn) {
		t.Errorf("an account that is gone is still taken: %v", err)
	}
	// Whoever had it in hands gives it back, and it is closed then.
	if first.session == nil || !first.dropped {
		t.Error("the old session was closed in somebody's hands, or stays for ever")
	}
	p.giveBack(first)
	if first.session != nil {
		t.Error("the old session is not closed")
	}
}

func removeUser(t *testing.T, hostPort, name string) {
	t.Helper()
	s, err := smb.Dial(t.Context(), smb.Target{Address: hostPort, Account: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	admin := smbadmin.New(s)
	users, err := admin.Users(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(users, func(u smbadmin.LocalUser) bool { return u.Name == name })
	if i < 0 {
		t.Fatalf("there is no %s among %+v", name, users)
	}
	if err := admin.RemoveUser(t.Context(), users[i].SID); err != nil {
		t.Fatal(err)
	}
}
