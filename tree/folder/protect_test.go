package folder_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"bridgespan/tree/folder"
)

// Nobody but who runs the program comes to a folder that is protected, whoever made it.
func TestProtect(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root, to become somebody else")
	}
	const nobody = 65534
	top, err := os.MkdirTemp("", "protect")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(top) })
	work := filepath.Join(top, ".bspan")
	for _, err := range []error{os.Chmod(top, 0o777), os.Mkdir(work, 0o777), os.Chmod(work, 0o777), os.WriteFile(filepath.Join(work, "a"), []byte("a"), 0o666), os.Chown(work, nobody, nobody)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	tr, err := folder.Open(top)
	if err != nil {
		t.Fatal(err)
	}
	defer tr.Close()
	asNobody := func(program string, args ...string) error {
		cmd := exec.Command(program, args...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		return cmd.Run()
	}
	tries := [][]string{{"ls", work}, {"cat", work + "/a"}, {"touch", work + "/b"}, {"rm", "-f", work + "/a"}}
	if err := asNobody(tries[0][0], tries[0][1]); err != nil {
		t.Fatalf("before it is protected nobody may not list it: %v", err)
	}
	if err := tr.Protect(t.Context(), ".bspan"); err != nil {
		t.Fatal(err)
	}
	for _, c := range tries {
		if asNobody(c[0], c[1:]...) == nil {
			t.Errorf("nobody may %q", c)
		}
	}
	if err := os.Symlink(top, filepath.Join(top, "link")); err != nil {
		t.Fatal(err)
	}
	if err := tr.Protect(t.Context(), "link"); err == nil {
		t.Error("a link was followed")
	}
	if info, err := os.Stat(top); err != nil || info.Mode().Perm() != 0o777 {
		t.Errorf("where the link leads is now %v, %v", info.Mode(), err)
	}
}
