package tree

import (
	"crypto/rand"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// MaxPath is the longest name accepted, in bytes.
const MaxPath = 4096

// reservedPrefix marks the engine's own entries: the folder .bspan and files on their way in.
const reservedPrefix = ".bspan"

// CheckName returns an *fs.PathError that wraps fs.ErrInvalid when name is not
// a valid name of any tree.
func CheckName(op, name string) error {
	reason := ""
	switch {
	case len(name) > MaxPath:
		reason = fmt.Sprintf("longer than %d bytes", MaxPath)
		name = name[:40] + "…"
	case !utf8.ValidString(name):
		reason = "not UTF-8"
	case strings.ContainsRune(name, 0):
		reason = "contains NUL"
	case !fs.ValidPath(name):
		reason = "empty, absolute, or with empty, . or .. elements"
	}
	if reason == "" {
		return nil
	}
	return PathError(op, name, fmt.Errorf("%w: %s", fs.ErrInvalid, reason))
}

// IsElement reports whether a listed name can be that of one entry of a folder, where names
// are separated by any of separators: every other name would lead somewhere else.
func IsElement(name, separators string) bool {
	return name != "" && name != "." && name != ".." && !strings.ContainsAny(name, separators+"\x00")
}

// Key is the form in which names are compared: NFC, and folded for case unless
// the tree tells cases apart.
func Key(name string, caseSensitive bool) string {
	if isASCII(name) { // as most are: these have one form, and fold to lower case
		if caseSensitive {
			return name
		}
		return strings.ToLower(name)
	}
	name = norm.NFC.String(name)
	if caseSensitive {
		return name
	}
	return norm.NFC.String(cases.Fold().String(name))
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// Reserved reports whether an element of name belongs to the engine itself.
func Reserved(name string) bool {
	for element := range strings.SplitSeq(name, "/") {
		if len(element) >= len(reservedPrefix) && strings.EqualFold(element[:len(reservedPrefix)], reservedPrefix) {
			return true
		}
	}
	return false
}

// StagingName is a fresh temporary name for content on its way to name.
func StagingName(name string, options PutOptions) string {
	folder := options.Intake
	if folder == "" {
		folder = path.Dir(name)
	}
	return path.Join(folder, reservedPrefix+"-"+rand.Text()+".part")
}
