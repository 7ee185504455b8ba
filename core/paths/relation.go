package paths

import "strings"

// Relation tells how a folder lies to another one: "the same as", "inside", "around", or
// "" when neither holds anything of the other. Both are names below one top, which is "",
// and written as they are compared.
func Relation(a, b string) string {
	switch {
	case a == b:
		return "the same as"
	case b == "", strings.HasPrefix(a, b+"/"):
		return "inside"
	case a == "", strings.HasPrefix(b, a+"/"):
		return "around"
	}
	return ""
}
