package process

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// EndLeftovers ends the servers that an earlier start below dir left running
// because it was killed itself. They are known by dir in their command line.
// The caller must hold whatever keeps a second start out of dir.
func EndLeftovers(dir string) {
	places := []string{dir}
	if target, err := os.Readlink(filepath.Join(dir, "servers")); err == nil {
		places = append(places, target)
	}
	var ended []int
	running, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return
	}
	for _, file := range running {
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		args, readErr := os.ReadFile(file)
		if err != nil || readErr != nil || pid == os.Getpid() || !isServer(args) {
			continue
		}
		for _, place := range places {
			if bytes.Contains(args, []byte(place+"/")) {
				_ = syscall.Kill(pid, syscall.SIGKILL)
				ended = append(ended, pid)
			}
		}
	}
	awaitGone(ended)
}

// awaitGone waits until processes that were killed hold nothing any more.
func awaitGone(pids []int) {
	deadline := time.Now().Add(10 * time.Second)
	for _, pid := range pids {
		for time.Now().Before(deadline) {
			// A zombie has no command line, and holds no port.
			args, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
			if err != nil || len(args) == 0 {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
}

// isServer recognises the programs that are ever started here.
func isServer(args []byte) bool {
	program, _, _ := bytes.Cut(args, []byte{0})
	switch filepath.Base(string(program)) {
	case "mariadbd", "smbd", "winbindd", "samba-dcerpcd":
		return true
	case "bspand":
		return bytes.Contains(args, []byte("\x00serve\x00"))
	}
	return false
}
