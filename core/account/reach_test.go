package account

import "testing"

func TestReachOf(t *testing.T) {
	known, paired, number := Sight{Known: true}, Sight{Known: true, Paired: true}, Sight{}
	for want, cases := range map[Reach][][]Sight{
		ReachEverywhere: {{known}, {known, known}},
		ReachMapped:     {{known, paired}, {paired, known, known}},
		ReachLocal:      {{known, number}, {known, paired, number}},
		ReachNone:       {{}, {number}, {number, number}},
	} {
		for _, seen := range cases {
			if got := ReachOf(seen); got != want {
				t.Errorf("%+v: %s, want %s", seen, got, want)
			}
		}
	}
}

func TestBeyond(t *testing.T) {
	for _, c := range []struct {
		kind   Kind
		origin Origin
		want   Reach
	}{
		{Unresolved, OfUnknown, ReachNone}, {Unresolved, OfDomain, ReachNone}, {User, OfDomain, ReachEverywhere}, {Special, Anywhere, ReachEverywhere}, {LocalGroup, Anywhere, ReachEverywhere},
		{LocalGroup, OfServer, ReachLocal}, {User, OfUnixHost, ReachLocal},
	} {
		if got := Beyond(c.kind, c.origin); got != c.want {
			t.Errorf("%s of %s: %s", c.kind, c.origin, got)
		}
	}
}
