// Package process runs the private servers that the demo and the tests bring
// up, so that each ends with all of its children and nothing else does.
package process

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"

	"bridgespan/guard"
)

// Process is a running server in a process group of its own.
type Process struct {
	name string
	cmd  *exec.Cmd
	done chan struct{}
}

// Start runs cmd in a process group of its own, with its output in the file log.
func Start(name string, cmd *exec.Cmd, log string) (*Process, error) {
	out, err := os.OpenFile(log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	if err := cmd.Start(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return nil, fmt.Errorf("%s is not installed: run `make setup` as root", cmd.Path)
		}
		return nil, fmt.Errorf("start %s: %w", name, err)
	}
	p := &Process{name: name, cmd: cmd, done: make(chan struct{})}
	guard.Go(func() {
		defer close(p.done)
		_ = cmd.Wait()
	})
	return p, nil
}

// PID is the process id, which is also the id of its group.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Done is closed when the process has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// Signal sends a signal to the process and all of its children.
func (p *Process) Signal(signal syscall.Signal) error { return syscall.Kill(-p.PID(), signal) }

// Stop ends the process and its children: by request, then by force after grace.
func (p *Process) Stop(grace time.Duration) {
	_ = p.Signal(syscall.SIGTERM)
	select {
	case <-p.done:
	case <-time.After(grace):
	}
	p.Kill()
}

// Kill ends the process and its children without warning.
func (p *Process) Kill() {
	_ = p.Signal(syscall.SIGKILL)
	<-p.done
	awaitGroup(p.PID())
}

// Await waits until ready returns nil, the process ends or timeout passes.
func (p *Process) Await(ready func() error, timeout time.Duration) error {
	deadline := time.After(timeout)
	for {
		err := ready()
		if err == nil {
			return nil
		}
		select {
		case <-p.done:
			return fmt.Errorf("%s ended before it was ready: %w", p.name, err)
		case <-deadline:
			return fmt.Errorf("%s is not ready after %s: %w", p.name, timeout, err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Dial is the readiness check of a server that listens on TCP.
func Dial(address string) func() error {
	return func() error {
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			conn.Close()
		}
		return err
	}
}

// Ports that FreePort gives away: below those that the kernel gives to
// connections. Programs that run side by side begin so far apart.
const (
	firstPort = 10_000
	lastPort  = 32_000
	portsEach = 251
)

var portsGiven atomic.Uint32

// FreePort finds a TCP port of host that nothing listens on. It is given to
// nobody else for long: until who asked for it listens there, a port that the
// kernel chose could be chosen again.
func FreePort(host string) (int, error) {
	const ports = lastPort - firstPort
	var err error
	for range portsEach {
		port := firstPort + (os.Getpid()*portsEach+int(portsGiven.Add(1)))%ports
		var l net.Listener
		if l, err = net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(port))); err == nil {
			return port, l.Close()
		}
	}
	return 0, fmt.Errorf("no free port at %s: %w", host, err)
}

// CheckFree returns an error in words when something else listens on address.
func CheckFree(what, address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("%s needs %s, and something else listens there (%w): end it, or choose another port", what, address, err)
	}
	return l.Close()
}

// WinbindModule is where Debian keeps the name-service module that asks
// winbindd, whatever the machine's architecture.
func WinbindModule() string {
	found, err := filepath.Glob("/lib/*/libnss_winbind.so.2")
	if err != nil || len(found) == 0 {
		return "libnss_winbind.so.2"
	}
	return found[0]
}
