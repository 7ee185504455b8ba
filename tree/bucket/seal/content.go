package seal

import (
	"fmt"
	"io"
	"sync"

	"bridgespan/guard"
)

// Content reads ranges of the content of a sealed file. It is safe for concurrent use.
type Content struct {
	key  *Key
	from io.ReaderAt // the sealed file
	size int64       // of the content

	mu     sync.Mutex
	file   *File
	chunk  []byte // the chunk that was read in part last: who reads in order goes on in it
	number int64
}

// Content opens a sealed file whose content has so many bytes. It reads nothing yet.
func (k *Key) Content(from io.ReaderAt, size int64) *Content {
	return &Content{key: k, from: from, size: size, number: -1}
}

// End is how far a sealed file has to be read for so many bytes of its content.
func End(content int64) int64 { return HeadSize + chunks(content)*SealedChunk }

// near is how far into the content a first read may be for the header to be read with it.
const near = 1 << 20

// ReadAt follows io.ReaderAt. It returns an error wrapping ErrDamaged for bytes that the holder of the key did not write.
func (c *Content) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("a negative offset: %d", off)
	}
	if off >= c.size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), c.size-off)]
	if n = c.remembered(want, off); n < len(want) {
		var k int
		k, err = c.read(want[n:], off+int64(n))
		n += k
	}
	if err == nil && len(want) < len(p) {
		err = io.EOF
	}
	return n, err
}

// remembered copies what the last read has left over.
func (c *Content) remembered(p []byte, off int64) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if off/ChunkSize != c.number {
		return 0
	}
	return copy(p, c.chunk[off%ChunkSize:])
}

// read reads the chunks that a part of the content is in.
func (c *Content) read(p []byte, off int64) (n int, err error) {
	first, end := off/ChunkSize, off+int64(len(p))
	last := (end - 1) / ChunkSize
	start, stop := HeadSize+first*SealedChunk, min(HeadSize+(last+1)*SealedChunk, Size(c.size))
	file, sealed, err := c.get(start, stop)
	if err != nil {
		return 0, err
	}
	for number := first; number <= last; number++ {
		piece := sealed[:min(SealedChunk, len(sealed))]
		sealed = sealed[len(piece):]
		skip := off + int64(n) - number*ChunkSize
		if whole := p[n:]; skip == 0 && len(whole) >= ChunkSize {
			if _, err := file.Open(whole[:0:ChunkSize], piece, number, number == chunks(c.size)-1); err != nil {
				return n, err
			}
			n += ChunkSize
			continue
		}
		content, err := file.Open(nil, piece, number, number == chunks(c.size)-1)
		if err != nil {
			return n, err
		}
		n += copy(p[n:], content[skip:])
		c.remember(number, content)
	}
	return n, nil
}

func (c *Content) remember(number int64, content []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.number, c.chunk = number, content
}

// get reads a part of the sealed file, and its header when that was not read yet: with one read, or with two side by side.
func (c *Content) get(start, stop int64) (*File, []byte, error) {
	c.mu.Lock()
	file := c.file
	c.mu.Unlock()
	if file != nil {
		sealed := make([]byte, stop-start)
		return file, sealed, full(c.from, sealed, start)
	}
	if start <= near {
		all := make([]byte, stop)
		if err := full(c.from, all, 0); err != nil {
			return nil, nil, err
		}
		file, err := c.open(all[:HeadSize])
		return file, all[start:], err
	}
	head, sealed := make([]byte, HeadSize), make([]byte, stop-start)
	var group guard.Group
	group.Go(func() error { return full(c.from, head, 0) })
	group.Go(func() error { return full(c.from, sealed, start) })
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	file, err := c.open(head)
	return file, sealed, err
}

func (c *Content) open(head []byte) (*File, error) {
	file, err := c.key.OpenFile(head)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.file = file
	return file, nil
}

// full reads all of p.
func full(from io.ReaderAt, p []byte, at int64) error {
	n, err := from.ReadAt(p, at)
	if n == len(p) {
		return nil
	}
	if err == nil || err == io.EOF {
		err = fmt.Errorf("%w: %d of %d bytes at %d", ErrDamaged, n, len(p), at)
	}
	return err
}
