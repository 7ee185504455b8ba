package front

import (
	"net/netip"
	"strings"

	"bridgespan/core/fault"
)

// longestHost is how long a host name may be (RFC 1035, 2.3.4).
const longestHost = 253

// CheckHost checks a name by which people's machines reach a server: a host name (RFC 1123, 2.1) or
// an IPv4 address. Links lead to names and IPv4 addresses alone.
func CheckHost(field, name string) error {
	remedy := "give a host name that people's machines resolve, such as files.example.org, or an IPv4 address"
	if a, err := netip.ParseAddr(name); err == nil && a.Is4() {
		return nil
	}
	if len(name) > longestHost {
		return fault.Field(field, remedy, "the name has %d characters, at most %d are allowed", len(name), longestHost)
	}
	for label := range strings.SplitSeq(strings.TrimSuffix(name, "."), ".") {
		if !hostLabel(label) {
			return fault.Field(field, remedy, "%q is not a host name", name)
		}
	}
	return nil
}

func hostLabel(label string) bool {
	if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
		return false
	}
	for _, r := range label {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '-' && r != '_' {
			return false
		}
	}
	return true
}
