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
	Intake  int64 // 0 without one
	Attic   int64 // what it may keep; 0 where that is not bounded, or without one
	Free    int64 // that its volume has
}

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// Space checks that a place has room.
func Space(name string, n Need) finding.Finding {
	need := n.Content + n.Intake + n.Attic
	var beside []string
	for _, part := range []struct {
		bytes int64
		of    string
	}{{n.Intake, "intake"}, {n.Attic, "attic"}} {
		if part.bytes > 0 {
			beside = append(beside, size(part.bytes)+" of "+part.of)
		}
	}
	found := fmt.Sprintf("%s: %s are carried there", name, size(n.Content))
	if len(beside) > 0 {
		found += ", beside " + strings.Join(beside, " and ")
	}
	found += "; "
	if n.Free >= tree.Endless {
		return finding.New(finding.Pass, "space", "", found+"no limit is known there", "", "")
	}
	found += size(n.Free) + " are free"
	switch {
	case need > n.Free:
		return finding.New(finding.Fail, "space", "", found, "its volume would be full before all is there", fmt.Sprintf("make %s free, or leave something out", size(need-n.Free)))
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

// Known is which of the accounts in permissions a place knows.
type Known struct {
	All     int
	Unknown []string
	Mapped  int    // known by an account map
	Map     string // the map; "" without one
	Remedy  string // for unknown accounts without a map
}

// Accounts checks that a place knows the accounts in permissions that come to it.
func Accounts(name string, k Known) finding.Finding {
	if len(k.Unknown) == 0 {
		found := fmt.Sprintf("%s: all %d accounts in the permissions are known there", name, k.All)
		if k.Mapped > 0 {
			found += fmt.Sprintf(", %d of them by the map %s", k.Mapped, k.Map)
		}
		return finding.New(finding.Pass, "accounts", "", found, "", "")
	}
	are := "accounts are"
	if len(k.Unknown) == 1 {
		are = "account is"
	}
	f := finding.New(finding.Warn, "accounts", "", fmt.Sprintf("%s: %d %s not known there: %s", name, len(k.Unknown), are, strings.Join(k.Unknown[:min(len(k.Unknown), 5)], "; ")), "what they are let do counts for nobody there, and shows as a number", k.Remedy)
	if k.Map != "" {
		f.Remedy = "add rules for them to the map " + k.Map
		f = f.With(finding.To(finding.EditAccountMap, k.Map))
	}
	return f
}
