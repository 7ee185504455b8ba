// Package bucket holds the rules of S3 object services, as the public API reference states them: bucket names,
// object keys, sizes of multipart uploads and of metadata. Rules are checked before a request is sent, so that
// an error names the rule.
package bucket

import (
	"net/netip"
	"strings"
	"unicode"
	"unicode/utf8"

	"bridgespan/core/fault"
)

// Lengths of names, in bytes.
const (
	leastName = 3
	mostName  = 63
	mostKey   = 1024
)

// reserved are prefixes and suffixes that services reserve.
var reserved = struct{ first, last []string }{
	first: []string{"xn--", "sthree-", "amzn-s3-demo-"},
	last:  []string{"-s3alias", "--ol-s3", ".mrap", "--x-s3", "--table-s3"},
}

// CheckName returns an error that states the rule which a bucket name breaks. Bucket names are part of host
// names, and unique among all accounts of a service.
func CheckName(field, name string) error {
	refuse := func(remedy, format string, args ...any) error { return fault.Field(field, remedy, format, args...) }
	switch {
	case len(name) < leastName || len(name) > mostName:
		return refuse("use 3 to 63 characters", "the name %.64q has %d", name, len(name))
	case strings.ToLower(name) != name:
		return refuse("write it in small letters", "the name %q holds a capital letter", name)
	case strings.IndexFunc(name, foreign) >= 0:
		return refuse("use small letters a to z, digits, hyphens and dots", "the name %q holds %q", name, name[strings.IndexFunc(name, foreign):][:1])
	case strings.Trim(name, "-.") != name:
		return refuse("begin and end with a letter or a digit", "the name %q does not", name)
	case strings.Contains(name, ".."):
		return refuse("leave one dot", "the name %q has two dots side by side", name)
	}
	if _, err := netip.ParseAddr(name); err == nil {
		return refuse("choose a name in words", "the name %q is that of an address", name)
	}
	for _, first := range reserved.first {
		if strings.HasPrefix(name, first) {
			return refuse("begin with something else", "names that begin with %s are kept for services", first)
		}
	}
	for _, last := range reserved.last {
		if strings.HasSuffix(name, last) {
			return refuse("end with something else", "names that end with %s are kept for services", last)
		}
	}
	return nil
}

func foreign(r rune) bool {
	return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '.')
}

// HostStyle reports whether a bucket can be part of the host name. Under TLS a name with a dot cannot: a
// wildcard certificate covers one level.
func HostStyle(name string, encrypted bool) bool { return !encrypted || !strings.Contains(name, ".") }

// CheckKey returns an error that states the rule which an object key breaks.
func CheckKey(field, key string) error {
	switch {
	case key == "":
		return fault.Field(field, "give it a name", "the name of an object is empty")
	case len(key) > mostKey:
		return fault.Field(field, "shorten the path", "the path %.30s… has %d bytes in the bucket, at most %d are allowed", key, len(key), mostKey)
	case !utf8.ValidString(key):
		return fault.Field(field, "write it in UTF-8", "the path %q is not UTF-8", key)
	case strings.IndexFunc(key, unicode.IsControl) >= 0:
		return fault.Field(field, "rename it", "the path %q holds a control character, which services cannot list", key)
	}
	return nil
}
