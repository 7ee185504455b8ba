package standintest

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"strings"
	"sync/atomic"
	"testing"

	"bridgespan/guard"
)

// Proxy is an HTTP proxy.
type Proxy struct {
	URL  string       // without a user
	Seen atomic.Int64 // requests that it has let through

	user, password string
	forward        *httputil.ReverseProxy
}

// StartProxy starts a proxy, which asks for a user with a password unless user is "".
func StartProxy(t testing.TB, user, password string) *Proxy {
	t.Helper()
	p := &Proxy{user: user, password: password, forward: &httputil.ReverseProxy{Rewrite: func(*httputil.ProxyRequest) {}}}
	server := httptest.NewServer(p)
	t.Cleanup(server.Close)
	p.URL = server.URL
	return p
}

// As is the address of the proxy for a user.
func (p *Proxy) As(user string) string {
	return strings.Replace(p.URL, "://", "://"+user+"@", 1)
}

func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	asked := &http.Request{Header: http.Header{"Authorization": r.Header["Proxy-Authorization"]}}
	if user, password, _ := asked.BasicAuth(); user != p.user || password != p.password {
		w.Header().Set("Proxy-Authenticate", "Basic")
		http.Error(w, "who are you?", http.StatusProxyAuthRequired)
		return
	}
	p.Seen.Add(1)
	if r.Method == http.MethodConnect {
		tunnel(w, r)
		return
	}
	r.Header.Del("Proxy-Authorization")
	p.forward.ServeHTTP(w, r)
}

// tunnel connects both sides until one of them ends.
func tunnel(w http.ResponseWriter, r *http.Request) {
	to, err := new(net.Dialer).DialContext(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	from, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		to.Close()
		return
	}
	_, _ = io.WriteString(from, "HTTP/1.1 200 OK\r\n\r\n")
	guard.Go(func() {
		defer to.Close()
		_, _ = io.Copy(to, from)
	})
	guard.Go(func() {
		defer from.Close()
		_, _ = io.Copy(from, to)
	})
}
