// Package namespace computes over the one tree of names that people see: which
// names are allowed, what lies where, and the directions that lead a person at
// a site to the locations that hold the data.
package namespace

import (
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"bridgespan/core/fault"
)

// Limits on names, in bytes.
const (
	MaxNamespaceName = 63
	MaxElement       = 255
	MaxPath          = 1000
)

// CheckName checks the name of a namespace: it is a segment of URLs and of
// drive paths, so it keeps to lower-case letters, digits and inner hyphens.
func CheckName(field, name string) error {
	remedy := "use lower-case letters, digits and hyphens, such as trust or east-gardens"
	switch {
	case name == "":
		return fault.Field(field, remedy, "a name is needed")
	case len(name) > MaxNamespaceName:
		return fault.Field(field, remedy, "the name has %d characters, at most %d are allowed", len(name), MaxNamespaceName)
	case strings.Trim(name, "-") != name:
		return fault.Field(field, remedy, "%q begins or ends with a hyphen", name)
	}
	for _, r := range name {
		if (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '-' {
			return fault.Field(field, remedy, "%q cannot be part of a URL: %q is not allowed", name, r)
		}
	}
	return nil
}

// refused cannot be part of a name that people on any system are to open.
const refused = `\:*?"<>|`

// CheckElement checks one element of a path or the name of a site, server or share.
func CheckElement(field, name string) error {
	switch {
	case name == "":
		return fault.Field(field, "give each part a name", "a name is empty")
	case !utf8.ValidString(name):
		return fault.Field(field, "write it in UTF-8", "the name %q is not UTF-8", name)
	case strings.ContainsRune(name, utf8.RuneError):
		// Decoders put U+FFFD in the place of bytes that are not UTF-8.
		return fault.Field(field, "write it in UTF-8", "the name %q holds U+FFFD, which stands for bytes that were not UTF-8", name)
	case name == "." || name == "..":
		return fault.Field(field, "write the path without . and ..", "%q is not a name", name)
	case len(name) > MaxElement:
		return fault.Field(field, "shorten it", "the name %.20s… has %d bytes, at most %d are allowed", name, len(name), MaxElement)
	case strings.TrimSpace(name) != name || strings.HasSuffix(name, "."):
		return fault.Field(field, "remove it", "the name %q begins or ends with a space or ends with a dot, which some systems cannot open", name)
	case strings.ContainsAny(name, refused+"/"):
		return fault.Field(field, "leave out "+refused, "the name %q holds a character that some systems refuse", name)
	case strings.IndexFunc(name, unicode.IsControl) >= 0:
		return fault.Field(field, "remove it", "the name %q holds a control character", name)
	}
	return nil
}

// CheckPath checks a path inside a namespace or a share, without a leading
// slash; "" is the root and always right.
func CheckPath(field, name string) error {
	if name == "" {
		return nil
	}
	if len(name) > MaxPath {
		return fault.Field(field, "shorten it", "the path has %d bytes, at most %d are allowed", len(name), MaxPath)
	}
	for element := range strings.SplitSeq(name, "/") {
		if err := CheckElement(field, element); err != nil {
			return err
		}
	}
	return nil
}

// Split parts a full path such as /trust/herbarium/2024 into the namespace and
// the path inside it ("" for its root), and checks both. A trailing slash is allowed.
func Split(field, full string) (name, inside string, err error) {
	if !strings.HasPrefix(full, "/") {
		return "", "", fault.Field(field, "begin with a slash and the namespace, such as /trust/herbarium", "%q is not a full path", full)
	}
	name, inside, _ = strings.Cut(full[1:], "/")
	inside = strings.TrimSuffix(inside, "/")
	if err := CheckName(field, name); err != nil {
		return "", "", err
	}
	return name, inside, CheckPath(field, inside)
}

// Below is the path of inside below a folder, and whether it is there at all.
func Below(folder, inside string) (below string, ok bool) {
	switch {
	case folder == "":
		return inside, true
	case Key(folder) == Key(inside):
		return "", true
	}
	if len(inside) > len(folder) && inside[len(folder)] == '/' && Key(inside[:len(folder)]) == Key(folder) {
		return inside[len(folder)+1:], true
	}
	return "", false
}

// Key is the form in which names are compared: NFC, without regard to case.
func Key(name string) string {
	if plain(name) { // as most names are
		return name
	}
	return norm.NFC.String(cases.Fold().String(norm.NFC.String(name)))
}

// plain reports whether a name is its own key: ASCII without capitals.
func plain(name string) bool {
	for i := range len(name) {
		if c := name[i]; c >= 0x80 || c >= 'A' && c <= 'Z' {
			return false
		}
	}
	return true
}

// Parents returns the paths above inside, nearest last, without the root:
// "a/b/c" gives "a", "a/b".
func Parents(inside string) []string {
	var parents []string
	for i, r := range inside {
		if r == '/' {
			parents = append(parents, inside[:i])
		}
	}
	return parents
}

// Target is where a location leads: server/share/sub, written as people type it.
type Target struct{ Server, Share, Sub string }

// ParseTarget reads SERVER/SHARE[/SUB].
func ParseTarget(field, text string) (Target, error) {
	parts := strings.SplitN(strings.TrimSuffix(text, "/"), "/", 3)
	if len(parts) < 2 {
		return Target{}, fault.Field(field, "write SERVER/SHARE or SERVER/SHARE/FOLDER, such as fern/herbarium", "%q does not name a share", text)
	}
	target := Target{Server: parts[0], Share: parts[1]}
	if len(parts) == 3 {
		target.Sub = parts[2]
	}
	for _, name := range parts[:2] {
		if err := CheckElement(field, name); err != nil {
			return Target{}, err
		}
	}
	return target, CheckPath(field, target.Sub)
}

func (t Target) String() string { return path.Join(t.Server, t.Share, t.Sub) }

// Overlaps reports whether one target is, holds or lies inside the other.
func (t Target) Overlaps(other Target) bool {
	if Key(t.Server) != Key(other.Server) || Key(t.Share) != Key(other.Share) {
		return false
	}
	a, b := Key(t.Sub), Key(other.Sub)
	return a == b || a == "" || b == "" || strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
}
