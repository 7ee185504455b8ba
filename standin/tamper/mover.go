package tamper

import (
	"bytes"
	"crypto/tls"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"path"
	"strconv"

	"bridgespan/guard"
	"bridgespan/tree/remote"
)

// mostHeld is how much of an answer is held back at most to be changed, in bytes.
const mostHeld = 4 << 20

// Mover passes the calls of a mover on, and changes its answers. It has a certificate of
// its own, so whoever trusts that has a mover that cannot be trusted.
type Mover struct {
	server *httptest.Server
	change func(call string, answer []byte) []byte
}

// StartMover listens on a free port of the loopback address, before a mover that listens at
// an address. change gets the answers to calls, by the name of the call, and returns what
// is sent instead. It is called by several goroutines.
func StartMover(address string, change func(call string, answer []byte) []byte) *Mover {
	m := &Mover{change: change}
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: "https", Host: address})
			r.Out.Header.Set("Accept-Encoding", "identity") // what is packed could not be changed
		},
		Transport: &http.Transport{ForceAttemptHTTP2: true, DisableCompression: true,
			TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS13, InsecureSkipVerify: true}}, // a mover on loopback
		ModifyResponse: m.tamper, FlushInterval: -1,
	}
	m.server = httptest.NewUnstartedServer(proxy)
	m.server.EnableHTTP2 = true
	m.server.StartTLS()
	return m
}

// Address is where it listens, and Fingerprint that of its certificate.
func (m *Mover) Address() string     { return m.server.Listener.Addr().String() }
func (m *Mover) Fingerprint() string { return remote.Fingerprint(m.server.Certificate().Raw) }

// Stop ends it, with all connections.
func (m *Mover) Stop() {
	m.server.CloseClientConnections()
	guard.Go(m.server.Close) // which waits for calls that watch
}

// tamper changes the answer to a call. What is packed, or has no end, passes as it is.
func (m *Mover) tamper(r *http.Response) error {
	call := path.Base(r.Request.URL.Path)
	if r.Header.Get("Content-Encoding") != "" || call == "watch" {
		return nil
	}
	answer, err := io.ReadAll(io.LimitReader(r.Body, mostHeld))
	if err != nil {
		return err
	}
	rest := r.Body
	answer = m.change(call, answer)
	r.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(answer), rest), rest}
	r.ContentLength = -1
	r.Header.Del("Content-Length")
	if len(answer) < mostHeld {
		r.ContentLength = int64(len(answer))
		r.Header.Set("Content-Length", strconv.Itoa(len(answer)))
	}
	return nil
}
