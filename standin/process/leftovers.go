package process

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// goneMost bounds how long a killed process may take to be gone.
const goneMost = 10 * time.Second

// EndLeftovers ends the servers that an earlier start below dir left running
// because it was killed itself, and waits until they are gone. The caller must
// hold whatever keeps a second start out of dir.
func EndLeftovers(dir string) {
	servers := []string{"mariadbd", "samba", "smbd", "winbindd", "samba-dcerpcd", "rpcd_", "bspand"}
	End(dir, servers...)
	if target, err := os.Readlink(filepath.Join(dir, "servers")); err == nil {
		End(target, servers...)
	}
}

// End ends the processes that run one of the programs (named in full, or up to
// a final underscore) and have a file below dir in their command line, or open,
// and waits until they are gone. It looks again until there are none: some were
// just starting others.
func End(dir string, programs ...string) {
	for round := 0; round < mostRounds && endOnce(dir, programs); round++ {
	}
}

// mostRounds bounds how often processes are looked for that start others.
const mostRounds = 20

// endOnce ends those that it sees, and reports whether there were any.
func endOnce(dir string, programs []string) bool {
	var ended []int
	each(func(pid int, args []byte) {
		if pid != os.Getpid() && runs(args, programs) && works(pid, args, dir) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
			ended = append(ended, pid)
		}
	})
	await(func() bool {
		for _, pid := range ended {
			if _, alive := groupOf(pid); alive {
				return false
			}
		}
		return true
	})
	return len(ended) > 0
}

// works reports whether a process works below dir. Some programs write another
// title over their command line; what they have open still tells.
func works(pid int, args []byte, dir string) bool {
	return bytes.Contains(args, []byte(dir+"/")) || HasOpen(pid, dir)
}

// HasOpen reports whether a process has a file below dir open.
func HasOpen(pid int, dir string) bool {
	files, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", pid))
	if err != nil {
		return false
	}
	for _, file := range files {
		if target, err := os.Readlink(file); err == nil && strings.HasPrefix(target, dir+"/") {
			return true
		}
	}
	return false
}

// each looks at every process. One that is ending has no command line any more.
func each(look func(pid int, args []byte)) {
	files, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return
	}
	for _, file := range files {
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if args, readErr := os.ReadFile(file); err == nil && readErr == nil {
			look(pid, args)
		}
	}
}

// runs reports whether a command line is that of one of the programs. bspand
// counts only as a service or a mover: the demo itself goes by the same name.
func runs(args []byte, programs []string) bool {
	first, _, _ := bytes.Cut(args, []byte{0})
	title, _, _ := strings.Cut(string(first), ":") // "samba: root process"
	name := filepath.Base(title)
	for _, program := range programs {
		if name == program || strings.HasSuffix(program, "_") && strings.HasPrefix(name, program) {
			return name != "bspand" || bytes.Contains(args, []byte("\x00serve\x00")) || bytes.Contains(args, []byte("\x00mover\x00"))
		}
	}
	return false
}

// awaitGroup waits until no process of a group runs any more; zombies, which
// somebody else must collect, do not count.
func awaitGroup(group int) {
	await(func() bool {
		empty := true
		each(func(pid int, _ []byte) {
			if its, alive := groupOf(pid); alive && its == group {
				empty = false
			}
		})
		return empty
	})
}

// groupOf is the group of a process that is alive. One that is being killed is,
// until it has let go of its files and listeners: only then it is a zombie.
func groupOf(pid int) (group int, alive bool) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, false
	}
	// After the name in brackets: state, parent, group (proc(5)).
	fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
	if len(fields) < 3 || string(fields[0]) == "Z" || string(fields[0]) == "X" {
		return 0, false
	}
	group, err = strconv.Atoi(string(fields[2]))
	return group, err == nil
}

func await(done func() bool) {
	for deadline := time.Now().Add(goneMost); !done() && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond) // the kernel tells nobody but the parent
	}
}
