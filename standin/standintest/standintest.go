// Package standintest brings up private real servers for tests and ends them with the test.
package standintest

import (
	"path/filepath"
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
	place := filepath.Join(t.TempDir(), "server")
	dir, err := fileserver.Place(place)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fileserver.Discard(place) })
	c := fileserver.Config{
		Dir: dir, Name: name, Address: "127.0.0.1", SID: "S-1-5-21-1001-2002-3003",
		Groups: []fileserver.Group{{Name: "keepers", RID: 2001}},
		Accounts: []fileserver.Account{
			{Name: "warden", Password: Password("warden"), RID: 5001, Administrator: true},
			{Name: "ada", Password: Password("ada"), RID: 5101, Groups: []string{"keepers"}},
			{Name: "ben", Password: Password("ben"), RID: 5102},
		},
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
