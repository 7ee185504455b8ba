package certificate

import (
	"crypto/x509"
	"net"
	"regexp"
	"slices"
	"strings"
)

// dnsName is a name that can be looked up (RFC 1123, section 2.1).
var dnsName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)

// constrain lets an authority vouch for some names, and for addresses that nobody has on
// the Internet (RFC 5280, section 4.2.1.10).
func constrain(authority *x509.Certificate, names []string) {
	authority.PermittedDNSDomainsCritical = true
	authority.PermittedDNSDomains = []string{"localhost"}
	for _, private := range []string{"127.0.0.0/8", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "100.64.0.0/10", "::1/128", "fc00::/7", "fe80::/10"} {
		_, network, err := net.ParseCIDR(private)
		if err == nil { // each of them is one
			authority.PermittedIPRanges = append(authority.PermittedIPRanges, network)
		}
	}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			if four := ip.To4(); four != nil {
				ip = four
			}
			authority.PermittedIPRanges = append(authority.PermittedIPRanges, &net.IPNet{IP: ip, Mask: net.CIDRMask(8*len(ip), 8*len(ip))})
			continue
		}
		if name = strings.ToLower(name); dnsName.MatchString(name) && !slices.Contains(authority.PermittedDNSDomains, name) {
			authority.PermittedDNSDomains = append(authority.PermittedDNSDomains, name)
		}
	}
}

// Permits reports whether the authority may vouch for a name or address. One that was made
// before authorities had bounds may vouch for all.
func (a *Authority) Permits(name string) bool {
	if ip := net.ParseIP(name); ip != nil {
		ranges := a.certificate.PermittedIPRanges
		return len(ranges) == 0 || slices.ContainsFunc(ranges, func(network *net.IPNet) bool { return network.Contains(ip) })
	}
	name = strings.ToLower(name)
	domains := a.certificate.PermittedDNSDomains
	return len(domains) == 0 || slices.ContainsFunc(domains, func(domain string) bool {
		return name == domain || strings.HasSuffix(name, "."+domain)
	})
}
