// Package fileserver runs private, real SMB file servers (Samba) on loopback,
// for the demo and the tests. Each keeps its state, its accounts and its data
// in one folder and leaves the host's own accounts and files alone.
package fileserver

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"bridgespan/standin/domain"
	"bridgespan/standin/process"
)

// Account is a private account of one server.
type Account struct {
	Name     string   `json:"name"`
	Password string   `json:"password"`
	RID      int      `json:"rid"` // last part of its SID; above 5000, since Samba counts up from 1000 itself
	Groups   []string `json:"groups,omitempty"`
	// Administrator makes it a member of BUILTIN\Administrators.
	Administrator bool `json:"administrator,omitempty"`
}

// Group is a private group of one server.
type Group struct {
	Name string `json:"name"`
	RID  int    `json:"rid"`
}

// Share is a shared folder of one server, below its data folder.
type Share struct {
	Name string `json:"name"`
	Note string `json:"note"`
	// Path is its folder below the data folder; that of its name when empty.
	Path string `json:"path,omitempty"`
}

// Config describes one server. All of it is fixed at its first start.
type Config struct {
	// Domain makes the server a member of a running domain; nil for a server
	// that stands alone. Accounts are those of the server itself either way.
	Domain *domain.Controller
	// Owner is who owns the folders of new shares: the last part of an account
	// of the domain, for a member.
	Owner    int
	Dir      string // holds everything
	Name     string // NetBIOS name
	Address  string // loopback address to listen on
	Port     int    // 0 chooses a free one
	SID      string // of the machine, S-1-5-21-…
	Accounts []Account
	Groups   []Group
	Shares   []Share
	// Signing makes the server refuse connections that are not signed.
	Signing bool
	// Encrypting makes the server refuse sessions that are not encrypted.
	Encrypting bool
	// Guests makes the server let accounts that it does not know in as guests, to all
	// its shares.
	Guests bool
	// Fronts makes the server include what a mover beside it writes about fronts.
	Fronts bool
}

// Configuration is the server's configuration file.
func (s *Server) Configuration() string { return s.path("smb.conf") }

// FrontsFolder is where a mover beside the server may keep fronts.
func (s *Server) FrontsFolder() string { return s.path("fronts") }

// Server is a running file server.
type Server struct {
	Config
	winbindd, smbd *process.Process
}

// Programs are the programs that it needs.
func Programs() []string { return []string{"smbd", "winbindd", "net", "pdbedit"} }

// Start starts a server, and sets it up first if its folder is new.
func Start(c Config) (*Server, error) {
	s := &Server{Config: c}
	if s.Port == 0 {
		port, err := process.FreePort(c.Address)
		if err != nil {
			return nil, err
		}
		s.Port = port
	}
	_, err := os.Stat(s.path("ready"))
	fresh := errors.Is(err, os.ErrNotExist)
	if fresh {
		if err := s.prepare(); err != nil {
			return nil, fmt.Errorf("set up file server %s: %w", s.Name, err)
		}
	}
	if err := s.writeConf(); err != nil {
		return nil, err
	}
	if fresh {
		if err := s.writeShares(); err != nil {
			return nil, err
		}
	}
	for name, script := range map[string]string{"share": shareScript, "user": userScript} {
		if err := os.WriteFile(s.path(name), []byte(script), 0o755); err != nil {
			return nil, err
		}
	}
	if fresh { // before winbindd starts, which learns it once
		if err := s.run("", "net", "-s", s.path("smb.conf"), "setlocalsid", s.SID); err != nil {
			return nil, err
		}
		// Whoever opens the accounts first puts a file of their present form in place of
		// theirs: with two at it at a time, what one adds would be lost.
		if err := s.run("", "pdbedit", "-s", s.path("smb.conf"), "-L"); err != nil {
			return nil, err
		}
		if err := s.join(); err != nil {
			return nil, err
		}
	}
	if err := s.startWinbind(); err != nil {
		return nil, err
	}
	if fresh {
		if err := s.makeAccounts(); err != nil {
			s.Stop()
			return nil, fmt.Errorf("make the accounts of file server %s: %w", s.Name, err)
		}
	}
	if err := s.Restart(); err != nil {
		s.Stop()
		return nil, err
	}
	return s, os.WriteFile(s.path("ready"), nil, 0o600)
}

// HostPort is where the server listens.
func (s *Server) HostPort() string { return net.JoinHostPort(s.Address, strconv.Itoa(s.Port)) }

// SharePath is the folder of the host behind a share.
func (s *Server) SharePath(share string) string {
	for _, h := range s.Shares {
		if h.Name == share && h.Path != "" {
			return s.path(filepath.Join("data", h.Path))
		}
	}
	return s.path("data/" + share)
}

func (s *Server) path(name string) string { return filepath.Join(s.Dir, name) }

func (s *Server) startWinbind() error {
	cmd := s.command("winbindd", "-F", "--no-process-group", "-s", s.path("smb.conf"), "-l", s.path("log"))
	p, err := process.Start("winbindd of "+s.Name, cmd, s.path("log/winbindd.out"))
	if err != nil {
		return err
	}
	s.winbindd = p
	ready := func() error { _, err := os.Stat(s.path("wb/pipe")); return err }
	return p.Await(ready, 20*time.Second)
}

// Restart starts the file service again after Halt.
func (s *Server) Restart() error {
	if err := process.CheckFree("file server "+s.Name, s.HostPort()); err != nil {
		return err
	}
	// The folder of the logs is handed on to the helpers that smbd starts.
	cmd := s.command("smbd", "-F", "--no-process-group", "-s", s.path("smb.conf"), "-l", s.path("log"))
	p, err := process.Start("smbd of "+s.Name, cmd, s.path("log/smbd.out"))
	if err != nil {
		return err
	}
	s.smbd = p
	if err := p.Await(process.Dial(s.HostPort()), 20*time.Second); err != nil {
		return fmt.Errorf("%w; its logs are in %s", err, s.path("log"))
	}
	// Otherwise permissions on shares set by anyone but root are silently not stored.
	_ = os.Chmod(s.path("state/share_info.tdb"), 0o666)
	return nil
}

// Halt ends the file service as a failing machine would: nothing answers on
// its address. Restart brings it back.
func (s *Server) Halt() {
	if s.smbd != nil {
		s.smbd.Kill()
		s.smbd = nil
	}
	s.endHelpers()
}

// Freeze makes the file service stand still, as a machine that has hung does: connections are taken, and
// nothing is said. Thaw lets it go on.
func (s *Server) Freeze() error { return s.smbd.Signal(syscall.SIGSTOP) }
func (s *Server) Thaw() error   { return s.smbd.Signal(syscall.SIGCONT) }

// Stop ends everything that the server started.
func (s *Server) Stop() {
	if s.smbd != nil {
		s.smbd.Stop(5 * time.Second)
		s.smbd = nil
	}
	s.endHelpers()
	if s.winbindd != nil {
		s.winbindd.Stop(5 * time.Second)
		s.winbindd = nil
	}
}

// endHelpers ends the RPC helpers, which outlive smbd, and children of it that
// were just becoming one.
func (s *Server) endHelpers() { process.End(s.Dir, "smbd", "samba-dcerpcd", "rpcd_") }

// command prepares a Samba program that sees the private accounts.
func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(),
		"LD_PRELOAD=libnss_wrapper.so",
		"NSS_WRAPPER_PASSWD="+s.path("passwd"),
		"NSS_WRAPPER_GROUP="+s.path("group"),
		"NSS_WRAPPER_MODULE_SO_PATH="+process.WinbindModule(),
		"NSS_WRAPPER_MODULE_FN_PREFIX=winbind",
		"SELFTEST_WINBINDD_SOCKET_DIR="+s.path("wb"))
	if s.Domain != nil { // later ones win
		cmd.Env = append(cmd.Env, s.Domain.Wrappers(s.Dir)...)
	}
	return cmd
}

// run runs a Samba program to its end, with input on its standard input.
func (s *Server) run(input, name string, args ...string) error {
	cmd := s.command(name, args...)
	cmd.Stdin = strings.NewReader(input)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}

// PID is the process id of smbd, or 0 while the server is halted.
func (s *Server) PID() int {
	if s.smbd == nil {
		return 0
	}
	return s.smbd.PID()
}
