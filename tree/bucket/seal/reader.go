package seal

import (
	"bufio"
	"io"

	"bridgespan/core/chunk"

	"github.com/zeebo/blake3"
)

// Reader reads a content sealed.
type Reader struct {
	file   *File
	from   *bufio.Reader
	hash   *blake3.Hasher
	number int64
	buffer []byte
	ready  []byte // of buffer, not read yet
	over   bool
}

// NewReader seals a content as a file.
func (f *File) NewReader(content io.Reader) *Reader {
	return &Reader{file: f, from: bufio.NewReaderSize(content, 4*ChunkSize), hash: blake3.New(), ready: f.Head[:], buffer: make([]byte, 0, ChunkSize+SealedChunk)}
}

// Digest is the BLAKE3 hash of the content that was read.
func (r *Reader) Digest() chunk.Digest { return chunk.Digest(r.hash.Sum(nil)) }

func (r *Reader) Read(p []byte) (n int, err error) {
	for len(r.ready) == 0 {
		if r.over {
			return 0, io.EOF
		}
		if err := r.next(); err != nil {
			return 0, err
		}
	}
	n = copy(p, r.ready)
	r.ready = r.ready[n:]
	return n, nil
}

// next seals the next chunk. A content that ends with a whole chunk has no empty one after it.
func (r *Reader) next() error {
	content := r.buffer[:ChunkSize]
	n, err := io.ReadFull(r.from, content)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		r.over = true
	} else if err != nil {
		return err
	} else if _, err := r.from.Peek(1); err == io.EOF {
		r.over = true
	} else if err != nil {
		return err
	}
	r.hash.Write(content[:n])
	r.ready = r.file.Seal(r.buffer[ChunkSize:ChunkSize], content[:n], r.number, r.over)
	r.number++
	return nil
}
