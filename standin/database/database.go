// Package database runs a private MariaDB server on loopback, for the demo and
// the tests. Its data, socket and password stay in one folder.
package database

import (
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"bridgespan/standin/process"
)

// Server is a running private MariaDB.
type Server struct {
	dir      string
	port     int
	password string
	process  *process.Process
}

// Programs are the programs that it needs.
func Programs() []string { return []string{"mariadbd", "mariadb-install-db"} }

// Start starts a server on the data in dir, and makes that first if there is none.
// port 0 chooses a free one.
func Start(dir string, port int) (*Server, error) {
	s := &Server{dir: dir, port: port}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	fresh, err := s.install()
	if err != nil {
		return nil, err
	}
	if s.port == 0 {
		if s.port, err = process.FreePort("127.0.0.1"); err != nil {
			return nil, err
		}
	}
	if err := s.run(fresh); err != nil {
		return nil, err
	}
	return s, nil
}

func (s *Server) path(name string) string { return filepath.Join(s.dir, name) }

// install makes the data folder and the password, and reports whether it did.
func (s *Server) install() (bool, error) {
	known, err := os.ReadFile(s.path("password"))
	if err == nil {
		s.password = strings.TrimSpace(string(known))
		return false, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	if err := os.MkdirAll(s.path("tmp"), 0o700); err != nil {
		return false, err
	}
	install := exec.Command("mariadb-install-db", "--no-defaults", "--datadir="+s.path("data"),
		"--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve")
	// Temporary tables of its own: in a shared folder two servers may choose the same names.
	install.Env = append(os.Environ(), "TMPDIR="+s.path("tmp"))
	out, err := install.CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		return false, errors.New("MariaDB is not installed: run `make setup` as root")
	}
	if err != nil {
		return false, fmt.Errorf("make the database: %w: %s", err, out)
	}
	s.password = rand.Text()
	return true, nil
}

func (s *Server) run(fresh bool) error {
	args := []string{"--no-defaults", "--datadir=" + s.path("data"), fmt.Sprintf("--port=%d", s.port),
		"--bind-address=127.0.0.1", "--socket=" + s.path("socket"), "--pid-file=" + s.path("pid"), "--tmpdir=" + s.path("tmp"),
		"--skip-name-resolve", "--local-infile=1", "--character-set-server=utf8mb4", "--innodb-buffer-pool-size=256M"}
	if os.Geteuid() == 0 {
		args = append(args, "--user=root")
	}
	if fresh {
		start := fmt.Sprintf("ALTER USER root@localhost IDENTIFIED BY '%s';\nCREATE USER IF NOT EXISTS bspan@'127.0.0.1' IDENTIFIED BY '%[1]s';\n"+
			"GRANT ALL ON `bridgespan%%`.* TO bspan@'127.0.0.1';\nCREATE DATABASE bridgespan CHARACTER SET utf8mb4;\n", s.password)
		if err := os.WriteFile(s.path("first-start.sql"), []byte(start), 0o600); err != nil {
			return err
		}
		defer os.Remove(s.path("first-start.sql"))
		args = append(args, "--init-file="+s.path("first-start.sql"))
	}
	p, err := process.Start("MariaDB", exec.Command("mariadbd", args...), s.path("log"))
	if err != nil {
		return err
	}
	// The server listens before it has worked through its first statements, so
	// that only a sign-in shows that it is ready.
	if err := p.Await(s.ping, 60*time.Second); err != nil {
		p.Stop(5 * time.Second)
		return fmt.Errorf("%w; its log is %s", err, s.path("log"))
	}
	s.process = p
	if fresh {
		return os.WriteFile(s.path("password"), []byte(s.password+"\n"), 0o600)
	}
	return nil
}

// DSN is the data source name of a database on this server, for database/sql.
func (s *Server) DSN(name string) string {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.DBName = "bspan", s.password, name
	c.Net, c.Addr = "tcp", fmt.Sprintf("127.0.0.1:%d", s.port)
	return c.FormatDSN()
}

// ping signs in.
func (s *Server) ping() error {
	db, err := sql.Open("mysql", s.DSN("bridgespan"))
	if err != nil {
		return err
	}
	defer db.Close()
	return db.Ping()
}

// PID is the number of its process.
func (s *Server) PID() int { return s.process.PID() }

// Port is the TCP port on 127.0.0.1.
func (s *Server) Port() int { return s.port }

// Kill ends the server without warning, as a power cut would.
func (s *Server) Kill() { s.process.Kill() }

// Restart starts the server again on the same port after Kill or Stop.
func (s *Server) Restart() error { return s.run(false) }

// Stop ends the server.
func (s *Server) Stop() { s.process.Stop(20 * time.Second) }
