package lint

import (
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
)

func TestLongestBelow(t *testing.T) {
	paths := []string{"a/bcd/efgh", "A/bcd/ef", "ab/cdefghijklm", "ü/ö"}
	for sub, want := range map[string]int{"": 14, "a": 8, "a/bcd": 4, "ab": 11, "ü": 1, "nothing": 0, "a/bc": 0} {
		if got := longestBelow(paths, sub); got != want {
			t.Errorf("below %q: %d, want %d", sub, got, want)
		}
	}
}

func TestAnybody(t *testing.T) {
	person := func(sid string, kind account.Kind, level acl.Level) model.EffectiveRights {
		return model.EffectiveRights{Account: model.Account{SID: sid, Kind: kind}, Level: level}
	}
	admins, system := person("S-1-5-32-544", account.LocalGroup, acl.Full), person("S-1-5-18", account.Special, acl.Full)
	for name, c := range map[string]struct {
		people []model.EffectiveRights
		want   bool
	}{
		"nobody":              {nil, false},
		"administrators":      {[]model.EffectiveRights{admins, system}, false},
		"a group":             {[]model.EffectiveRights{admins, person("S-1-5-21-1-2-3-2001", account.Group, acl.Read)}, true},
		"a group that cannot": {[]model.EffectiveRights{admins, person("S-1-5-21-1-2-3-2001", account.Group, acl.None)}, false},
		"somebody who left":   {[]model.EffectiveRights{admins, person("S-1-5-21-1-2-3-9999", account.Unresolved, acl.Full)}, false},
	} {
		if got := anybody(c.people); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
