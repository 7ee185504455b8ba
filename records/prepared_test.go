package records

import "testing"

func TestInOneStatement(t *testing.T) {
	many := func(n, size int) []int {
		sizes := make([]int, n)
		for i := range sizes {
			sizes[i] = size
		}
		return sizes
	}
	for _, c := range []struct {
		sizes []int
		want  int
	}{
		{many(1, 100), 1},
		{many(3, 100), 1},
		{many(4, 100), 4},
		{many(15, 100), 4},
		{many(63, 100), 16},
		{many(500, 100), 64},
		{many(500, mostInStatement/64), 64},
		{many(500, mostInStatement/63), 16}, // more would be too much at once
		{many(500, mostInStatement/2), 1},
		{many(2, 10*mostInStatement), 1}, // one is always written
	} {
		if got := inOneStatement(c.sizes); got != c.want {
			t.Errorf("of %d packs of %d bytes one statement adds %d, want %d", len(c.sizes), c.sizes[0], got, c.want)
		}
	}
}
