package e2e

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/process"
	"bridgespan/standin/standintest"
)

// certificate makes a certificate for loopback and returns its files and a
// client that trusts it.
func certificate(t *testing.T, dir string) (cert, key string, trusting *http.Client) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		t.Fatal(err)
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	write := func(name, kind string, bytes []byte) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: bytes}), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	pool := x509.NewCertPool()
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	pool.AddCert(parsed)
	return write("tls.pem", "CERTIFICATE", der), write("tls.key", "PRIVATE KEY", pkcs8), &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
}

// The service reads its file, prints the set-up token, serves over TLS with a
// cookie for TLS alone, and stops when told to, with everything in order.
func TestServeFromConfigOverTLS(t *testing.T) {
	dir := t.TempDir()
	cert, key, trusting := certificate(t, dir)
	port, err := process.FreePort("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	address := net.JoinHostPort("127.0.0.1", itoa(port))
	file := filepath.Join(dir, "bspand.toml")
	settings := `listen = "127.0.0.1:1"` + "\ngateway = \"\"\ndatabase = '" + standintest.Database(t).DSN("bridgespan") + "'\nkey_file = '" + dir + "/key'\ntls_certificate = '" + cert + "'\ntls_key = '" + key + "'\ntrusted_proxies = '127.0.0.1'\n"
	if err := os.WriteFile(file, []byte(settings), 0o600); err != nil {
		t.Fatal(err)
	}
	// The environment wins over the file.
	cmd := exec.Command(harness.Program(t, "bspand"), "serve", "--config", file, "--log-format", "json")
	cmd.Env = append(os.Environ(), "BSPAND_LISTEN="+address)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill() }()
	token := ""
	for lines := bufio.NewScanner(out); token == "" && lines.Scan(); {
		if text := strings.TrimSpace(lines.Text()); len(text) == 26 && !strings.Contains(text, " ") {
			token = text
		}
	}
	api := &client.Client{Base: "https://" + address, HTTP: trusting}
	deadline := time.Now().Add(30 * time.Second)
	for api.Ready(t.Context()) != nil && time.Now().Before(deadline) {
		time.Sleep(20 * time.Millisecond) // there is no event for a listener of another process
	}
	if err := api.Setup(t.Context(), model.Setup{Token: token, Name: harness.Admin, Password: harness.Password}); err != nil {
		t.Fatalf("set-up with the printed token %q: %v\n%s", token, err, log.String())
	}
	body := strings.NewReader(`{"name":"` + harness.Admin + `","password":"` + harness.Password + `"}`)
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, api.Base+"/api/v1/session", body)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("X-Forwarded-For", "203.0.113.1, 198.51.100.7") // the first was sent by the client
	response, err := trusting.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	if cookies := response.Cookies(); len(cookies) != 1 || !cookies[0].Secure {
		t.Errorf("cookies over TLS: %+v", response.Cookies())
	}
	if response.Header.Get("Strict-Transport-Security") == "" {
		t.Error("browsers are not told to use TLS alone")
	}
	if _, err := api.Login(t.Context(), harness.Admin, harness.Password, "test"); err != nil {
		t.Fatal(err)
	}
	signedIn, err := api.Credentials(t.Context(), "", false)
	if err != nil || !slices.ContainsFunc(signedIn, func(c model.Credential) bool { return c.Kind == "session" && c.Address == "198.51.100.7" }) {
		t.Errorf("behind a trusted proxy: %+v, %v", signedIn, err)
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("stopping: %v\n%s", err, log.String())
	}
	if strings.Contains(log.String(), token) || strings.Contains(log.String(), harness.Password) {
		t.Error("the log holds a secret")
	}
}

// Without a certificate the service makes its own: whoever has the file of its
// authority trusts the API and the gateway, and nobody else does.
func TestOwnCertificate(t *testing.T) {
	e := harness.StartEstate(t)
	dir := t.TempDir()
	var addresses [2]string
	for i := range addresses {
		port, err := process.FreePort("127.0.0.1")
		if err != nil {
			t.Fatal(err)
		}
		addresses[i] = net.JoinHostPort("127.0.0.1", itoa(port))
	}
	ca := filepath.Join(dir, "bspan-ca.pem")
	var before []byte
	for _, start := range []string{"first", "second"} {
		cmd := exec.Command(harness.Program(t, "bspand"), "serve", "--tls", "on", "--listen", addresses[0], "--gateway", addresses[1], "--gateway-site", "Upland", "--key-file", filepath.Join(dir, "key"))
		cmd.Env = append(os.Environ(), "BSPAND_DATABASE="+e.Database.DSN("bridgespan"))
		p, err := process.Start("bspand", cmd, filepath.Join(dir, "log"))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { p.Stop(15 * time.Second) })
		trusting := func() *http.Client {
			text, _ := os.ReadFile(ca)
			pool := x509.NewCertPool()
			pool.AppendCertsFromPEM(text)
			return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
		}
		if err := p.Await(func() error {
			return (&client.Client{Base: "https://" + addresses[0], HTTP: trusting()}).Ready(t.Context())
		}, 60*time.Second); err != nil {
			t.Fatal(err)
		}
		r, err := http.NewRequestWithContext(t.Context(), "GET", "https://"+addresses[1]+ledger, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.SetBasicAuth("ada", standintest.Password("ada"))
		response, err := trusting().Do(r)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != http.StatusOK || response.Header.Get("Bspan-Location") != "elm/store" {
			t.Errorf("%s start: %s from %s", start, response.Status, response.Header.Get("Bspan-Location"))
		}
		if _, err := http.DefaultClient.Do(r); err == nil {
			t.Error("who does not know the authority trusts it")
		}
		// The command line takes the same file, and keeps it.
		home := t.TempDir()
		for _, args := range [][]string{{"--server", "https://" + addresses[0], "--ca", ca, "login", "--name", harness.Admin}, {"whoami"}} {
			bspan := exec.Command(harness.Program(t, "bspan"), args...)
			bspan.Env = append(os.Environ(), "XDG_CONFIG_HOME="+home, "BSPAN_PASSWORD="+harness.Password)
			if out, err := bspan.CombinedOutput(); err != nil || !strings.Contains(string(out), harness.Admin) {
				t.Errorf("bspan %s: %v: %s", strings.Join(args, " "), err, out)
			}
		}
		text, err := os.ReadFile(ca)
		if err != nil || before != nil && !bytes.Equal(text, before) {
			t.Errorf("the authority is another one after the restart, %v", err)
		}
		before = text
		p.Stop(15 * time.Second)
	}
}

// A wrong setting is named with its line, and nothing starts.
func TestBadConfig(t *testing.T) {
	dir := t.TempDir()
	for name, test := range map[string]struct {
		text string
		args []string
		says string
	}{
		"unknown setting":  {"listen = 'x'\nlisten_on = 'y'\n", nil, "line 2: there is no setting [listen_on]"},
		"not TOML":         {"listen =\n", nil, "line 1"},
		"no database":      {"", nil, "a data source name is needed"},
		"tls":              {"database = 'x'\ntls = 'maybe'\n", nil, "none of auto, on and off"},
		"tls off and on":   {"database = 'x'\ntls = 'off'\ntls_key = 'y'\ntls_certificate = 'y'\n", nil, "leave one of them out"},
		"half of TLS":      {"database = 'x'\ntls_key = 'y'\n", nil, "set both or neither"},
		"log format":       {"database = 'x'\nlog_format = 'xml'\n", nil, "neither text nor json"},
		"proxies":          {"database = 'x'\ntrusted_proxies = '10.0.0'\n", nil, "trusted_proxies: \"10.0.0\" is neither an address nor a network"},
		"cookie":           {"database = 'x'\nsecure_cookie = 'maybe'\n", nil, "secure_cookie"},
		"days to keep":     {"database = 'x'\nkeep_changes_days = '0'\n", nil, "between 1 and 36500"},
		"take-over":        {"database = 'x'\ntake_over = '1s'\n", nil, "between 2s and 10m"},
		"session age":      {"database = 'x'\ngateway_session_age = '48h'\n", nil, "between 1s and 24h"},
		"malformed source": {"database = 'no source'\n", nil, "database: the data source name is malformed"},
		"no such file":     {"", []string{"--config", dir + "/nothing"}, "no such file"},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "bspand.toml")
			if err := os.WriteFile(file, []byte(test.text), 0o600); err != nil {
				t.Fatal(err)
			}
			args := test.args
			if args == nil {
				args = []string{"--config", file}
			}
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			out, err := exec.CommandContext(ctx, harness.Program(t, "bspand"), append([]string{"serve"}, args...)...).CombinedOutput()
			if err == nil || !strings.Contains(string(out), test.says) {
				t.Errorf("says %q, %v; want %q", out, err, test.says)
			}
		})
	}
}
