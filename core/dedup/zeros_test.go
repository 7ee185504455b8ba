package dedup

import (
	"math/rand/v2"
	"testing"
)

// However a file is cut, its empty blocks are counted as they lie in it.
func TestEmptyBlocks(t *testing.T) {
	const b = blockSize
	file := func(size int, written ...int) []byte {
		f := make([]byte, size)
		for _, at := range written {
			f[at] = 1
		}
		return f
	}
	for name, c := range map[string]struct {
		file []byte
		want int64
	}{
		"nothing":             {nil, 0},
		"all of it":           {file(5 * b), 5 * b},
		"its end as well":     {file(5*b + 7), 5*b + 7},
		"no end":              {file(5*b+7, 5*b+6), 5 * b},
		"one byte":            {file(5*b, 3*b+17), 4 * b},
		"bytes at the edges":  {file(5*b, 0, 2*b-1, 4*b), 2 * b},
		"zeros in two blocks": {file(2*b, 0, 2*b-1), 0},
	} {
		for seed := range uint64(20) {
			r := rand.New(rand.NewPCG(seed, 1))
			e := emptyBlocks{empty: true}
			for rest := c.file; len(rest) > 0; {
				n := min(1+r.IntN(3*b), len(rest))
				e.pass(rest[:n])
				rest = rest[n:]
			}
			if got := e.bytes(); got != c.want {
				t.Fatalf("%s, cut by seed %d: %d, want %d", name, seed, got, c.want)
			}
		}
	}
}
