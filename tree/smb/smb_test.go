package smb_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/core/acl"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
	"bridgespan/tree/treetest"
)

func dial(t *testing.T, server *fileserver.Server, account string) *smb.Session {
	t.Helper()
	s, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: account, Password: standintest.Password(account)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func share(t *testing.T, s *smb.Session, name, sub string) *smb.Tree {
	t.Helper()
	tr, err := s.Tree(t.Context(), name, sub)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestAgainstRealServer(t *testing.T) {
	server := standintest.FileServer(t, "oak", "store", "private")
	warden := dial(t, server, "warden")

	t.Run("Conformance", func(t *testing.T) {
		root := share(t, warden, "store", "")
		n := 0
		treetest.Run(t, func(t *testing.T) tree.Tree {
			n++
			name := fmt.Sprintf("case-%d", n)
			if err := root.Mkdir(t.Context(), name); err != nil {
				t.Fatal(err)
			}
			return share(t, warden, "store", name)
		})
	})
	t.Run("ManyDescriptors", func(t *testing.T) { testManyDescriptors(t, server, warden) })
	t.Run("SameAsSmbclient", func(t *testing.T) { testSameAsSmbclient(t, server, warden) })
	t.Run("Refusals", func(t *testing.T) { testRefusals(t, server, warden) })
	t.Run("NamesOfTheWire", func(t *testing.T) {
		root := share(t, warden, "store", "")
		for _, name := range []string{`a\b`, "a:b", "what?", "star*", "tail.", "tail ", "tab\t"} {
			if _, err := root.Put(t.Context(), name, strings.NewReader(""), tree.PutOptions{}); !errors.Is(err, fs.ErrInvalid) {
				t.Errorf("Put(%q): %v, want fs.ErrInvalid", name, err)
			}
		}
	})
	t.Run("Unreachable", func(t *testing.T) {
		root := share(t, warden, "store", "")
		server.Halt()
		if _, err := root.Stat(t.Context(), "."); !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("Stat on a halted server: %v, want ErrUnreachable", err)
		}
		_, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "ada", Password: "x"})
		if !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("Dial to a halted server: %v, want ErrUnreachable", err)
		}
	})
}

// testSameAsSmbclient writes with us and reads with Samba's own client.
func testSameAsSmbclient(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	root := share(t, warden, "store", "")
	want := bytes.Repeat([]byte("Digitalis purpurea\n"), 100_000)
	if _, err := root.Put(t.Context(), "ledger.csv", bytes.NewReader(want), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	local := filepath.Join(t.TempDir(), "ledger.csv")
	out, err := exec.Command("smbclient", "//"+server.Address+"/store", "-p", fmt.Sprint(server.Port),
		"-U", "warden%"+standintest.Password("warden"), "-c", "get ledger.csv "+local).CombinedOutput()
	if err != nil {
		t.Fatalf("smbclient: %v: %s", err, out)
	}
	if got, err := os.ReadFile(local); err != nil || !bytes.Equal(got, want) {
		t.Errorf("smbclient reads %d bytes, %v; want %d equal ones", len(got), err, len(want))
	}
}

func testRefusals(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	_, err := smb.Dial(context.Background(), smb.Target{Address: server.HostPort(), Account: "ada", Password: "wrong"})
	if !errors.Is(err, smb.ErrSignIn) {
		t.Errorf("wrong password: %v, want ErrSignIn", err)
	}
	if _, err := warden.Tree(t.Context(), "vanished", ""); !errors.Is(err, smb.ErrNoShare) {
		t.Errorf("missing share: %v, want ErrNoShare", err)
	}
	root := share(t, warden, "private", "")
	if _, err := root.Put(t.Context(), "minutes.txt", strings.NewReader("x"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	closed := mustParse(t, "O:BAG:BAD:PAI(A;OICI;FA;;;BA)")
	if err := root.Apply(t.Context(), "minutes.txt", tree.Meta{Descriptor: closed}); err != nil {
		t.Fatal(err)
	}
	ben := share(t, dial(t, server, "ben"), "private", "")
	if _, err := ben.Open(t.Context(), "minutes.txt"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben opens the minutes: %v, want fs.ErrPermission", err)
	}
}

func mustParse(t *testing.T, text string) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// A folder of many files is listed with their permissions, batch by batch, and
// the connection lives on: a server ends it when too much is asked at once.
func testManyDescriptors(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	root := share(t, warden, "store", "")
	const many = 1500
	if err := os.Mkdir(filepath.Join(server.SharePath("store"), "many"), 0o777); err != nil {
		t.Fatal(err)
	}
	for i := range many {
		if err := os.WriteFile(filepath.Join(server.SharePath("store"), "many", fmt.Sprintf("%04d", i)), nil, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	seen := map[string]bool{}
	for e, err := range root.List(t.Context(), "many", tree.WithDescriptors) {
		if err != nil {
			t.Fatal(err)
		}
		if e.Descriptor.IsZero() || seen[e.Name] {
			t.Fatalf("%s has no permissions, or is listed twice", e.Name)
		}
		seen[e.Name] = true
	}
	if len(seen) != many {
		t.Errorf("%d of %d files were listed", len(seen), many)
	}
}
