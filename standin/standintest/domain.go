package standintest

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"bridgespan/standin/domain"
	"bridgespan/standin/fileserver"
)

// Domain starts a domain GROVE with an administrator "warden" and three
// people: "ada" is in "keepers", which is in "staff", which is in "everybody-here";
// "ben" is in "staff"; "cara" is in nothing. Member adds file servers to it.
func Domain(t testing.TB) *domain.Controller {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("a domain needs its fixed ports, and so root")
	}
	place := filepath.Join(t.TempDir(), "domain")
	dir, err := fileserver.Place(place)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fileserver.Discard(place) })
	pid := os.Getpid() // an address of its own for each test program
	d, err := domain.Start(domain.Config{
		Dir: dir, Realm: "GROVE.TEST", Name: "GROVE", Address: fmt.Sprintf("127.%d.%d.20", 64+pid%64, pid/64%250), SID: "S-1-5-21-4001-5002-6003", Password: Password("Administrator-1"),
		Users: []domain.User{{Name: "warden", Password: Password("warden"), Administrator: true}, {Name: "ada", FullName: "Ada Birch", Password: Password("ada")},
			{Name: "ben", Password: Password("ben")}, {Name: "cara", Password: Password("cara")}},
		Groups: []domain.Group{{Name: "keepers", Members: []string{"ada"}}, {Name: "staff", Members: []string{"keepers", "ben"}}, {Name: "everybody-here", Members: []string{"staff"}}},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Stop)
	return d
}

// Member starts a file server that belongs to a domain, with the named shares.
// It has one group of its own, "scanners".
func Member(t testing.TB, d *domain.Controller, name string, shares ...string) *fileserver.Server {
	t.Helper()
	warden, err := d.Relative("warden")
	if err != nil {
		t.Fatal(err)
	}
	place := filepath.Join(t.TempDir(), name)
	dir, err := fileserver.Place(place)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fileserver.Discard(place) })
	c := fileserver.Config{Dir: dir, Name: name, Address: address(), SID: "S-1-5-21-1001-2002-3003", Domain: d, Owner: warden,
		Groups: []fileserver.Group{{Name: "scanners", RID: 2001}}}
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
