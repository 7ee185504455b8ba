package chunk

// Part is a range of a new content. From is where an old content holds the same;
// below 0 where it does not.
type Part struct{ At, Length, From int64 }

// Delta says what of a new content an old one holds already.
type Delta struct {
	Parts  []Part // in order, all of the new content; neighbours that follow on are one
	Digest Digest
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

// Compare finds in an old content the chunks of a new one. Both must have been
// cut by the same sizes.
func Compare(old, next List) Delta {
	there := make(map[Fingerprint]int64, len(old.Chunks))
	at := int64(0)
	for _, c := range old.Chunks {
		if _, known := there[c.Fingerprint]; !known {
			there[c.Fingerprint] = at
		}
		at += int64(c.Length)
	}
	d := Delta{Digest: next.Digest}
	for _, c := range next.Chunks {
		length := int64(c.Length)
		from, known := there[c.Fingerprint]
		if !known {
			from = -1
			d.Lacks += length
		}
		d.add(Part{d.Size, length, from})
		d.Size += length
	}
	return d
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
