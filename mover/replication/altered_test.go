package replication

import (
	"errors"
	"strings"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// What a receiver stores is put in its place only when it is what was sent: alone, in a
// bundle, piece by piece, and where the receiver can do no more than a tree must.
func TestAlteredStaysOut(t *testing.T) {
	for what, c := range map[string]struct {
		name string
		size int
		to   func(*memory.Tree) tree.Tree
	}{
		"alone":          {"one", 100, func(m *memory.Tree) tree.Tree { return m }},
		"in a bundle":    {"folder/one", 100, func(m *memory.Tree) tree.Tree { return m }},
		"piece by piece": {"one", grownSize, func(m *memory.Tree) tree.Tree { return m }},
		"in a plain one": {"one", 100, func(m *memory.Tree) tree.Tree { return &plain{m} }},
	} {
		t.Run(what, func(t *testing.T) {
			altering := true
			to := &memory.Tree{Keep: func(name string, b []byte) []byte {
				if altering && strings.HasPrefix(name, intakeFolder) {
					b[len(b)/2]++
				}
				return b
			}}
			p := growingPair(t, &memory.Tree{}, c.to(to))
			text := randomText(3, c.size)
			putBytes(t, p.a, "beside", text)
			if err := tree.MkdirAll(t.Context(), p.a, "folder"); err != nil {
				t.Fatal(err)
			}
			putBytes(t, p.a, "folder/two", text)
			putBytes(t, p.a, c.name, text)
			told := 0
			p.Trouble = func(tr Trouble) {
				told++
				if !errors.Is(tr.Err, tree.ErrAltered) {
					t.Errorf("of %s was told: %v", tr.Path, tr.Err)
				}
			}
			for _, r := range p.Replicas {
				if _, err := p.Scan(t.Context(), r.ID); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := p.Carry(t.Context(), p.Lanes[0], 100); err != nil {
				t.Fatal(err)
			}
			if _, err := to.Stat(t.Context(), c.name); !absent(err) || told == 0 {
				t.Errorf("Stat returned %v, and trouble was told %d times", err, told)
			}
			altering = false
			p.settleDown()
			p.same()
			if left := leftOver(t, to); len(left) > 0 {
				t.Errorf("in the intake is %v", left)
			}
		})
	}
}
