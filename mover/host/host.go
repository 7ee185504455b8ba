// Package host is the mover as a program of its own: it serves folders of the
// host that it runs on to a Bridge Span service, which then needs no SMB server
// there. What it needs beside the folders, an authority for its certificates and
// its secret, it makes at its first start and keeps.
package host

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bridgespan/certificate"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/mover/edge"
	"bridgespan/mover/front"
	"bridgespan/mover/update"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/folder"
	"bridgespan/tree/remote"
)

// Config is how a mover runs.
type Config struct {
	Listen  string   // address and port
	State   string   // folder of what it keeps
	Folders []string // each as NAME=PATH
	// Samba are the names of those that Samba shares as well. See [folder.OfSamba].
	Samba []string
	// Fronts is the folder below which fronts are kept, for the file service with the
	// configuration in FileService; empty where none are.
	Fronts, FileService string
	// Guard is the command of the process that keeps stubs from being read while no mover runs;
	// nil starts none. See [edge.Guard].
	Guard []string
	// FillOn is an [edge.Trigger]: the access that fills stubs.
	FillOn string
	// Proxy is the HTTP proxy of this host to buckets, or [edge.NoProxy]; "" goes by the settings of the service.
	// ProxyPassword is that of the user that it names.
	Proxy, ProxyPassword string
	// Version is that of the program.
	Version string
	// Updates receives updates of the program; nil where it is not replaced.
	Updates *update.Updater
}

// Files in the folder of what it keeps.
const SecretFile = "mover.secret"

// secretWords make the secret long enough that nobody guesses it.
const secretWords = 2

// Mover is a mover that listens.
type Mover struct {
	// Fingerprint is that of the authority that vouches for its certificates.
	Fingerprint string
	SecretFile  string

	listener net.Listener
	handler  *remote.Handler
	folders  []*folder.Tree
	edges    edge.Keeper
	updates  *update.Updater
}

// Open opens the folders and listens. The caller must call Serve or Close.
func Open(c Config) (*Mover, error) {
	id, err := identify(c.State)
	if err != nil {
		return nil, err
	}
	m := &Mover{Fingerprint: id.authority.Fingerprint(), SecretFile: filepath.Join(c.State, SecretFile)}
	program, err := update.Running()
	if err != nil {
		return nil, err
	}
	m.handler = &remote.Handler{Name: id.name, Secret: id.secret, Version: c.Version, Build: program.Digest}
	if c.Updates != nil {
		m.updates, m.handler.Updates = c.Updates, c.Updates
		m.handler.UpdateStatus = m.updateStatus
	}
	if c.Proxy != "" && c.Proxy != edge.NoProxy {
		u, err := bucket.ParseProxy(c.Proxy, c.ProxyPassword)
		if err == nil && u.User.Username() != "" && c.ProxyPassword == "" {
			err = errors.New("the password of its user is missing")
		}
		if err != nil {
			return nil, fmt.Errorf("proxy: %w; write it as http://HOST:PORT, as http://USER@HOST:PORT with --proxy-password-file, or none", err)
		}
	}
	trigger, err := edge.ParseTrigger(c.FillOn)
	if err != nil {
		return nil, fmt.Errorf("fill-on: %w", err)
	}
	m.edges = edge.Keeper{State: filepath.Join(c.State, "edges.json"), Folders: map[string]string{}, Guard: c.Guard, Trigger: trigger, Proxy: c.Proxy, ProxyPassword: c.ProxyPassword}
	if err := errors.Join(m.openFolders(c.Folders, c.Samba, c.Fronts != ""), m.openFronts(c)); err != nil {
		m.Close()
		return nil, err
	}
	m.handler.Edges = edge.Handler(&m.edges)
	if err := m.edges.Open(context.Background()); err != nil { // a folder that is not mounted yet must not keep the others away
		slog.Error("not all edges are watched: reading a stub there shows zeros until the mover is started again", "error", err)
	}
	address, _, err := net.SplitHostPort(c.Listen)
	if err == nil {
		m.listener, err = tls.Listen("tcp", c.Listen, &tls.Config{MinVersion: tls.VersionTLS13, GetCertificate: id.authority.Server(id.name, address), NextProtos: []string{"h2", "http/1.1"}})
	}
	if err != nil {
		m.Close()
		return nil, fmt.Errorf("listen: %w", err)
	}
	return m, nil
}

// identity is what a mover is known by, and knows its service by.
type identity struct {
	name      string
	authority *certificate.Authority
	secret    string
}

// identify reads an identity, and makes one at the first start.
func identify(state string) (id identity, err error) {
	if err := os.MkdirAll(state, 0o700); err != nil {
		return id, err
	}
	if id.name, err = os.Hostname(); err != nil {
		return id, err
	}
	if id.authority, _, err = certificate.Open(state, "Bridge Span mover at "+id.name, id.name); err != nil {
		return id, err
	}
	id.secret, err = readSecret(filepath.Join(state, SecretFile))
	return id, err
}

// Identity tells the fingerprint and the secret of the mover that keeps them in a
// folder, also before its first start.
func Identity(state string) (fingerprint, secret string, err error) {
	id, err := identify(state)
	if err != nil {
		return "", "", err
	}
	return id.authority.Fingerprint(), id.secret, nil
}

// readSecret reads the secret, and makes one at the first start.
func readSecret(file string) (string, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		var made strings.Builder
		for range secretWords {
			made.WriteString(rand.Text())
		}
		return made.String(), os.WriteFile(file, []byte(made.String()+"\n"), 0o600)
	}
	secret := strings.TrimSpace(string(text))
	if err == nil && len(secret) < 20 {
		err = fmt.Errorf("%s: a secret of at least 20 letters is needed; without the file one is made", file)
	}
	return secret, err
}

// openFronts makes ready to keep fronts, if any are to be kept.
func (m *Mover) openFronts(c Config) error {
	m.handler.Fronts = front.Handler(nil)
	switch {
	case c.Fronts == "" && c.FileService == "":
		return nil
	case c.Fronts == "" || c.FileService == "":
		return errors.New("fronts, file-service: each needs the other one")
	}
	keeper, err := front.Open(c.Fronts, filepath.Join(c.State, "fronts"), c.FileService)
	if err != nil {
		return fmt.Errorf("fronts: %w", err)
	}
	for _, f := range m.handler.Folders {
		if inside, err := filepath.Rel(f.Path, keeper.Folder); err == nil && filepath.IsLocal(inside) {
			return fmt.Errorf("fronts: %s is in the folder %s, which is served", keeper.Folder, f.Name)
		}
	}
	m.handler.Fronts = front.Handler(keeper)
	return nil
}

func (m *Mover) openFolders(list, samba []string, others bool) error {
	if len(list) == 0 && !others {
		return errors.New("folder: at least one is needed, as NAME=PATH")
	}
	seen := map[string]bool{}
	for _, text := range list {
		name, path, ok := strings.Cut(text, "=")
		if !ok || path == "" {
			return fmt.Errorf("folder: %q is not NAME=PATH", text)
		}
		if err := namespace.CheckElement("folder", name); err != nil {
			return err
		}
		if key := namespace.Key(name); seen[key] {
			return fmt.Errorf("folder: two are called %q", name)
		} else {
			seen[key] = true
		}
		full, err := filepath.Abs(path)
		if err != nil {
			return err
		}
		t, err := folder.OpenShared(full, keepingOf(name, samba))
		if err != nil {
			return fmt.Errorf("folder %s: %w", name, err)
		}
		m.edges.Folders[name] = full
		t.FetchWith(m.edges.Fetcher(name))
		m.folders = append(m.folders, t)
		m.handler.Folders = append(m.handler.Folders, remote.Served{
			Name: name, Path: full, Tree: t, Sub: t.Sub,
			Upload: func(ctx context.Context, sub string, t tree.Tree, u *tree.Upload) (tree.Uploaded, error) {
				return m.edges.Upload(ctx, name, sub, t, u)
			},
		})
		if !t.Capabilities().Descriptors {
			slog.Warn("the file system has no extended attributes: permissions are not kept", "folder", name, "path", full)
		}
	}
	for _, name := range samba {
		if !seen[namespace.Key(name)] {
			return fmt.Errorf("samba: %q is none of the folders", name)
		}
	}
	return nil
}

// keepingOf is how a folder keeps permissions: as Samba does, or as is usual.
func keepingOf(name string, samba []string) *folder.Keeping {
	if slices.ContainsFunc(samba, func(s string) bool { return namespace.Key(s) == namespace.Key(name) }) {
		return folder.OfSamba
	}
	return nil
}

// Address is where it listens.
func (m *Mover) Address() string { return m.listener.Addr().String() }

// How long is waited for a caller: for its first words, and for calls to end when
// the mover does.
const (
	helloMost = 10 * time.Second
	idleMost  = 10 * time.Minute // of a connection on which nothing is under way
	endMost   = 10 * time.Second
)

// Serve answers calls until ctx ends, and closes what was opened. It also ends when another program is in place: see [update.Updater].
func (m *Mover) Serve(ctx context.Context) error {
	defer m.Close()
	server := &http.Server{Handler: guard.Handler(m.handler), ReadHeaderTimeout: helloMost, IdleTimeout: idleMost, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	ended := guard.Result(func() error { return server.Serve(m.listener) })
	select {
	case err := <-ended:
		return err
	case <-m.replaced():
	case <-ctx.Done():
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), endMost)
	defer cancel()
	if err := server.Shutdown(last); err != nil {
		return server.Close() // who watches never ends by itself
	}
	return nil
}

// updateStatus is asked for by the service: a new program that got so far is kept.
func (m *Mover) updateStatus() (unable, reverted string) {
	if err := m.updates.Serves(); err != nil {
		slog.Error("the state of the latest update cannot be stored", "error", err)
	}
	s := m.updates.Status()
	return s.Unable, s.Reverted
}

// replaced is closed when another program is in place.
func (m *Mover) replaced() <-chan struct{} {
	if m.updates == nil {
		return nil
	}
	return m.updates.Restart()
}

// Close closes what was opened.
func (m *Mover) Close() {
	if m.listener != nil {
		m.listener.Close()
	}
	m.handler.Close()
	m.edges.Close()
	for _, t := range m.folders {
		t.Close()
	}
}
