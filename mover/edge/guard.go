package edge

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/guard"
)

// A guard is a process that does nothing while its mover lives. It has the mover's listener open as well. When the mover is
// gone, it refuses what is read of stubs, which would be zeros, until another mover has taken over, or nothing is mounted there any more.

// Files that a guard is started with.
const (
	guardEvents = 3 // the listener
	guardAlive  = 4 // ends when the mover does
	guardReady  = 5 // closed when the guard is ready
)

// guardStarts is how long a guard may take to start and to end.
const guardStarts = 10 * time.Second

// newGuardSocket is a name for the socket that a guard is ended by. The number of the process would not do: a mover that was updated has
// that of the mover before it.
func newGuardSocket() string { return "guard-" + rand.Text()[:8] + ".sock" }

// startGuard starts the guard of a listener with a command, to which the file of the edges and the path of its socket, beside that file,
// are added. It returns what must stay open for as long as the mover lives.
func startGuard(l *Listener, command []string, state, socket string) (alive io.Closer, err error) {
	ends, alive, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer ends.Close()
	started, ready, err := os.Pipe()
	if err != nil {
		return alive, err
	}
	defer started.Close()
	defer ready.Close()
	events, err := l.duplicate()
	if err != nil {
		return alive, err
	}
	defer events.Close()
	cmd := exec.Command(command[0], append(slices.Clone(command[1:]), state, filepath.Join(filepath.Dir(state), socket))...)
	cmd.ExtraFiles, cmd.Stderr = []*os.File{events, ends, ready}, os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // what ends our group leaves it
	if err := cmd.Start(); err != nil {
		return alive, err
	}
	guard.Go(func() { _ = cmd.Wait() })
	ready.Close()
	if err := started.SetReadDeadline(time.Now().Add(guardStarts)); err != nil {
		return alive, err
	}
	if n, err := started.Read(make([]byte, 1)); n == 0 {
		return alive, fmt.Errorf("the guard of the stubs does not start: %w", err)
	}
	return alive, nil
}

// duplicate opens the listener's file once more.
func (l *Listener) duplicate() (f *os.File, err error) {
	raw, err := l.events.SyscallConn()
	if err != nil {
		return nil, err
	}
	var fd int
	if bad := raw.Control(func(own uintptr) { fd, err = unix.FcntlInt(own, unix.F_DUPFD_CLOEXEC, 0) }); bad != nil || err != nil {
		return nil, errors.Join(bad, err)
	}
	return os.NewFile(uintptr(fd), "fanotify"), nil
}

// EndGuards ends the guards of movers that kept their state in a folder, except the one with a socket; "" excepts none.
func EndGuards(ctx context.Context, state, except string) error {
	sockets, err := filepath.Glob(filepath.Join(state, "guard-*.sock"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, guardStarts)
	defer cancel()
	for _, socket := range sockets {
		if filepath.Base(socket) == except {
			continue
		}
		conn, err := new(net.Dialer).DialContext(ctx, "unix", socket)
		if err == nil {
			_, _ = conn.Read(make([]byte, 1)) // it ends with the guard
			conn.Close()
		}
		if err := os.Remove(socket); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Guard is the work of a guard, with the files that it was started with. state is the file of the edges. It returns when
// somebody connects to its socket, or the mover is gone and no edge is mounted any more. The process must end then.
func Guard(ctx context.Context, state, socket string) error {
	ended, err := net.Listen("unix", socket)
	if err != nil {
		return err
	}
	defer ended.Close()
	alive, ready := os.NewFile(guardAlive, "alive"), os.NewFile(guardReady, "ready")
	if _, err := ready.Write([]byte{1}); err != nil {
		return err
	}
	ready.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var called net.Conn // ends with the process and not before: until then stubs are refused
	guard.Go(func() {
		defer cancel()
		called, _ = ended.Accept()
	})
	guard.Go(func() {
		defer cancel()
		_, _ = alive.Read(make([]byte, 1))
		guard.Go(func() { refuseStubs(ctx) })
		if err := awaitUnmounted(state); err != nil {
			slog.Error("the guard cannot tell whether its volumes are still mounted", "error", err)
			<-ctx.Done()
		}
	})
	<-ctx.Done()
	runtime.KeepAlive(&called)
	return nil
}

// refuseStubs answers in the place of a mover that is gone.
func refuseStubs(ctx context.Context) {
	l, err := listenOn(guardEvents)
	if err != nil {
		slog.Error("stubs are not guarded", "error", err)
		return
	}
	l.refuses = true
	// What the mover was told of and has not answered is known by numbers that only it knew.
	for fd := range int32(guardNumbers) {
		l.reply(fd, unix.EIO)
	}
	if err := l.Serve(ctx); err != nil {
		slog.Error("stubs are not guarded any more", "error", err)
	}
}

// guardNumbers is how many files a mover may have had open.
const guardNumbers = 1 << 16

// awaitUnmounted returns when none of the edges is on a volume of its own any more. The kernel tells of changes of the
// mounts (proc_pid_mounts(5)).
func awaitUnmounted(state string) error {
	mounts, err := os.Open("/proc/self/mounts")
	if err != nil {
		return err
	}
	defer mounts.Close()
	for anyMounted(state) {
		asked := []unix.PollFd{{Fd: int32(mounts.Fd()), Events: unix.POLLPRI}}
		if _, err := unix.Poll(asked, -1); err != nil && !errors.Is(err, unix.EINTR) {
			return err
		}
	}
	return nil
}

// anyMounted reports whether an edge is on another volume than the system. What cannot be told counts as mounted.
func anyMounted(state string) bool {
	list, err := readEdges(state)
	system, bad := deviceOf("/")
	if err != nil || bad != nil {
		return true
	}
	for _, e := range list {
		if device, err := deviceOf(e.Path); err == nil && device != system {
			return true
		}
	}
	return false
}
