package namespace

import (
	"fmt"
	"slices"
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
		"one location":     {[]Entry{signpost("a", "one/x")}, "warn one-location /n/a"},
		"an empty folder":  {[]Entry{folder}, "warn empty-folder /n/f remove-entry"},
		"nowhere":          {[]Entry{set(set(signpost("a", "one/x", "two/x"), 0, Failing, "away"), 1, Held, "by hand")}, "fail leads-nowhere /n/a"},
		"all held":         {[]Entry{set(signpost("a", "one/x"), 0, Held, "moving")}, "fail all-held /n/a open-location one/x"},
		"one failing":      {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Failing, "two does not answer")}, "warn failing-location /n/a"},
		"one gone":         {[]Entry{gone}, "warn failing-location /n/a remove-location two/x"},
		"waiting":          {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Held, WaitsForVerification)}, "warn not-verified /n/a verify-location two/x"},
		"opened so":        {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Open, OpenedUnverified)}, "warn not-verified /n/a verify-location two/x"},
		"held by hand":     {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Held, "stocktaking")}, ""},
		"differs":          {[]Entry{set(signpost("a", "one/x", "two/x"), 1, Held, DifferencesFound+"3 differences")}, "fail differs /n/a verify-location two/x"},
		"a space":          {[]Entry{signpost("seed  bank", "one/x", "two/x")}, "warn space-in-name /n/seed  bank move-entry /n/seed-bank"},
		"a device":         {[]Entry{signpost("Aux.old", "one/x", "two/x"), signpost("comma", "one/y", "two/y"), signpost("lpt9", "one/z", "two/z")}, "warn device-name /n/Aux.old|warn device-name /n/lpt9"},
		"two names":        {[]Entry{signpost("a", "one/x", "two/x"), signpost("b", "one/x/sub", "two/y")}, "warn overlapping /n/b"},
		"long paths below": {[]Entry{signpost("a", "deep/x", "two/x")}, "warn long-path /n/a"},
	} {
		var got []string
		for _, f := range Lint("n", c.entries, func(l Location) int {
			if l.Server == "deep" {
				return 300
			}
			return 20
		}) {
			text := fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.Subject)
			if f.Action != nil {
				text += " " + string(f.Action.Do)
				if !slices.Equal(f.Action.Args[:2], []string{"n", f.Subject}) {
					t.Errorf("%s: to be done: %+v", name, f.Action)
				}
				text = strings.Join(append([]string{text}, f.Action.Args[2:]...), " ")
			}
			got = append(got, text)
			if f.Found == "" || f.Meaning == "" || f.Remedy == "" {
				t.Errorf("%s: %+v", name, f)
			}
		}
		if all := strings.Join(got, "|"); all != c.want {
			t.Errorf("%s: %q, want %q", name, all, c.want)
		}
	}
}
