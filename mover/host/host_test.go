package host_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bridgespan/mover/host"
	"bridgespan/tree"
	"bridgespan/tree/remote"
)

// run runs a mover until the test ends or stop is called.
func run(t *testing.T, c host.Config) (m *host.Mover, stop func()) {
	t.Helper()
	m, err := host.Open(c)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- m.Serve(ctx) }()
	stop = func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("the mover ended: %v", err)
		}
	}
	return m, stop
}

func targetOf(t *testing.T, m *host.Mover) remote.Target {
	t.Helper()
	secret, err := os.ReadFile(m.SecretFile)
	if err != nil {
		t.Fatal(err)
	}
	return remote.Target{Address: m.Address(), Secret: strings.TrimSpace(string(secret)), Fingerprint: m.Fingerprint, Timeout: 5 * time.Second}
}

// Whoever has the fingerprint and the secret reaches the folders, also after a
// restart; a mover that was made anew is a stranger.
func TestMover(t *testing.T) {
	state, files := t.TempDir(), t.TempDir()
	c := host.Config{Listen: "127.0.0.1:0", State: state, Folders: []string{"scans=" + files}}
	m, stop := run(t, c)
	known := targetOf(t, m)
	if info, err := os.Stat(m.SecretFile); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the secret's file: %v, %v", info.Mode(), err)
	}
	reach := func() error {
		h, info, err := remote.Dial(t.Context(), known)
		if err != nil {
			return err
		}
		defer h.Close()
		if len(info.Folders) != 1 || info.Folders[0].Path != files {
			t.Errorf("it serves %+v", info.Folders)
		}
		tr, err := h.Tree(t.Context(), "scans", "")
		if err == nil {
			_, err = tr.Put(t.Context(), "leaf.txt", strings.NewReader("green"), tree.PutOptions{Replace: true})
		}
		return err
	}
	if err := reach(); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(filepath.Join(files, "leaf.txt")); err != nil || string(text) != "green" {
		t.Errorf("on the host: %q, %v", text, err)
	}
	stop()
	if err := reach(); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("when it has ended: %v", err)
	}
	c.Listen = known.Address
	_, stop = run(t, c)
	if err := reach(); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	stop()
	c.State = t.TempDir()
	_, stop = run(t, c)
	if err := reach(); !errors.Is(err, remote.ErrStranger) {
		t.Errorf("one that was made anew: %v", err)
	}
	stop()
}

func TestRefusedConfigs(t *testing.T) {
	dir := t.TempDir()
	short := filepath.Join(t.TempDir(), "state")
	if err := os.MkdirAll(short, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(short, host.SecretFile), []byte("abc"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		config host.Config
		says   string
	}{
		{host.Config{Listen: "127.0.0.1:0"}, "at least one"},
		{host.Config{Listen: "127.0.0.1:0", Folders: []string{dir}}, "not NAME=PATH"},
		{host.Config{Listen: "127.0.0.1:0", Folders: []string{"a/b=" + dir}}, "a/b"},
		{host.Config{Listen: "127.0.0.1:0", Folders: []string{"a=" + dir, "A=" + dir}}, "two are called"},
		{host.Config{Listen: "127.0.0.1:0", Folders: []string{"a=" + dir + "/nowhere"}}, "folder a"},
		{host.Config{Listen: "127.0.0.1:0", Folders: []string{"a=" + dir}, Samba: []string{"b"}}, "is none of the folders"},
		{host.Config{Listen: "nonsense", Folders: []string{"a=" + dir}}, "listen"},
		{host.Config{Listen: "127.0.0.1:0", Folders: []string{"a=" + dir}, State: short}, "at least 20"},
	} {
		if c.config.State == "" {
			c.config.State = t.TempDir()
		}
		m, err := host.Open(c.config)
		if err == nil {
			m.Close()
		}
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v, want %q", c.config, err, c.says)
		}
	}
}

// A setting that cannot be is named, with what could be.
func TestSettings(t *testing.T) {
	for setting, c := range map[string]host.Config{"proxy": {Proxy: "ftp://fern"}, "proxy: the password": {Proxy: "http://ivy@fern:3128"}, "proxy: it names": {Proxy: "http://fern:3128", ProxyPassword: "rose"}, "fill-on": {FillOn: "soon"}} {
		c.Listen, c.State = "127.0.0.1:0", t.TempDir()
		if _, err := host.Open(c); err == nil || !strings.HasPrefix(err.Error(), setting) || !strings.Contains(err.Error(), "write ") {
			t.Errorf("%s: %v", setting, err)
		}
	}
}
