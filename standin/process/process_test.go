package process

import (
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

func startShell(t *testing.T, script string) *Process {
	t.Helper()
	p, err := Start("shell", exec.Command("/bin/sh", "-c", script), filepath.Join(t.TempDir(), "log"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Kill)
	return p
}

// Stopping ends the children too, even those that do not listen.
func TestStopEndsChildren(t *testing.T) {
	file := filepath.Join(t.TempDir(), "child")
	p := startShell(t, "trap '' TERM; sleep 600 & echo $! > "+file+"; wait; wait")
	if err := p.Await(func() error { _, err := os.Stat(file); return err }, 10*time.Second); err != nil {
		t.Fatal(err)
	}
	text := ""
	if err := p.Await(func() error {
		b, err := os.ReadFile(file)
		if text = strings.TrimSpace(string(b)); err == nil && text == "" {
			err = errors.New("not written yet")
		}
		return err
	}, 10*time.Second); err != nil {
		t.Fatal(err)
	}
	p.Stop(50 * time.Millisecond)
	if args, err := os.ReadFile("/proc/" + text + "/cmdline"); err == nil && len(args) > 0 {
		t.Errorf("the child still runs: %q", args)
	}
}

func TestAwait(t *testing.T) {
	never := func() error { return errors.New("not yet") }
	p := startShell(t, "sleep 600")
	if err := p.Await(never, 50*time.Millisecond); err == nil || !strings.Contains(err.Error(), "not ready") {
		t.Errorf("awaiting what never comes: %v", err)
	}
	gone := startShell(t, "exit 3")
	if err := gone.Await(never, 20*time.Second); err == nil || !strings.Contains(err.Error(), "ended before") {
		t.Errorf("awaiting what ended: %v", err)
	}
	if _, err := Start("nothing", exec.Command("no-such-program-here"), filepath.Join(t.TempDir(), "log")); err == nil || !strings.Contains(err.Error(), "not installed") {
		t.Errorf("starting what is not installed: %v", err)
	}
}

func TestCheckFree(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if err := CheckFree("the console", l.Addr().String()); err == nil || !strings.Contains(err.Error(), "the console needs "+l.Addr().String()) {
		t.Errorf("a port that is taken: %v", err)
	}
	l.Close()
	if err := CheckFree("the console", l.Addr().String()); err != nil {
		t.Errorf("a port that is free: %v", err)
	}
}

// Leftovers are the servers below a folder, and nothing else is touched.
func TestEndLeftovers(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	run := func(program, argument string) *exec.Cmd {
		t.Helper()
		file := filepath.Join(t.TempDir(), program)
		sleep, err := exec.LookPath("sleep")
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(sleep, file); err != nil {
			t.Fatal(err)
		}
		cmd := &exec.Cmd{Path: file, Args: []string{file, "600"}}
		if argument != "" { // the shell keeps the arguments in its command line
			cmd = &exec.Cmd{Path: "/bin/sh", Args: []string{program, "-c", "sleep 600; :", argument}}
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = cmd.Process.Kill(); _, _ = cmd.Process.Wait() })
		return cmd
	}
	leftover := run("smbd", dir+"/smb.conf")
	elsewhere := run("smbd", other+"/smb.conf")
	stranger := run("editor", dir+"/notes")
	EndLeftovers(dir)
	alive := func(c *exec.Cmd) bool {
		args, err := os.ReadFile("/proc/" + strconv.Itoa(c.Process.Pid) + "/cmdline")
		return err == nil && len(args) > 0 && c.Process.Signal(syscall.Signal(0)) == nil
	}
	if alive(leftover) {
		t.Error("the leftover still runs")
	}
	if !alive(elsewhere) || !alive(stranger) {
		t.Error("something else was ended")
	}
}
