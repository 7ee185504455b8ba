// Package standintest brings up private real servers for tests and ends them with the test.
package standintest

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"bridgespan/records"
	"bridgespan/standin/database"
	"bridgespan/standin/fileserver"
)

// Password is the password of a test account.
func Password(account string) string { return "larkfield-" + account }

// FileServer starts a file server with one administrator "warden", two people
// "ada" and "ben", of whom ada is in the group "keepers", and the named shares.
func FileServer(t testing.TB, name string, shares ...string) *fileserver.Server {
	t.Helper()
	return start(t, fileserver.Config{Name: name, Address: address()}, shares)
}

// OnStandardPort is a FileServer at a loopback address of its own, on the port
// that Samba's own client knows. It skips the test when that is not allowed.
func OnStandardPort(t testing.TB, name string, shares ...string) *fileserver.Server {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root may listen on port 445")
	}
	return start(t, fileserver.Config{Name: name, Address: address(), Port: standardPort}, shares)
}

// standardPort is where clients that follow referrals go.
const standardPort = 445

// FrontServer is a server OnStandardPort beside which a mover may keep fronts.
func FrontServer(t testing.TB, name string, shares ...string) *fileserver.Server {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root may listen on port 445")
	}
	return start(t, fileserver.Config{Name: name, Address: address(), Port: standardPort, Fronts: true}, shares)
}

// commonSID is that of all servers which are not said to be strange: accounts of
// one name have one number, as those of a domain have.
const commonSID = "S-1-5-21-1001-2002-3003"

// StrangeFileServer starts a file server whose accounts have numbers of their
// own, which mean nothing on the others.
func StrangeFileServer(t testing.TB, name string, shares ...string) *fileserver.Server {
	t.Helper()
	return start(t, fileserver.Config{Name: name, Address: address(), SID: "S-1-5-21-7001-8002-9003"}, shares)
}

// OpenFileServer starts a file server that lets accounts which it does not know in as
// guests, as Samba does when it is told "map to guest = bad user".
func OpenFileServer(t testing.TB, name string, shares ...string) *fileserver.Server {
	t.Helper()
	return start(t, fileserver.Config{Name: name, Address: address(), Guests: true}, shares)
}

var addresses atomic.Uint32

// address is a loopback address that no other server of any test has. Two
// servers that were given one port would both listen there, unknown to each
// other: Samba lets the kernel deal connections out among all who do
// (SO_REUSEPORT), and a test would meet now the one and now the other.
func address() string {
	pid := os.Getpid()
	return fmt.Sprintf("127.%d.%d.%d", 128+(pid>>8)%64, pid%256, 1+addresses.Add(1)%250)
}

func start(t testing.TB, c fileserver.Config, shares []string) *fileserver.Server {
	t.Helper()
	place := filepath.Join(t.TempDir(), "server")
	dir, err := fileserver.Place(place)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fileserver.Discard(place) })
	c.Dir, c.SID, c.Groups = dir, cmp.Or(c.SID, commonSID), []fileserver.Group{{Name: "keepers", RID: 2001}}
	c.Accounts = []fileserver.Account{
		{Name: "warden", Password: Password("warden"), RID: 5001, Administrator: true},
		{Name: "ada", Password: Password("ada"), RID: 5101, Groups: []string{"keepers"}},
		{Name: "ben", Password: Password("ben"), RID: 5102},
	}
	for _, share := range shares {
		c.Shares = append(c.Shares, fileserver.Share{Name: share, Note: "Test share " + share})
	}
	s, err := fileserver.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

// Records opens the records of a fresh private MariaDB, with the schema in place.
func Records(t testing.TB) (*records.DB, *database.Server) {
	t.Helper()
	server := Database(t)
	db, err := records.Open(server.DSN("bridgespan"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	if _, err := db.Migrate(t.Context(), "test"); err != nil {
		t.Fatal(err)
	}
	return db, server
}

// Database starts a private MariaDB.
func Database(t testing.TB) *database.Server {
	t.Helper()
	s, err := database.Start(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}
