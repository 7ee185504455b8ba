package harness

import (
	"context"
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bridgespan/model"
	"bridgespan/mover/host"
	"bridgespan/standin/process"
	"bridgespan/tree/remote"
)

// Mover is a running mover that serves one folder, beds.
type Mover struct {
	Folder      string // on this host
	Address     string
	Port        int
	Fingerprint string
	Secret      string

	state   string
	process *process.Process
}

// StartMover starts a mover.
func StartMover(t testing.TB) *Mover {
	t.Helper()
	m := &Mover{Folder: t.TempDir(), Address: "127.0.0.1", state: t.TempDir()}
	var err error
	if m.Fingerprint, m.Secret, err = host.Identity(m.state); err != nil {
		t.Fatal(err)
	}
	if m.Port, err = process.FreePort(m.Address); err != nil {
		t.Fatal(err)
	}
	m.Start(t)
	return m
}

// Start starts a mover, again after it was killed.
func (m *Mover) Start(t testing.TB) {
	t.Helper()
	cmd := exec.Command(Program(t, "bspand"), "mover", "--listen", m.HostPort(), "--state-dir", m.state, "--folder", "beds="+m.Folder)
	p, err := process.Start("mover", cmd, filepath.Join(m.state, "log"))
	if err != nil {
		t.Fatal(err)
	}
	m.process = p
	t.Cleanup(func() { p.Stop(15 * time.Second) })
	ready := func() error {
		h, _, err := remote.Dial(context.Background(), remote.Target{Address: m.HostPort(), Secret: m.Secret, Fingerprint: m.Fingerprint, Timeout: time.Second})
		if err == nil {
			h.Close()
		}
		return err
	}
	if err := p.Await(ready, 20*time.Second); err != nil {
		t.Fatal(err)
	}
}

// Kill ends a mover at once.
func (m *Mover) Kill() { m.process.Kill() }

func (m *Mover) HostPort() string { return net.JoinHostPort(m.Address, fmt.Sprint(m.Port)) }

// NewServer asks for the mover's host to be added under a name.
func (m *Mover) NewServer(name, site string) model.NewServer {
	return model.NewServer{Name: name, Site: site, Address: m.Address, Port: m.Port, Certificate: m.Fingerprint, Password: m.Secret}
}
