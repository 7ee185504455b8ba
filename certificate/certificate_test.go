package certificate

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Whoever trusts the authority's file trusts its servers under their names, now
// and after a restart, and under no other name.
func TestTrust(t *testing.T) {
	dir := t.TempDir()
	first, made, err := Open(dir, "Bridge Span at here", "files.garden.test")
	if err != nil || !made {
		t.Fatal(made, err)
	}
	again, made, err := Open(dir, "another name")
	if err != nil || made || again.Fingerprint() != first.Fingerprint() || len(first.Fingerprint()) != 64 {
		t.Fatalf("opened again: made %v, %v", made, err)
	}
	text, err := os.ReadFile(filepath.Join(dir, CertificateFile))
	if err != nil {
		t.Fatal(err)
	}
	trusted := x509.NewCertPool()
	if !trusted.AppendCertsFromPEM(text) {
		t.Fatal("the file holds no certificate")
	}
	if info, err := os.Stat(filepath.Join(dir, KeyFile)); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's file: %v, %v", info.Mode(), err)
	}
	for _, c := range []struct {
		a    *Authority
		name string
		good bool
	}{{first, "files.garden.test", true}, {again, "files.garden.test", true}, {again, "127.0.0.1", true}, {again, "other.garden.test", false}, {again, "127.0.0.2", false}} {
		if err := handshake(t, c.a.Server("files.garden.test", "127.0.0.1"), &tls.Config{RootCAs: trusted, ServerName: c.name}); (err == nil) != c.good {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	// Nor under a name that it has no business with, whatever it issues.
	forged := *first
	free := *first.certificate
	free.PermittedDNSDomains, free.PermittedIPRanges = nil, nil
	forged.certificate = &free // its key signs anything
	for _, name := range []string{"bank.example", "198.51.100.7"} {
		if first.Permits(name) {
			t.Errorf("%s is permitted", name)
		}
		if err := handshake(t, forged.Server(name), &tls.Config{RootCAs: trusted, ServerName: name}); err == nil {
			t.Errorf("a certificate for %s is trusted", name)
		}
	}
	if err := handshake(t, first.Server("bank.example", "192.168.7.9"), &tls.Config{RootCAs: trusted, ServerName: "192.168.7.9"}); err != nil {
		t.Errorf("what may not be vouched for spoils the others: %v", err)
	}
	stranger, err := New("stranger")
	if err != nil {
		t.Fatal(err)
	}
	if err := handshake(t, stranger.Server("127.0.0.1"), &tls.Config{RootCAs: trusted, ServerName: "127.0.0.1"}); err == nil {
		t.Error("a certificate of a stranger is trusted")
	}
}

func handshake(t *testing.T, certificate func(*tls.ClientHelloInfo) (*tls.Certificate, error), client *tls.Config) error {
	t.Helper()
	a, b := net.Pipe()
	defer a.Close()
	defer b.Close()
	go func() { _ = tls.Server(a, &tls.Config{GetCertificate: certificate}).Handshake() }() // the client tells how it came out
	return tls.Client(b, client).Handshake()
}

func TestServerKeepsItsCertificate(t *testing.T) {
	a, err := New("here")
	if err != nil {
		t.Fatal(err)
	}
	get := a.Server("here.test", "localhost")
	one, err := get(nil)
	if err != nil {
		t.Fatal(err)
	}
	if two, _ := get(nil); two != one {
		t.Error("every connection gets a certificate of its own")
	}
	one.Leaf.NotAfter = time.Now().Add(renewBefore - time.Minute)
	if three, err := get(nil); err != nil || three == one || time.Until(three.Leaf.NotAfter) < 700*24*time.Hour {
		t.Errorf("one that soon runs out is not renewed: %v", err)
	}
}

func TestDamagedFiles(t *testing.T) {
	for what, damage := range map[string]func(dir string) error{
		"no key":      func(dir string) error { return os.Remove(filepath.Join(dir, KeyFile)) },
		"another key": func(dir string) error { return os.WriteFile(filepath.Join(dir, KeyFile), []byte("nonsense"), 0o600) },
		"no certificate in the file": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, CertificateFile), []byte("nonsense"), 0o600)
		},
		"a server's certificate": func(dir string) error {
			a, err := New("x")
			if err != nil {
				return err
			}
			leaf, err := a.Issue("x.test")
			if err != nil {
				return err
			}
			certificate, key, err := Files(leaf)
			if err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(dir, KeyFile), key, 0o600); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, CertificateFile), certificate, 0o600)
		},
	} {
		dir := t.TempDir()
		if _, _, err := Open(dir, "x"); err != nil {
			t.Fatal(err)
		}
		if err := damage(dir); err != nil {
			t.Fatal(err)
		}
		if _, _, err := Open(dir, "x"); err == nil {
			t.Errorf("%s: it is opened", what)
		}
	}
}
