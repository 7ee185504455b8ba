package chunk

import (
	"encoding/binary"
	"errors"
	"io"

	"github.com/zeebo/blake3"
)

// List is what a content is made of.
type List struct {
	Sizes  Sizes   // by which it was cut
	Chunks []Chunk // in order
	Digest Digest
	Size   int64 // bytes of the content
}

// Chunk is one of them: its length in bytes, and its fingerprint.
type Chunk struct {
	Length      int
	Fingerprint Fingerprint
}

// NewList reads a content and cuts it. It returns the first error of reading.
func NewList(c *Cutter, content io.Reader) (List, error) {
	hash, lister := blake3.New(), NewLister(c)
	_, err := io.Copy(io.MultiWriter(hash, lister), content)
	l := lister.List()
	hash.Sum(l.Digest[:0])
	return l, err
}

// Lister cuts what is written to it, as it passes by.
type Lister struct {
	cutter *Cutter
	rest   []byte // shorter than the longest chunk
	list   List
}

// NewLister makes one to which nothing was written yet.
func NewLister(c *Cutter) *Lister { return &Lister{cutter: c, list: List{Sizes: c.sizes}} }

// Write never fails.
func (l *Lister) Write(p []byte) (int, error) {
	n, most := len(p), l.cutter.sizes.Max
	for len(p) > 0 {
		if len(l.rest) == 0 && len(p) >= most { // nothing has to be copied
			p = p[l.add(p):]
			continue
		}
		taken := min(len(p), most-len(l.rest))
		l.rest = append(l.rest, p[:taken]...)
		if len(l.rest) < most {
			break
		}
		left := len(l.rest) - l.add(l.rest)
		if left > taken {
			l.rest = l.rest[:copy(l.rest, l.rest[len(l.rest)-left:])]
			left = 0
		} else {
			l.rest = l.rest[:0]
		}
		p = p[taken-left:]
	}
	return n, nil
}

// add adds the first chunk of data, and returns its length.
func (l *Lister) add(data []byte) int {
	n := l.cutter.Cut(data)
	l.list.Chunks = append(l.list.Chunks, Chunk{n, Of(data[:n])})
	l.list.Size += int64(n)
	return n
}

// List ends what was written, and returns what that is made of, without a digest.
func (l *Lister) List() List {
	for len(l.rest) > 0 {
		l.rest = l.rest[l.add(l.rest):]
	}
	return l.list
}

// listForm is the first byte of a list in binary form, which it tells apart from
// others that may come.
const listForm = 1

var errList = errors.New("it is no list of chunks")

// AppendBinary appends the list in binary form: a byte that names the form; as
// varints ([encoding/binary]) the sizes (least, average, most); the digest; and of each
// chunk, its length as a varint and its fingerprint.
func (l List) AppendBinary(b []byte) ([]byte, error) {
	b = append(b, listForm)
	for _, n := range []int{l.Sizes.Min, l.Sizes.Average, l.Sizes.Max} {
		b = binary.AppendUvarint(b, uint64(n))
	}
	b = append(b, l.Digest[:]...)
	for _, c := range l.Chunks {
		b = append(binary.AppendUvarint(b, uint64(c.Length)), c.Fingerprint[:]...)
	}
	return b, nil
}

// UnmarshalBinary reads what AppendBinary wrote. It returns an error for anything else.
func (l *List) UnmarshalBinary(b []byte) error {
	if len(b) == 0 || b[0] != listForm {
		return errList
	}
	b = b[1:]
	var read List
	for _, n := range []*int{&read.Sizes.Min, &read.Sizes.Average, &read.Sizes.Max} {
		value, width := binary.Uvarint(b)
		if width <= 0 || value > 1<<30 {
			return errList
		}
		*n, b = int(value), b[width:]
	}
	if read.Sizes.Check() != nil || len(b) < len(read.Digest) {
		return errList
	}
	b = b[copy(read.Digest[:], b):]
	for len(b) > 0 {
		var c Chunk
		length, width := binary.Uvarint(b)
		if width <= 0 || length == 0 || length > uint64(read.Sizes.Max) || len(b) < width+len(c.Fingerprint) {
			return errList
		}
		c.Length, b = int(length), b[width:]
		b = b[copy(c.Fingerprint[:], b):]
		read.Chunks = append(read.Chunks, c)
		read.Size += int64(length)
	}
	*l = read
	return nil
}
