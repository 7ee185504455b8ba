// Package chunk cuts content into chunks where the content itself says so, and
// tells two chunks apart by their fingerprints. Cut in this way, bytes that are
// put in or left out change the chunks around them alone: those after them are
// found again, wherever they lie.
//
// A gear hash is rolled over the content (Xia et al., "FastCDC: a Fast and
// Efficient Content-Defined Chunking Approach", USENIX ATC 2016): a chunk ends
// where enough of its upper bits are zero, which takes more of them before the
// average length than after it, so that lengths gather around the average.
package chunk

import (
	"errors"
	"fmt"
	"io"
	"math/bits"

	"github.com/zeebo/blake3"
)

// Sizes bound the lengths of chunks, in bytes. Average is a power of two.
type Sizes struct{ Min, Average, Max int }

// Around are sizes about an average: from a quarter of it to four times as much.
// The average is rounded to a power of two.
func Around(average int) Sizes {
	average = 1 << (bits.Len(uint(max(average, 256))) - 1)
	return Sizes{average / 4, average, average * 4}
}

// Check returns an error for sizes that no content can be cut by.
func (s Sizes) Check() error {
	switch {
	case s.Average < 256 || s.Average&(s.Average-1) != 0 || s.Average > 1<<28:
		return fmt.Errorf("an average of %d bytes is not a power of two from 256 on", s.Average)
	case s.Min < 64 || s.Min > s.Average || s.Max < s.Average || s.Max > 1<<30:
		return fmt.Errorf("the least (%d) and the most (%d) bytes do not lie around the average of %d", s.Min, s.Max, s.Average)
	}
	return nil
}

// Fingerprint is the BLAKE3 hash of a chunk.
type Fingerprint [32]byte

// Of is the fingerprint of a chunk.
func Of(chunk []byte) Fingerprint { return blake3.Sum256(chunk) }

// Cutter cuts content. It is never changed, and may be used side by side.
type Cutter struct {
	sizes      Sizes
	hard, easy uint64 // bits that must be zero: before the average, and after
}

// narrow is how many bits more must be zero before the average, and less after.
const narrow = 2

// NewCutter makes a cutter. It returns an error for sizes that do not fit.
func NewCutter(s Sizes) (*Cutter, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	n := bits.Len(uint(s.Average)) - 1
	return &Cutter{s, upper(n + narrow), upper(n - narrow)}, nil
}

func upper(n int) uint64 { return ^uint64(0) << (64 - n) }

// Sizes are what the cutter was made with.
func (c *Cutter) Sizes() Sizes { return c.sizes }

// Cut returns the length of the first chunk of data. data must be all that is
// left, or hold at least the most bytes of a chunk.
func (c *Cutter) Cut(data []byte) int {
	if len(data) <= c.sizes.Min {
		return len(data)
	}
	data = data[:min(len(data), c.sizes.Max)]
	middle := min(c.sizes.Average, len(data))
	var h uint64
	// What is before the least length decides nothing, but for the last 64 bytes,
	// which are all that the hash remembers.
	for _, b := range data[c.sizes.Min-64 : c.sizes.Min] {
		h = h<<1 + gear[b]
	}
	if n, ok := roll(data[c.sizes.Min:middle], &h, c.hard); ok {
		return c.sizes.Min + n
	}
	if n, ok := roll(data[middle:], &h, c.easy); ok {
		return middle + n
	}
	return len(data)
}

// roll rolls the hash over data until the bits of mask are zero, and returns
// after how many bytes that is.
func roll(data []byte, hash *uint64, mask uint64) (int, bool) {
	h := *hash
	n := 0
	for ; len(data) >= 4; data = data[4:] {
		h = h<<1 + gear[data[0]]
		if h&mask == 0 {
			return n + 1, true
		}
		h = h<<1 + gear[data[1]]
		if h&mask == 0 {
			return n + 2, true
		}
		h = h<<1 + gear[data[2]]
		if h&mask == 0 {
			return n + 3, true
		}
		h = h<<1 + gear[data[3]]
		if h&mask == 0 {
			return n + 4, true
		}
		n += 4
	}
	for _, b := range data {
		h = h<<1 + gear[b]
		n++
		if h&mask == 0 {
			return n, true
		}
	}
	*hash = h
	return 0, false
}

// gear has a number for each byte, the same for ever: other ones would cut
// other chunks. They come from SplitMix64 (Steele, Lea, Flood, OOPSLA 2014).
var gear = func() (table [256]uint64) {
	state := uint64(0x6272696467655370) // "bridgeSp"
	for i := range table {
		state += 0x9e3779b97f4a7c15
		z := state
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		table[i] = z ^ z>>31
	}
	return table
}()

// Split cuts what a reader holds, and calls each with every chunk in order. A
// chunk is valid until each returns. It returns the first error of either.
func (c *Cutter) Split(r io.Reader, buffer []byte, each func(chunk []byte) error) error {
	if len(buffer) < 2*c.sizes.Max {
		buffer = make([]byte, max(2*c.sizes.Max, 1<<20))
	}
	begin, end := 0, 0
	for ended := false; ; {
		if !ended && end-begin < c.sizes.Max {
			end = copy(buffer, buffer[begin:end])
			begin = 0
			n, err := io.ReadFull(r, buffer[end:])
			end += n
			switch {
			case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
				ended = true
			case err != nil:
				return err
			}
		}
		if begin == end {
			return nil
		}
		n := c.Cut(buffer[begin:end])
		if err := each(buffer[begin : begin+n]); err != nil {
			return err
		}
		begin += n
	}
}
