package fileserver_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// What a server holds survives a halt and a start on its folder, and its
// accounts exist nowhere else.
func TestServerKeepsItsState(t *testing.T) {
	s := standintest.FileServer(t, "rowan", "store")
	dial := func(account string) error {
		session, err := smb.Dial(t.Context(), smb.Target{Address: s.HostPort(), Account: account, Password: standintest.Password(account)})
		if err == nil {
			err = session.Close()
		}
		return err
	}
	for _, account := range []string{"warden", "ada", "ben"} {
		if err := dial(account); err != nil {
			t.Errorf("%s signs in: %v", account, err)
		}
	}
	if err := dial("root"); !errors.Is(err, smb.ErrSignIn) {
		t.Errorf("an account of the host signs in: %v", err)
	}
	if text, err := os.ReadFile("/etc/passwd"); err != nil || strings.Contains("\n"+string(text), "\nada:") {
		t.Errorf("a private account reached the host, or %v", err)
	}
	if s.PID() == 0 {
		t.Error("no process id")
	}
	s.Halt()
	if err := dial("ada"); !errors.Is(err, tree.ErrUnreachable) || s.PID() != 0 {
		t.Errorf("halted: %v", err)
	}
	if err := s.Restart(); err != nil {
		t.Fatal(err)
	}
	if err := dial("ada"); err != nil {
		t.Errorf("restarted: %v", err)
	}
	s.Stop()
	again, err := fileserver.Start(s.Config)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	if err := dial("ben"); err != nil {
		t.Errorf("started again on the same folder: %v", err)
	}
}

// A folder that accounts cannot pass into is replaced by one that they can.
func TestPlace(t *testing.T) {
	closed := filepath.Join(t.TempDir(), "servers") // below a folder of mode 0700
	target, err := fileserver.Place(closed)
	if err != nil {
		t.Fatal(err)
	}
	if target == closed {
		t.Errorf("servers are placed where no account can reach them: %s", target)
	}
	if again, err := fileserver.Place(closed); err != nil || again != target {
		t.Errorf("the second time: %s, %v; want %s", again, err, target)
	}
	if err := fileserver.Discard(closed); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{closed, target} {
		if _, err := os.Lstat(dir); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s is left: %v", dir, err)
		}
	}
}
