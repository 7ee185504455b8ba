package shares

import (
	"fmt"
	"strings"
	"unicode"

	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/service/accounts"
	"bridgespan/smbadmin"
)

// longestName is how long the name of a share may be ([MS-SRVS] 2.2.2.3, 80 characters with the end mark in older systems).
const longestName = 80

// reserved names mean something else to servers and clients.
var reserved = map[string]bool{"ipc$": true, "admin$": true, "print$": true, "fax$": true, "global": true, "homes": true, "printers": true, "pipe": true, "mailslot": true}

// nameAdvice is what to consider about the name of a new share.
func nameAdvice(name string, existing []smbadmin.Share) []finding.Finding {
	var list []finding.Finding
	say := func(weight finding.Severity, text, remedy string) {
		list = append(list, finding.New(weight, "name", "", text, "", remedy))
	}
	switch {
	case strings.TrimSpace(name) == "":
		say(finding.Fail, "a name is needed", "choose one that people will recognise")
		return list
	case len([]rune(name)) > longestName:
		say(finding.Fail, fmt.Sprintf("%d characters are too long; servers take %d", len([]rune(name)), longestName), "choose a shorter name")
	case strings.ContainsAny(name, "\\/[]:|<>+=;,*?\"%") || strings.IndexFunc(name, unicode.IsControl) >= 0:
		say(finding.Fail, `servers refuse \ / [ ] : | < > + = ; , * ? " % and control characters in the name of a share`, "use letters, digits and hyphens")
	case reserved[strings.ToLower(name)]:
		say(finding.Fail, fmt.Sprintf("%q means something else to servers", name), "choose another name")
	case strings.TrimSpace(name) != name || strings.HasSuffix(name, "."):
		say(finding.Fail, "a name cannot begin or end with a space, or end with a dot", "leave that out")
	}
	for _, h := range existing {
		if namespace.Key(h.Name) == namespace.Key(name) {
			text := fmt.Sprintf("the server has a share %s", h.Name)
			if h.Name != name {
				text = fmt.Sprintf("the server has a share %s, and names that differ only in case count as the same", h.Name)
			}
			say(finding.Fail, text, "choose another name, or change that one: share edit")
		}
	}
	if strings.Contains(strings.TrimSpace(name), " ") {
		say(finding.Warn, "there is a space in the name: it must be quoted in commands and scripts", "use a hyphen instead")
	}
	if strings.HasSuffix(name, "$") {
		say(finding.Warn, "the $ at the end keeps it out of people's lists; whoever knows the name can still open it", "leave the $ out if people are to find it")
	}
	if strings.IndexFunc(name, func(r rune) bool { return r > 126 }) >= 0 {
		say(finding.Warn, "letters beyond ASCII are not typed on every keyboard, and a few devices cannot open them", "use plain letters")
	}
	return list
}

// pathAdvice is what to consider about the folder of a new share.
func pathAdvice(path string, existing []smbadmin.Share) []finding.Finding {
	var list []finding.Finding
	say := func(weight finding.Severity, text, remedy string) {
		list = append(list, finding.New(weight, "path", "", text, "", remedy))
	}
	for _, h := range existing {
		if h.Kind != "disk" || h.Path == "" {
			continue
		}
		rest, under := accounts.Below(h.Path, path)
		switch {
		case under && rest == "":
			say(finding.Warn, fmt.Sprintf("this folder is the share %s already: people will find the same files under two names", h.Name), "use that share, unless its permissions must differ")
		case under && !h.Hidden:
			say(finding.Warn, fmt.Sprintf("it lies inside of the share %s: people reach the same files through both, each with its own share permissions", h.Name), "choose a folder beside it, if that is not wanted")
		}
		if rest, over := accounts.Below(path, h.Path); over && rest != "" && !h.Hidden {
			say(finding.Warn, fmt.Sprintf("the share %s lies inside of it", h.Name), "choose a folder that holds no other share, if that is not wanted")
		}
	}
	return list
}
