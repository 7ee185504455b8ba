package access

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
)

// Proxies are the networks of proxies whose word is taken for where a request comes from.
// Without them, all who come through a proxy share its address, and the limits of one
// address.
type Proxies []netip.Prefix

// mostProxies bounds how many networks may be named, and mostHops how many addresses of a
// header are looked at.
const (
	mostProxies = 100
	mostHops    = 20
)

// ParseProxies reads addresses and networks (CIDR, RFC 4632), separated by commas or spaces.
func ParseProxies(text string) (p Proxies, err error) {
	words := strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
	if len(words) > mostProxies {
		return nil, fmt.Errorf("%d networks: at most %d can be named", len(words), mostProxies)
	}
	for _, word := range words {
		network, err := netip.ParsePrefix(word)
		if err != nil {
			address, bad := netip.ParseAddr(word)
			if bad != nil {
				return nil, fmt.Errorf("%q is neither an address nor a network such as 10.0.0.0/24", word)
			}
			network = netip.PrefixFrom(address, address.BitLen())
		}
		p = append(p, network.Masked())
	}
	return p, nil
}

func (p Proxies) trusts(address netip.Addr) bool {
	return slices.ContainsFunc(p, func(network netip.Prefix) bool { return network.Contains(address) })
}

// Client is the address that a request comes from: that of its peer, as host and port; or,
// where the peer is a trusted proxy, the last one in the X-Forwarded-For headers that is
// not such a proxy's. What stands before that anybody may have written.
func (p Proxies) Client(peer string, forwarded []string) string {
	host, _, err := net.SplitHostPort(peer)
	if err != nil {
		host = peer
	}
	client, err := netip.ParseAddr(host)
	if err != nil {
		return host
	}
	hops := strings.Split(strings.Join(forwarded, ","), ",")
	for i := len(hops) - 1; i >= max(0, len(hops)-mostHops) && p.trusts(client.Unmap()); i-- {
		next, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		client = next
	}
	return client.Unmap().WithZone("").String()
}
