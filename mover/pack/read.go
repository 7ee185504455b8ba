package pack

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/core/dedup"
)

// Store is one that is read.
type Store struct {
	Profile dedup.Profile
	dir     string
	packs   *os.File
	index   []where
	decoder *zstd.Decoder
	kept    []byte
	plain   []byte
}

// Open opens a store to be read. The caller must close it.
func Open(dir string) (*Store, error) {
	text, err := os.ReadFile(filepath.Join(dir, formatFile))
	if err != nil {
		return nil, err
	}
	name, ok := strings.CutPrefix(strings.TrimSpace(string(text)), form+" ")
	profile, err := dedup.CheckProfile("profile", name)
	if !ok || err != nil {
		return nil, broken("its form is %.60q", text)
	}
	b, err := os.ReadFile(filepath.Join(dir, indexFile))
	if err != nil {
		return nil, err
	}
	if len(b)%indexEach != 0 {
		return nil, broken("its index has %d bytes", len(b))
	}
	s := &Store{Profile: profile, dir: dir}
	for ; len(b) > 0; b = b[indexEach:] {
		at := where{chunk.Fingerprint(b[:32]), int64(binary.LittleEndian.Uint64(b[36:])), binary.LittleEndian.Uint32(b[44:]), binary.LittleEndian.Uint32(b[48:])}
		if at.at < 0 || at.packed > at.length || at.length > 1<<24 {
			return nil, broken("chunk %d lies nowhere", len(s.index))
		}
		s.index = append(s.index, at)
	}
	if s.decoder, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<25)); err != nil {
		return nil, err
	}
	s.packs, err = os.Open(filepath.Join(dir, packsFile))
	return s, err
}

// Close closes the store.
func (s *Store) Close() error {
	s.decoder.Close()
	return s.packs.Close()
}

// Kept is a file of a store.
type Kept struct {
	Path     string
	Size     int64
	Modified int64 // nanoseconds since 1970
	Digest   [32]byte
	chunks   []uint64
}

// mostPath bounds paths that are believed, and mostChunks the chunks of a file.
const (
	mostPath   = 64 << 10
	mostChunks = 1 << 32
)

// Files calls each with every file of the store.
func (s *Store) Files(each func(Kept) error) error {
	f, err := os.Open(filepath.Join(s.dir, filesFile))
	if err != nil {
		return err
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 1<<20)
	head := make([]byte, fileHead)
	for {
		switch _, err := io.ReadFull(r, head); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return broken("its files end too soon")
		}
		k := Kept{Size: int64(binary.LittleEndian.Uint64(head)), Modified: int64(binary.LittleEndian.Uint64(head[8:])), Digest: [32]byte(head[16:48])}
		length, count := binary.LittleEndian.Uint32(head[48:]), binary.LittleEndian.Uint64(head[56:])
		if length > mostPath || count > mostChunks || k.Size < 0 {
			return broken("a file cannot be as it says")
		}
		path := make([]byte, length)
		if _, err := io.ReadFull(r, path); err != nil {
			return broken("its files end too soon")
		}
		k.Path = string(path)
		var number [8]byte
		for range count {
			if _, err := io.ReadFull(r, number[:]); err != nil {
				return broken("its files end too soon")
			}
			n := binary.LittleEndian.Uint64(number[:])
			if n >= uint64(len(s.index)) {
				return broken("%q has a chunk that is not there", k.Path)
			}
			k.chunks = append(k.chunks, n)
		}
		if err := each(k); err != nil {
			return err
		}
	}
}

// Restore writes what a file holds, and checks that it is what went in.
func (s *Store) Restore(k Kept, to io.Writer) error {
	whole := blake3.New()
	var size int64
	for _, n := range k.chunks {
		c, err := s.chunk(n)
		if err != nil {
			return err
		}
		size += int64(len(c))
		_, _ = whole.Write(c)
		if _, err := to.Write(c); err != nil {
			return err
		}
	}
	if size != k.Size || !bytes.Equal(whole.Sum(nil), k.Digest[:]) {
		return broken("%q comes out otherwise than it went in", k.Path)
	}
	return nil
}

// chunk reads a chunk, which is valid until the next.
func (s *Store) chunk(n uint64) ([]byte, error) {
	at := &s.index[n]
	if cap(s.kept) < int(at.packed)+chunkHead {
		s.kept = make([]byte, int(at.packed)+chunkHead)
	}
	kept := s.kept[:int(at.packed)+chunkHead]
	if _, err := s.packs.ReadAt(kept, at.at); err != nil {
		return nil, broken("chunk %d cannot be read: %v", n, err)
	}
	c := kept[chunkHead:]
	if at.packed < at.length {
		var err error
		if s.plain, err = s.decoder.DecodeAll(c, s.plain[:0]); err != nil {
			return nil, broken("chunk %d: %v", n, err)
		}
		c = s.plain
	}
	if chunk.Fingerprint(kept[:32]) != at.fingerprint || chunk.Of(c) != at.fingerprint {
		return nil, broken("chunk %d is not what it was", n)
	}
	return c, nil
}

// Inspect tells what is in a store.
func (s *Store) Inspect() (i dedup.Inspected, err error) {
	refs := make([]int64, len(s.index))
	i = dedup.Inspected{Profile: s.Profile, Chunks: int64(len(s.index)), Shared: []dedup.Sharing{{From: 1}, {From: 2}, {From: 3}, {From: 5}, {From: 10}, {From: 100}}}
	err = s.Files(func(k Kept) error {
		i.Files, i.Bytes, i.Refs = i.Files+1, i.Bytes+k.Size, i.Refs+int64(len(k.chunks))
		for _, n := range k.chunks {
			refs[n]++
		}
		return nil
	})
	for n, at := range s.index {
		i.ChunkSize, i.Packed = i.ChunkSize+int64(at.length), i.Packed+int64(at.packed)
		for k := len(i.Shared) - 1; k >= 0; k-- {
			if c := &i.Shared[k]; refs[n] >= c.From {
				c.Chunks, c.Bytes = c.Chunks+1, c.Bytes+int64(at.length)
				break
			}
		}
	}
	if err == nil {
		i.Stored, err = Size(s.dir)
	}
	return i, err
}
