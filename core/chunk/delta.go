package chunk

import (
	"io"

	"github.com/zeebo/blake3"
)

// Part is a range of a new content. From is where an old content holds the same;
// below 0 where it does not.
type Part struct{ At, Length, From int64 }

// Delta says what of a new content an old one holds already.
type Delta struct {
	Parts  []Part // in order, all of the new content; neighbours that follow on are one
	Digest [32]byte
	Size   int64 // bytes of the new content
	Lacks  int64 // bytes that the old content does not hold
}

// mostChunks is into how many chunks contents are cut at most, about: the memory
// of a delta is bounded by it, some 100 bytes for each.
const mostChunks = 1 << 15

// For chooses sizes for a content of so many bytes: chunks of 16 KiB, larger
// ones where there would be too many.
func For(size int64) Sizes {
	average := int64(16 << 10)
	for size/average > mostChunks && average < 4<<20 {
		average *= 2
	}
	return Around(int(average))
}

// NewDelta reads both contents, cuts them, and finds in the old one the chunks
// of the new one. It returns the first error of reading.
func NewDelta(c *Cutter, old, next io.Reader) (Delta, error) {
	there := map[Fingerprint]int64{}
	at := int64(0)
	err := c.Split(old, nil, func(chunk []byte) error {
		f := Of(chunk)
		if _, known := there[f]; !known {
			there[f] = at
		}
		at += int64(len(chunk))
		return nil
	})
	if err != nil {
		return Delta{}, err
	}
	var d Delta
	hash := blake3.New()
	err = c.Split(next, nil, func(chunk []byte) error {
		from, known := there[Of(chunk)]
		if !known {
			from = -1
			d.Lacks += int64(len(chunk))
		}
		hash.Write(chunk)
		d.add(Part{d.Size, int64(len(chunk)), from})
		d.Size += int64(len(chunk))
		return nil
	})
	hash.Sum(d.Digest[:0])
	return d, err
}

// add adds a part, to the one before it where both can be one.
func (d *Delta) add(p Part) {
	if n := len(d.Parts); n > 0 {
		last := &d.Parts[n-1]
		if last.From < 0 && p.From < 0 || last.From >= 0 && p.From == last.From+last.Length {
			last.Length += p.Length
			return
		}
	}
	d.Parts = append(d.Parts, p)
}
