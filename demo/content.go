package demo

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"time"
)

// kind says what a file's content is like.
type kind int

const (
	scan   kind = iota // image data: patches of noise and flat areas
	ledger             // rows of text
	prose              // words
	sealed             // already compressed: noise alone
)

// file is one generated file. Its content follows from kind, seed and edits alone.
type file struct {
	path     string
	madeAs   string // the path under which it was made, when it was moved since
	kind     kind
	seed     uint64
	size     int64
	edits    int // how many places differ from the plain content of the seed
	modified time.Time
}

// content returns the file's content, exactly size bytes.
func (f file) content() io.Reader {
	r := io.LimitReader(&generator{kind: f.kind, source: rand.New(rand.NewPCG(f.seed, 20260901))}, f.size)
	if f.edits == 0 {
		return r
	}
	// A near-duplicate: the same, with a few bytes put in here and there.
	var parts []io.Reader
	step := f.size / int64(f.edits+1)
	for i := range f.edits {
		parts = append(parts, io.LimitReader(r, step), bytes.NewReader(fmt.Appendf(nil, "[revised %d]", i+1)))
	}
	return io.LimitReader(io.MultiReader(append(parts, r)...), f.size)
}

// generator is an endless source of one kind of content.
type generator struct {
	kind   kind
	source *rand.Rand
	rest   []byte
	row    int
}

func (g *generator) Read(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		if len(g.rest) == 0 {
			g.rest = g.next()
		}
		m := copy(p[n:], g.rest)
		g.rest = g.rest[m:]
		n += m
	}
	return n, nil
}

func (g *generator) next() []byte {
	g.row++
	switch g.kind {
	case ledger:
		return fmt.Appendf(nil, "LBT-%06d,%s %s,%s,%d,%.2f,%s\n", g.source.IntN(999999), pick(g.source, genera), pick(g.source, epithets),
			pick(g.source, places), 1950+g.source.IntN(76), g.source.Float64()*100, pick(g.source, states))
	case prose:
		line := pick(g.source, words)
		for range 8 + g.source.IntN(10) {
			line += " " + pick(g.source, words)
		}
		return []byte(line + ".\n")
	case scan:
		block := make([]byte, 4096)
		if g.source.IntN(3) == 0 { // a flat patch of paper
			shade := byte(230 + g.source.IntN(20))
			for i := range block {
				block[i] = shade
			}
			return block
		}
		g.noise(block)
		return block
	}
	block := make([]byte, 4096)
	g.noise(block)
	return block
}

func (g *generator) noise(block []byte) {
	for i := 0; i+8 <= len(block); i += 8 {
		binary.LittleEndian.PutUint64(block[i:], g.source.Uint64())
	}
}

func pick[T any](source *rand.Rand, list []T) T { return list[source.IntN(len(list))] }

var (
	families = []string{"Asteraceae", "Ericaceae", "Fabaceae", "Orchidaceae", "Poaceae", "Ranunculaceae", "Rosaceae", "Scrophulariaceae"}
	genera   = []string{"Achillea", "Calluna", "Carex", "Digitalis", "Erica", "Filipendula", "Geranium", "Lotus", "Orchis", "Primula", "Rosa", "Trifolium"}
	epithets = []string{"alba", "arvensis", "cinerea", "maritima", "montana", "officinalis", "palustris", "pratensis", "purpurea", "sylvatica", "vulgaris"}
	places   = []string{"Larkfield walled garden", "Highmoor north slope", "Tern Island dune 3", "Tern Island saltmarsh", "Gull Point", "Abbot's Fen", "Stony Bridge"}
	states   = []string{"viable", "dormant", "spent", "on loan", "to be tested"}
	words    = []string{"the", "slope", "was", "wet", "after", "rain", "we", "counted", "flowers", "along", "transect", "grazing", "less", "than", "last", "year", "sedge", "heather", "wind", "from", "west", "seed", "set", "poor", "good", "samples", "taken", "and", "labelled"}
)
