package namespace

import (
	"fmt"
	"strings"
	"testing"
)

func TestLint(t *testing.T) {
	set := func(e Entry, which int, state State, why string) Entry {
		l := &e.Locations[which]
		l.State, l.Set, l.Why, l.SetWhy = state, state, why, why
		if state == Failing {
			l.Set, l.SetWhy = Open, ""
		}
		return e
	}
	folder := Entry{Path: "f", Kind: Folder}
	gone := set(signpost("a", "one/x", "two/x"), 1, Failing, "the share is missing")
	gone.Locations[1].Health = ShareMissing
	for name, c := range map[string]struct {
		entries []Entry
		want    string
	}{
		"nothing":          {nil, ""},
		"fine":             {[]Entry{folder, signpost("f/a", "one/x", "two/x")}, ""},
		"one location":     {[]Entry{signpost("a", "one/x")}, "one-location /n/a"},
		"an empty folder":  {[]Entry{folder}, "empty-folder /n/f remove-entry"},
		"nowhere":          {[]Entry{set(set(signpost("a", "one/x", "two/x"), 0, Failing, "away"), 1, Held, "by hand")}, "leads-nowhere /n/a"},
		"all held":         {[]Entry{set(signpost("a", "one/x"), 0, Held, "moving")}, "all-held /n/a one/x open"},
		"one failing":      {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Failing, "two does not answer")}, "failing-location /n/a two/x"},
		"one gone":         {[]Entry{gone}, "failing-location /n/a two/x remove-location"},
		"waiting":          {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Held, WaitsForVerification)}, "not-verified /n/a two/x verify"},
		"opened so":        {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Open, OpenedUnverified)}, "not-verified /n/a two/x verify"},
		"held by hand":     {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Held, "stocktaking")}, ""},
		"differs":          {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Held, DifferencesFound+"3 differences")}, "differs /n/a two/x verify"},
		"a space":          {[]Entry{signpost("seed  bank", "one/x", "two/x")}, "space-in-name /n/seed  bank move /n/seed-bank"},
		"two names":        {[]Entry{signpost("a", "one/x", "two/x"), signpost("b", "one/x/sub", "two/y")}, "overlapping /n/b one/x/sub"},
		"long paths below": {[]Entry{signpost("a", "deep/x", "two/x")}, "long-path /n/a deep/x"},
	} {
		var got []string
		for _, f := range Lint("n", c.entries, func(l Location) int {
			if l.Server == "deep" {
				return 300
			}
			return 20
		}) {
			got = append(got, strings.Join(strings.Fields(fmt.Sprintf("%s %s", f.Kind, strings.ReplaceAll(f.Path, " ", "\x00"))), " ")+opt(f.Location)+opt(string(f.Fix))+opt(f.To))
			if f.Means == "" || f.Remedy == "" {
				t.Errorf("%s: %+v", name, f)
			}
		}
		if all := strings.ReplaceAll(strings.Join(got, "|"), "\x00", " "); all != c.want {
			t.Errorf("%s: %q, want %q", name, all, c.want)
		}
	}
}

func opt(s string) string {
	if s == "" {
		return ""
	}
	return " " + s
}
