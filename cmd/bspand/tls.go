package main

import (
	"cmp"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"bridgespan/certificate"
)

// encrypts reports whether what listens at an address speaks TLS: passwords
// must not cross a network in the clear unless somebody said so.
func (c config) encrypts(address string) bool {
	if c.TLS == "auto" && c.TLSKey == "" {
		return !loopback(address)
	}
	return c.TLS != "off"
}

func loopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// url is where people reach what listens at an address.
func (c config) url(address string) string {
	if c.encrypts(address) {
		return "https://" + address
	}
	return "http://" + address
}

func (c config) gatewayURL() string {
	if c.Gateway == "" {
		return ""
	}
	return cmp.Or(c.GatewayURL, c.url(c.Gateway))
}

// encrypt makes a listener one that speaks TLS, where it is to.
func (c config) encrypt(listener net.Listener) (net.Listener, error) {
	address := listener.Addr().String()
	if !c.encrypts(address) {
		if !loopback(address) {
			slog.Warn("passwords cross the network in the clear, as tls is off", "address", address)
		}
		return listener, nil
	}
	settings := &tls.Config{MinVersion: tls.VersionTLS12}
	if c.TLSKey != "" {
		pair, err := tls.LoadX509KeyPair(c.TLSCertificate, c.TLSKey)
		if err != nil {
			return nil, fmt.Errorf("tls_certificate, tls_key: %w", err)
		}
		settings.Certificates = []tls.Certificate{pair}
		return tls.NewListener(listener, settings), nil
	}
	dir := filepath.Dir(c.KeyFile)
	host, _ := os.Hostname()
	authority, made, err := certificate.Open(dir, "Bridge Span at "+host, c.serverNames()...)
	if err != nil {
		return nil, fmt.Errorf("the service's own certificate: %w", err)
	}
	if made {
		slog.Info("certificates are vouched for by an authority of our own; hand its file out to those who connect, or set tls_certificate and tls_key",
			"file", filepath.Join(dir, certificate.CertificateFile), "sha256", authority.Fingerprint())
	}
	for _, name := range c.serverNames() {
		if !authority.Permits(name) {
			slog.Warn("the service's own authority was not made for this name, so that its certificate leaves it out; remove its two files to have it made anew, and hand it out again", "name", name, "file", filepath.Join(dir, certificate.CertificateFile))
		}
	}
	settings.GetCertificate = authority.Server(c.serverNames()...)
	return tls.NewListener(listener, settings), nil
}

// serverNames are the names and addresses under which people may reach us.
func (c config) serverNames() []string {
	var names []string
	add := func(name string) {
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if u, err := url.Parse(c.GatewayURL); err == nil {
		add(u.Hostname())
	}
	for _, address := range []string{c.Listen, c.Gateway} {
		host, _, _ := net.SplitHostPort(address)
		if ip := net.ParseIP(host); host != "" && (ip == nil || !ip.IsUnspecified()) {
			add(host)
		}
	}
	host, _ := os.Hostname()
	add(host)
	add("localhost")
	addresses, _ := net.InterfaceAddrs() // without them the names remain
	for _, a := range addresses {
		if network, ok := a.(*net.IPNet); ok && !network.IP.IsLinkLocalUnicast() {
			add(network.IP.String())
		}
	}
	return names
}
