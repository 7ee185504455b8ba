package preflight

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"bridgespan/core/finding"
	"bridgespan/core/text"
	"bridgespan/tree"
)

// Need is what a place has to have room for, in bytes.
type Need struct {
	Content int64 // that is carried there
	Intake  int64
	Attic   int64 // what it may keep; 0 where that is not bounded
	Free    int64 // that its volume has
}

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// Space checks that a place has room.
func Space(name string, n Need) finding.Finding {
	need := n.Content + n.Intake + n.Attic
	beside := size(n.Intake) + " of intake"
	if n.Attic > 0 {
		beside += " and " + size(n.Attic) + " of attic"
	}
	found := fmt.Sprintf("%s: %s are carried there, beside %s; ", name, size(n.Content), beside)
	if n.Free >= tree.Endless {
		return finding.New(finding.Pass, "space", "", found+"no limit is known there", "", "")
	}
	found += size(n.Free) + " are free"
	switch {
	case need > n.Free:
		return finding.New(finding.Fail, "space", "", found, "its volume would be full before the first fill is done", fmt.Sprintf("make %s free, or leave something out", size(need-n.Free)))
	case need+need/10 > n.Free:
		return finding.New(finding.Warn, "space", "", found, "its volume will be almost full", "make room before it grows")
	}
	return finding.New(finding.Pass, "space", "", found, "", "")
}

// longPath is what programs open at most that know of no longer paths.
const longPath = 259

// PathLength checks the longest path that people would open at a place; ok is false when it is
// short enough. longest is below the place.
func PathLength(p Place, longest string) (f finding.Finding, ok bool) {
	full := strings.Join([]string{`\\` + p.Server.Address, p.Target.Share, p.Target.Sub, longest}, `\`)
	n := len([]rune(full))
	if n <= longPath {
		return f, false
	}
	return finding.New(finding.Warn, "names", "", fmt.Sprintf("%s: the longest path would have %d characters: %s", p.Name, n, text.Middle(longest)), fmt.Sprintf("some programs cannot open paths of more than %d", longPath), "choose a folder further up, or shorten the names"), true
}

// Leg checks that the network between two sites is known; ok is false when it is. taken is for
// how many Mbit/s it is taken otherwise.
func Leg(known bool, from, to string, taken int) (f finding.Finding, ok bool) {
	if known {
		return f, false
	}
	return finding.New(finding.Warn, "legs", "", fmt.Sprintf("no legs are known between %s and %s", from, to), fmt.Sprintf("the forecast takes it for %d Mbit/s", taken), "say how fast it is").
		With(finding.To(finding.AddLeg, from, to)), true
}

// Accounts checks that a place knows the accounts in permissions that come to it: of so many,
// those listed are unknown, and so many are known by an account map. The map is "" where there
// is none.
func Accounts(name string, all int, unknown []string, mapped int, byMap string) finding.Finding {
	if len(unknown) == 0 {
		found := fmt.Sprintf("%s: all %d accounts in the seed's permissions are known there", name, all)
		if mapped > 0 {
			found += fmt.Sprintf(", %d of them by the map %s", mapped, byMap)
		}
		return finding.New(finding.Pass, "accounts", "", found, "", "")
	}
	are := "accounts are"
	if len(unknown) == 1 {
		are = "account is"
	}
	f := finding.New(finding.Warn, "accounts", "", fmt.Sprintf("%s: %d %s not known there: %s", name, len(unknown), are, strings.Join(unknown[:min(len(unknown), 5)], "; ")), "what they are let do counts for nobody there, and shows as a number",
		"use accounts of the domain in these permissions, carry them through an account map, or let each replica have its own: permissions leave")
	if byMap != "" {
		f.Remedy = "add rules for them to the map " + byMap
		f = f.With(finding.To(finding.EditAccountMap, byMap))
	}
	return f
}
