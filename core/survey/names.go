package survey

import (
	"path"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// NameKind is a kind of name that is trouble elsewhere.
type NameKind string

const (
	TrailingDot  NameKind = "trailing-dot-or-space"
	DeviceName   NameKind = "device-name"
	RefusedSign  NameKind = "refused-character"
	ControlSign  NameKind = "control-character"
	LeadingSpace NameKind = "leading-space"
	Decomposed   NameKind = "decomposed"
	PathOver260  NameKind = "path-over-260"
	PathOver400  NameKind = "path-over-400"
	NameOver255  NameKind = "name-over-255"
)

var nameKinds = []struct {
	kind  NameKind
	means string
}{
	{RefusedSign, "one of < > : \" | ? * \\ is in the name: Windows clients and cloud stores refuse it"},
	{ControlSign, "a control character is in the name: most systems refuse it"},
	{TrailingDot, "the name ends in a dot or a space: Windows clients cannot open it"},
	{DeviceName, "the name means a device on Windows (CON, NUL, COM1 …): clients there cannot open it"},
	{LeadingSpace, "the name begins with a space: cloud stores refuse it"},
	{Decomposed, "letters and their accents are stored apart: the name looks the same as another and is not"},
	{NameOver255, "the name has more than 255 bytes: many file systems refuse it"},
	{PathOver400, "the path has more than 400 characters: cloud stores refuse it"},
	{PathOver260, "the path has more than 260 characters: older Windows programs cannot open it"},
}

var devices = map[string]bool{"con": true, "prn": true, "aux": true, "nul": true,
	"com1": true, "com2": true, "com3": true, "com4": true, "com5": true, "com6": true, "com7": true, "com8": true, "com9": true,
	"lpt1": true, "lpt2": true, "lpt3": true, "lpt4": true, "lpt5": true, "lpt6": true, "lpt7": true, "lpt8": true, "lpt9": true}

// troubles are the kinds of trouble that a path will be. Each element is judged
// where it is the last one: its folder was judged by itself.
func troubles(where string) (found []NameKind) {
	name := path.Base(where)
	if len(where) > 260 {
		switch n := len([]rune(where)); {
		case n > 400:
			found = append(found, PathOver400, PathOver260)
		case n > 260:
			found = append(found, PathOver260)
		}
	}
	if len(name) > 255 {
		found = append(found, NameOver255)
	}
	if strings.ContainsAny(name, "<>:\"|?*\\") {
		found = append(found, RefusedSign)
	}
	if strings.IndexFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) >= 0 {
		found = append(found, ControlSign)
	}
	switch {
	case strings.HasSuffix(name, "."), strings.HasSuffix(name, " "):
		found = append(found, TrailingDot)
	case strings.HasPrefix(name, " "):
		found = append(found, LeadingSpace)
	}
	stem, _, _ := strings.Cut(name, ".")
	if len(stem) >= 3 && len(stem) <= 4 && devices[strings.ToLower(stem)] {
		found = append(found, DeviceName)
	}
	if !norm.NFC.IsNormalString(name) {
		found = append(found, Decomposed)
	}
	return found
}
