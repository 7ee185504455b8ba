package verify

import (
	"fmt"
	"strings"
)

// ManifestLine is a line of a checksum manifest as the checksum programs of the
// GNU core utilities write and read it: the SHA-256 of a file in hexadecimal,
// two spaces, and its path. A path with a backslash or a line break in it is
// escaped, and the line begins with a backslash.
func ManifestLine(sum [32]byte, path string) string {
	escaped := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`).Replace(path)
	mark := ""
	if escaped != path {
		mark = `\`
	}
	return fmt.Sprintf("%s%x  %s\n", mark, sum, escaped)
}
