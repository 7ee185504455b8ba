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
