package account

import (
	"fmt"
	"slices"
	"testing"
)

func ExamplePair() {
	fern := Home{"fern", map[string]SID{"curators": MustSID("S-1-5-21-1-1-1-1001"), "council": MustSID("S-1-5-21-1-1-1-1002")}}
	heather := Home{"heather", map[string]SID{"Curators": MustSID("S-1-5-21-2-2-2-3001"), "board": MustSID("S-1-5-21-2-2-2-3002")}}
	council, _ := ParseRule("rules[0]", `heather\board = fern\council`)
	all, _ := ParseRule("rules[1]", `fern\* = heather\*`)
	p := Pair([]Rule{council, all}, []Home{fern}, []Home{heather})
	to := p.Swap()
	fmt.Println(to(fern.Accounts["council"]), to(fern.Accounts["curators"]), to(heather.Accounts["board"]), to(Everyone))
	// Output: S-1-5-21-2-2-2-3002 S-1-5-21-2-2-2-3001 S-1-5-21-1-1-1-1002 S-1-1-0
}

func TestParseRule(t *testing.T) {
	for text, want := range map[string]string{
		`fern\curators = heather\keepers`:   `fern\curators = heather\keepers`,
		`fern\*=heather\*`:                  `fern\* = heather\*`,
		` fern \a = heather\b c `:           `fern \a = heather\b c`,
		`fern\a = heather`:                  "",
		`fern\a`:                            "",
		`a = b`:                             "",
		`= heather\a`:                       "",
		`\a = heather\a`:                    "",
		`fern\* = heather\keepers`:          "",
		`fern\keepers = heather\*`:          "",
		`fern\a = FERN\b`:                   "",
		`fern\domain admins = heather\root`: `fern\domain admins = heather\root`,
	} {
		r, err := ParseRule("rule", text)
		if (err == nil) != (want != "") || err == nil && r.String() != want {
			t.Errorf("%q: %s, %v", text, r, err)
		}
	}
}

func TestPair(t *testing.T) {
	sid := func(machine, n uint32) SID { return MakeSID(5, 21, machine, machine, machine, n) }
	fern := Home{"fern", map[string]SID{"a": sid(1, 1), "b": sid(1, 2), "c": sid(1, 3)}}
	heather := Home{"heather", map[string]SID{"A": sid(2, 1), "b": sid(2, 2), "x": sid(2, 9)}}
	grove := Home{"GROVE", map[string]SID{"x": sid(7, 1), "b": sid(7, 2)}} // the domain of both
	for name, c := range map[string]struct {
		rules             []string
		pairs             map[SID]SID
		lacking, clashing []string
	}{
		"no rule":                        {nil, map[SID]SID{}, nil, nil},
		"of other places":                {[]string{`fern\* = sedge\*`, `sedge\a = heather\b`}, map[SID]SID{}, nil, nil},
		"all, whatever their case":       {[]string{`fern\* = heather\*`}, map[SID]SID{sid(1, 1): sid(2, 1), sid(1, 2): sid(2, 2)}, nil, nil},
		"the other way round":            {[]string{`heather\* = fern\*`}, map[SID]SID{sid(1, 1): sid(2, 1), sid(1, 2): sid(2, 2)}, nil, nil},
		"a single one goes before all":   {[]string{`fern\* = heather\*`, `fern\a = heather\x`}, map[SID]SID{sid(1, 1): sid(2, 9), sid(1, 2): sid(2, 2)}, nil, nil},
		"what is taken is not had twice": {[]string{`fern\c = heather\b`, `fern\* = heather\*`}, map[SID]SID{sid(1, 1): sid(2, 1), sid(1, 3): sid(2, 2)}, nil, nil},
		"two of one":                     {[]string{`fern\a = heather\x`, `fern\b = heather\x`}, map[SID]SID{sid(1, 1): sid(2, 9)}, nil, []string{`fern\b = heather\x`}},
		"one of two":                     {[]string{`fern\a = heather\x`, `fern\a = heather\b`}, map[SID]SID{sid(1, 1): sid(2, 9)}, nil, []string{`fern\a = heather\b`}},
		"said twice":                     {[]string{`fern\a = heather\x`, `heather\x = fern\a`}, map[SID]SID{sid(1, 1): sid(2, 9)}, nil, nil},
		"of the domain and a server":     {[]string{`heather\* = Grove\*`}, map[SID]SID{sid(7, 1): sid(2, 9), sid(7, 2): sid(2, 2)}, nil, nil},
		"of one domain at both":          {[]string{`GROVE\b = heather\x`}, map[SID]SID{sid(7, 2): sid(2, 9)}, nil, nil},
		"missing":                        {[]string{`fern\zz = heather\x`, `fern\a = heather\zz`}, map[SID]SID{}, []string{`fern\zz`, `heather\zz`}, nil},
	} {
		var rules []Rule
		for _, text := range c.rules {
			r, err := ParseRule("rule", text)
			if err != nil {
				t.Fatal(err)
			}
			rules = append(rules, r)
		}
		p := Pair(rules, []Home{fern, grove}, []Home{heather, grove})
		if fmt.Sprint(p.Pairs) != fmt.Sprint(c.pairs) || !slices.Equal(p.Lacking, c.lacking) || !slices.Equal(p.Clashing, c.clashing) {
			t.Errorf("%s: %+v", name, p)
		}
		for s, swap := range map[SID]func(SID) SID{sid(1, 1): p.Swap(), sid(2, 2): p.Swap(), sid(3, 3): p.Swap()} {
			if swap(swap(s)) != s {
				t.Errorf("%s: %s comes back as %s", name, s, swap(swap(s)))
			}
		}
	}
}
