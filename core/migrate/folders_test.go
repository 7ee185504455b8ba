package migrate

import (
	"slices"
	"testing"
)

func TestCollisions(t *testing.T) {
	for what, c := range map[string]struct {
		folders []string
		want    []Collision
	}{
		"none":                   {[]string{"council", "herbarium", "herbarium old"}, nil},
		"the same":               {[]string{"a", "b", "a"}, []Collision{{0, 2}}},
		"another case":           {[]string{"Scans/2026", "scans/2026"}, []Collision{{0, 1}}},
		"inside":                 {[]string{"scans/old/ferns", "scans"}, []Collision{{1, 0}}},
		"inside of another case": {[]string{"Scans", "scans/ferns"}, []Collision{{0, 1}}},
		"side by side":           {[]string{"scans/ferns", "scans/mosses"}, nil},
		"three":                  {[]string{"a", "a/b", "A"}, []Collision{{0, 2}, {0, 1}}},
	} {
		if got := Collisions(c.folders); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v", what, got)
		}
	}
}
