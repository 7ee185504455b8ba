// Package pack keeps files in a chunk store, and gives them back: each different chunk
// is kept once, compressed. It proves what an estimate says: what a store takes is
// measured, and what comes out of it compared with what went in.
//
// A store is a folder. Numbers are little-endian.
//
//	format   a line of text: the name of the form, and the profile that it is cut by
//	packs    chunks one after the other: fingerprint (BLAKE3, 32 bytes), length (4),
//	         length as it is kept (4), and the content, as a frame of zstd (RFC 8878)
//	         where that is shorter
//	index    for each chunk: fingerprint (32), a zero (4), where it begins in packs (8),
//	         length (4), length as it is kept (4); chunks are numbered in this order
//	files    for each file: length (8), time of the last change in nanoseconds since
//	         1970 (8), BLAKE3 of the content (32), bytes of the path (4), zero (4),
//	         number of chunks (8), the path, and the numbers of the chunks (8 each)
//
// So a store takes [dedup.ChunkCost] bytes for each chunk beside it, [dedup.RefCost] for
// each time that a file has one, and [dedup.FileCost] for each file, and its path.
package pack

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/core/dedup"
)

const form = "bridgespan chunk store 1"

// Names of a store's files.
const (
	formatFile = "format"
	packsFile  = "packs"
	indexFile  = "index"
	filesFile  = "files"
)

// ErrStore: what is read is no store, or a broken one.
var ErrStore = errors.New("not a chunk store, or a broken one")

// where is a chunk in a store.
type where struct {
	fingerprint    chunk.Fingerprint
	at             int64
	length, packed uint32
}

const (
	chunkHead = 40
	indexEach = 52
	fileHead  = 64
)

// Packer compresses chunks as stores do. It must not be used side by side.
type Packer struct {
	encoder *zstd.Encoder
	packed  []byte
}

// NewPacker makes a packer: fast, with no more than what a chunk holds in view.
func NewPacker() (*Packer, error) {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
	return &Packer{encoder: e}, err
}

// Pack compresses a chunk; what it returns is valid until the next.
func (p *Packer) Pack(chunk []byte) []byte {
	p.packed = p.encoder.EncodeAll(chunk, p.packed[:0])
	return p.packed
}

// Writer makes a store. Its methods must not be called side by side.
type Writer struct {
	dir     string
	cutter  *dedup.Cutter
	buffer  []byte
	packs   *bufio.Writer
	files   *bufio.Writer
	open    []*os.File
	numbers map[chunk.Fingerprint]uint64
	index   []where
	at      int64
	packer  *Packer
}

// Create makes an empty store in a folder that is not there yet.
func Create(dir string, profile dedup.Profile) (w *Writer, err error) {
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	w = &Writer{dir: dir, numbers: map[chunk.Fingerprint]uint64{}}
	if w.cutter, err = dedup.NewCutter(profile); err != nil {
		return nil, err
	}
	if w.packer, err = NewPacker(); err != nil {
		return nil, err
	}
	w.buffer = make([]byte, max(2*w.cutter.Most(), 1<<20))
	if err := os.WriteFile(filepath.Join(dir, formatFile), []byte(form+" "+string(profile)+"\n"), 0o600); err != nil {
		return nil, err
	}
	for name, to := range map[string]**bufio.Writer{packsFile: &w.packs, filesFile: &w.files} {
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, errors.Join(err, w.closeAll())
		}
		w.open = append(w.open, f)
		*to = bufio.NewWriterSize(f, 1<<20)
	}
	return w, nil
}

func (w *Writer) closeAll() (err error) {
	for _, f := range w.open {
		err = errors.Join(err, f.Close())
	}
	w.open = nil
	return err
}

// Add puts a file into the store.
func (w *Writer) Add(path string, modified int64, content io.Reader) (size int64, err error) {
	var numbers []uint64
	whole := blake3.New()
	err = w.cutter.Split(content, w.buffer, func(c []byte) error {
		size += int64(len(c))
		_, _ = whole.Write(c)
		n, err := w.chunk(c)
		numbers = append(numbers, n)
		return err
	})
	if err != nil {
		return size, err
	}
	head := binary.LittleEndian.AppendUint64(nil, uint64(size))
	head = binary.LittleEndian.AppendUint64(head, uint64(modified))
	head = whole.Sum(head)
	head = binary.LittleEndian.AppendUint32(head, uint32(len(path)))
	head = binary.LittleEndian.AppendUint32(head, 0)
	head = binary.LittleEndian.AppendUint64(head, uint64(len(numbers)))
	head = append(head, path...)
	for _, n := range numbers {
		head = binary.LittleEndian.AppendUint64(head, n)
	}
	_, err = w.files.Write(head)
	return size, err
}

// chunk keeps a chunk, unless it is there, and returns its number.
func (w *Writer) chunk(c []byte) (uint64, error) {
	f := chunk.Of(c)
	if n, ok := w.numbers[f]; ok {
		return n, nil
	}
	kept := w.packer.Pack(c)
	if len(kept) >= len(c) {
		kept = c
	}
	at := where{f, w.at, uint32(len(c)), uint32(len(kept))}
	head := append(f[:], 0, 0, 0, 0, 0, 0, 0, 0)
	binary.LittleEndian.PutUint32(head[32:], at.length)
	binary.LittleEndian.PutUint32(head[36:], at.packed)
	if _, err := w.packs.Write(head); err != nil {
		return 0, err
	}
	if _, err := w.packs.Write(kept); err != nil {
		return 0, err
	}
	w.at += chunkHead + int64(len(kept))
	n := uint64(len(w.index))
	w.numbers[f], w.index = n, append(w.index, at)
	return n, nil
}

// Close writes what is left. The store is whole only when it returns nil.
func (w *Writer) Close() error {
	b := make([]byte, 0, len(w.index)*indexEach)
	for _, at := range w.index {
		b = append(b, at.fingerprint[:]...)
		b = binary.LittleEndian.AppendUint32(b, 0)
		b = binary.LittleEndian.AppendUint64(b, uint64(at.at))
		b = binary.LittleEndian.AppendUint32(b, at.length)
		b = binary.LittleEndian.AppendUint32(b, at.packed)
	}
	err := errors.Join(w.packs.Flush(), w.files.Flush())
	for _, f := range w.open {
		err = errors.Join(err, f.Sync())
	}
	return errors.Join(err, w.closeAll(), os.WriteFile(filepath.Join(w.dir, indexFile), b, 0o600))
}

// Abort gives up a store that was begun, and removes it.
func (w *Writer) Abort() error { return errors.Join(w.closeAll(), os.RemoveAll(w.dir)) }

// Size is how many bytes a store takes.
func Size(dir string) (bytes int64, err error) {
	entries, err := os.ReadDir(dir)
	for _, e := range entries {
		info, bad := e.Info()
		if bad != nil {
			return 0, bad
		}
		bytes += info.Size()
	}
	return bytes, err
}

func broken(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrStore, fmt.Sprintf(format, args...))
}
