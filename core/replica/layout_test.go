package replica

import (
	"fmt"
	"slices"
	"testing"
)

func ExampleHub() {
	fmt.Println(Hub(2, []ID{1, 2, 3}))
	// Output: [{2 1} {1 2} {2 3} {3 2}]
}

func TestLayouts(t *testing.T) {
	ids := []ID{1, 2, 3, 4}
	for name, c := range map[string]struct {
		lanes []Lane
		count int
	}{
		"mesh":  {Mesh(ids), 12},
		"hub":   {Hub(3, ids), 6},
		"chain": {Chain(ids), 6},
	} {
		if len(c.lanes) != c.count {
			t.Errorf("%s: %v", name, c.lanes)
		}
		for _, from := range ids {
			if left := Unreached(from, ids, c.lanes); left != nil {
				t.Errorf("%s: from %d no way leads to %v", name, from, left)
			}
		}
	}
	if left := Unreached(1, ids, []Lane{{1, 2}, {3, 4}}); !slices.Equal(left, []ID{3, 4}) {
		t.Errorf("from 1 no way leads to %v", left)
	}
}
