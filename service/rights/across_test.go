package rights

import (
	"testing"

	"bridgespan/model"
)

func TestSameRights(t *testing.T) {
	of := func(masks ...string) (places []model.AccessAt) {
		for _, mask := range masks {
			p := model.AccessAt{Problem: "it does not answer"}
			if mask != "" {
				p = model.AccessAt{Rights: &model.EffectiveRights{Mask: mask}}
			}
			places = append(places, p)
		}
		return places
	}
	for what, c := range map[string]struct {
		places []model.AccessAt
		want   bool
	}{
		"no replica":           {nil, false},
		"none could be asked":  {of("", ""), false},
		"the same":             {of("0x1", "0x1"), true},
		"others":               {of("0x1", "0x1", "0x3"), false},
		"one cannot be asked":  {of("", "0x1", "0x1"), true},
		"others than the last": {of("0x3", "", "0x1"), false},
	} {
		if got := sameRights(c.places); got != c.want {
			t.Errorf("%s: %v", what, got)
		}
	}
}
