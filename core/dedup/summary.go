package dedup

import (
	"encoding/binary"
	"errors"
	"io"

	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
)

// Print tells chunks apart: the first half of their fingerprint.
type Print [16]byte

// PrintOf is the print of a chunk with a fingerprint.
func PrintOf(f chunk.Fingerprint) Print { return Print(f[:16]) }

// value is what prints are sampled by.
func (p *Print) value() uint64 { return binary.BigEndian.Uint64(p[:8]) }

// Kept reports whether a print is in the sample of a level: one in 2^level is.
func (p *Print) Kept(level uint8) bool { return level == 0 || p.value()>>(64-level) == 0 }

// Mark is a chunk as it is kept.
type Mark struct {
	Print  Print
	Length uint32 // bytes
	Packed uint32 // bytes once compressed, never more than Length; 0 where not measured
}

// Summary is what is kept of a file that was read.
type Summary struct {
	Digest [16]byte // equal for files with equal content, read with one profile
	Chunks int64    // how many chunks it has, not counting holes
	Zeros  int64    // bytes in blocks of nothing but zeros, which may be holes
	Level  uint8    // of every 2^Level prints, one is in Marks
	Marks  []Mark   // in order, as often as they occur
}

// Thin gives up the marks that are not in the sample of a level.
func (s *Summary) Thin(level uint8) {
	if level <= s.Level {
		return
	}
	kept := s.Marks[:0]
	for _, m := range s.Marks {
		if m.Print.Kept(level) {
			kept = append(kept, m)
		}
	}
	s.Marks, s.Level = kept, level
}

// Compression says of which chunks it is measured how far they compress.
type Compression uint8

const (
	OfSample Compression = iota // one chunk in 16, chosen by its print
	OfAll
)

// measured reports whether a chunk's compression is measured.
func (c Compression) measured(p *Print) bool { return c == OfAll || p[15]&15 == 0 }

// rate is of which part of the chunks it is measured.
func (c Compression) rate() float64 {
	if c == OfAll {
		return 1
	}
	return 1.0 / 16
}

// Reader summarises files, one after the other, in buffers that are used again.
type Reader struct {
	cutter   *Cutter
	compress Compression
	level    uint8
	known    func(p *Print) (packed uint32)
	buffer   []byte
	hash     *blake3.Hasher
	pack     func(chunk []byte) int
}

// NewReader makes a reader that keeps the marks of a level. pack tells how many bytes
// a chunk takes once compressed.
func NewReader(c *Cutter, compress Compression, level uint8, pack func(chunk []byte) int) *Reader {
	return &Reader{cutter: c, compress: compress, level: level, buffer: make([]byte, max(2*c.Most(), 1<<20)), hash: blake3.New(), pack: pack}
}

// SetLevel lets the files that come keep the marks of a level.
func (r *Reader) SetLevel(level uint8) { r.level = level }

// Known lets the reader ask how far a chunk compresses that was seen before: 0 where
// it was not.
func (r *Reader) Known(known func(p *Print) (packed uint32)) { r.known = known }

// MostMarks is how many marks of one file are kept: of one that has more, a sample.
// That is a file of some 250 GB.
const MostMarks = 8 << 20

// Read summarises what a reader holds. passed is told how many bytes were cut, now
// and then.
func (r *Reader) Read(content io.Reader, passed func(bytes int)) (Summary, error) {
	s := Summary{Level: r.level}
	r.hash.Reset()
	blocks := emptyBlocks{empty: true}
	err := r.cutter.Split(content, r.buffer, func(c []byte) error {
		if passed != nil {
			passed(len(c))
		}
		blocks.pass(c)
		f := chunk.Of(c)
		r.hash.Write(f[:])
		s.Chunks++
		m := Mark{Print: PrintOf(f), Length: uint32(len(c))}
		if m.Print.Kept(r.level) {
			if r.compress.measured(&m.Print) {
				if r.known != nil {
					m.Packed = r.known(&m.Print)
				}
				if m.Packed == 0 {
					m.Packed = uint32(min(r.pack(c), len(c)))
				}
			}
			s.Marks = append(s.Marks, m)
		}
		if len(s.Marks) == MostMarks {
			s.Thin(s.Level + 1)
			r.level = s.Level
		}
		return nil
	})
	s.Zeros = blocks.bytes()
	var sum [32]byte
	copy(s.Digest[:], r.hash.Sum(sum[:0]))
	return s, err
}

// The form in which summaries are kept: a byte for the form, one for the level, and
// then numbers as uvarints (encoding/binary), with the prints as they are.
const form = 1

var errForm = errors.New("a summary that cannot be read")

// AppendBinary appends the form in which a summary is kept; the digest is kept beside it.
func (s *Summary) AppendBinary(b []byte) ([]byte, error) {
	b = append(b, form, s.Level)
	b = binary.AppendUvarint(b, uint64(s.Chunks))
	b = binary.AppendUvarint(b, uint64(s.Zeros))
	b = binary.AppendUvarint(b, uint64(len(s.Marks)))
	for _, m := range s.Marks {
		b = append(b, m.Print[:]...)
		b = binary.AppendUvarint(b, uint64(m.Length))
		b = binary.AppendUvarint(b, uint64(m.Packed))
	}
	return b, nil
}

// UnmarshalBinary reads a summary as AppendBinary writes it.
func (s *Summary) UnmarshalBinary(b []byte) error {
	if len(b) < 2 || b[0] != form || b[1] > 60 {
		return errForm
	}
	s.Level, b = b[1], b[2:]
	good := true
	next := func() uint64 {
		n, size := binary.Uvarint(b)
		if size <= 0 {
			good = false
			return 0
		}
		b = b[size:]
		return n
	}
	s.Chunks, s.Zeros = int64(next()), int64(next())
	count := next()
	if !good || count > uint64(len(b))/18 {
		return errForm
	}
	s.Marks = make([]Mark, count)
	for i := range s.Marks {
		m := &s.Marks[i]
		if len(b) < len(m.Print) {
			return errForm
		}
		b = b[copy(m.Print[:], b):]
		length, packed := next(), next()
		if !good || length > 1<<30 || packed > length {
			return errForm
		}
		m.Length, m.Packed = uint32(length), uint32(packed)
	}
	if len(b) > 0 {
		return errForm
	}
	return nil
}
