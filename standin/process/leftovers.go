package process

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
)

// EndLeftovers ends the servers that an earlier start below dir left running
// because it was killed itself. They are known by dir in their command line.
// The caller must hold whatever keeps a second start out of dir.
func EndLeftovers(dir string) {
	places := []string{dir}
	if target, err := os.Readlink(filepath.Join(dir, "servers")); err == nil {
		places = append(places, target)
	}
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
			}
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
