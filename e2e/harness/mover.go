package harness

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/mover/host"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/process"
	"bridgespan/standin/standintest"
	"bridgespan/tree/remote"
)

// Mover is a running mover that serves one folder, beds.
type Mover struct {
	Folder      string // on this host
	Address     string
	Port        int
	Fingerprint string
	Secret      string

	// Beside is the file service for which it keeps fronts, if any.
	Beside *fileserver.Server

	// Program is what it was started with; that of the service when empty.
	Program string

	state   string
	more    []string // what else it is started with
	process *process.Process
}

// StartFrontHost starts a host for fronts: a file server, and a mover beside it.
func StartFrontHost(t testing.TB, name string) *Mover {
	t.Helper()
	return startMover(t, standintest.FrontServer(t, name), t.TempDir())
}

// StartMover starts a mover.
func StartMover(t testing.TB) *Mover { return startMover(t, nil, t.TempDir()) }

// StartMoverOf starts a mover of another program than the service's.
func StartMoverOf(t testing.TB, program string) *Mover {
	return beginMover(t, &Mover{Folder: t.TempDir(), Program: program})
}

// Log is what the mover has written.
func (m *Mover) Log(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(m.state, "log"))
	if err != nil {
		t.Error(err)
	}
	return string(text)
}

// StartMoverAt starts a mover that serves a folder.
func StartMoverAt(t testing.TB, folder string) *Mover { return startMover(t, nil, folder) }

// StartMoverBesideSamba starts a mover of a program that serves a folder which Samba shares as well.
func StartMoverBesideSamba(t testing.TB, program, folder string, more ...string) *Mover {
	return beginMover(t, &Mover{Folder: folder, Program: program, more: append(more, "--samba", "beds")})
}

func startMover(t testing.TB, beside *fileserver.Server, folder string, more ...string) *Mover {
	return beginMover(t, &Mover{Folder: folder, Beside: beside, more: more})
}

func beginMover(t testing.TB, m *Mover) *Mover {
	t.Helper()
	m.Address, m.state = "127.0.0.1", t.TempDir()
	if m.Beside != nil {
		m.Address = m.Beside.Address // people's machines find the file service there
	}
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
	cmd := exec.Command(cmp.Or(m.Program, Program(t, "bspand")), "mover", "--listen", m.HostPort(), "--state-dir", m.state, "--folder", "beds="+m.Folder)
	cmd.Args = append(cmd.Args, m.more...)
	if m.Beside != nil {
		cmd.Args = append(cmd.Args, "--fronts", m.Beside.FrontsFolder(), "--file-service", m.Beside.Configuration())
	}
	p, err := process.Start("mover", cmd, filepath.Join(m.state, "log"))
	if err != nil {
		t.Fatal(err)
	}
	m.process = p
	t.Cleanup(func() {
		p.Stop(15 * time.Second)
		if err := edge.EndGuards(context.Background(), m.state, ""); err != nil {
			t.Error(err)
		}
	})
	ready := func() error {
		h, err := m.dial(time.Second)
		if err == nil {
			h.Close()
		}
		return err
	}
	if err := p.Await(ready, 20*time.Second); err != nil {
		t.Fatal(err)
	}
}

func (m *Mover) dial(timeout time.Duration) (*remote.Host, error) {
	h, _, err := remote.Dial(context.Background(), remote.Target{Address: m.HostPort(), Secret: m.Secret, Fingerprint: m.Fingerprint, Timeout: timeout})
	return h, err
}

// Edge is what the mover says of its folder as an edge.
func (m *Mover) Edge(t testing.TB) edge.Status {
	t.Helper()
	h, err := m.dial(10 * time.Second)
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	status, err := edge.Client{Caller: h, Folder: "beds"}.Look(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return status
}

// Kill ends a mover at once.
func (m *Mover) Kill() { m.process.Kill() }

func (m *Mover) HostPort() string { return net.JoinHostPort(m.Address, fmt.Sprint(m.Port)) }

// NewServer asks for the mover's host to be added under a name.
func (m *Mover) NewServer(name, site string) model.NewServer {
	return model.NewServer{Name: name, Site: site, Address: m.Address, Port: m.Port, Certificate: m.Fingerprint, Password: m.Secret}
}
