package dedup

import (
	"bytes"
	"slices"
	"testing"
)

// BenchmarkRead summarises mixed data: noise, text and zeros.
func BenchmarkRead(b *testing.B) {
	content := slices.Concat(noise(1, 48<<20), bytes.Repeat([]byte("Quercus robur, seed lot 17, germinates\n"), 300_000), make([]byte, 4<<20))
	for _, p := range Profiles {
		b.Run(string(p), func(b *testing.B) {
			c, err := NewCutter(p)
			if err != nil {
				b.Fatal(err)
			}
			r := NewReader(c, OfSample, 0, deflated)
			b.SetBytes(int64(len(content)))
			for b.Loop() {
				if _, err := r.Read(bytes.NewReader(content), nil); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
