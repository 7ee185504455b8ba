// Package ndr reads and writes the parameters of remote calls in their
// transfer syntax (DCE 1.1: Remote Procedure Call, chapter 14).
//
// A [Writer] cannot fail. A [Reader] remembers its first error and gives zero
// values from then on, so that a decoder reads like the declaration of what it
// decodes and checks once at its end. It never believes a length before it has
// seen that as many bytes are there: what it allocates is bounded by what
// arrived.
package ndr

import (
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf16"

	"bridgespan/core/account"
)

// ErrMalformed is wrapped by every error of a Reader.
var ErrMalformed = errors.New("malformed answer of the server")

// Writer builds parameters. The zero value is ready.
type Writer struct {
	b        []byte
	pointers uint32
	later    []func()
}

// Bytes is what was written.
func (w *Writer) Bytes() []byte { return w.b }

func (w *Writer) align(n int) {
	for len(w.b)%n != 0 {
		w.b = append(w.b, 0)
	}
}

// Raw writes bytes as they are.
func (w *Writer) Raw(b []byte) { w.b = append(w.b, b...) }

// U8, U16 and U32 write aligned numbers.
func (w *Writer) U8(v uint8) { w.b = append(w.b, v) }

func (w *Writer) U16(v uint16) {
	w.align(2)
	w.b = binary.LittleEndian.AppendUint16(w.b, v)
}

func (w *Writer) U32(v uint32) {
	w.align(4)
	w.b = binary.LittleEndian.AppendUint32(w.b, v)
}

// Pointer writes a pointer to what write writes; nil writes the null pointer.
// What it points to follows directly: this is the form of a pointer that
// stands by itself.
func (w *Writer) Pointer(write func()) {
	if write == nil {
		w.U32(0)
		return
	}
	w.referent()
	write()
}

func (w *Writer) referent() {
	w.pointers += 4
	w.U32(0x00020000 + w.pointers)
}

// Inside writes a pointer inside of a structure: what it points to follows
// after the structure, at the next Flush.
func (w *Writer) Inside(write func()) {
	if write == nil {
		w.U32(0)
		return
	}
	w.referent()
	w.later = append(w.later, write)
}

// Flush writes what the pointers inside of the structure just written point to.
func (w *Writer) Flush() {
	for len(w.later) > 0 {
		pending := w.later
		w.later = nil
		for _, write := range pending {
			write()
			w.Flush()
		}
	}
}

// Text writes a string with its terminating zero.
func (w *Writer) Text(s string) {
	units := append(utf16.Encode([]rune(s)), 0)
	w.U32(uint32(len(units)))
	w.U32(0)
	w.U32(uint32(len(units)))
	w.units(units)
}

func (w *Writer) units(units []uint16) {
	for _, u := range units {
		w.b = binary.LittleEndian.AppendUint16(w.b, u)
	}
}

// Name writes a counted string without a terminating zero ([MS-DTYP] 2.3.10),
// inside of a structure.
func (w *Writer) Name(s string) {
	units := utf16.Encode([]rune(s))
	w.align(4)
	w.U16(uint16(2 * len(units)))
	w.U16(uint16(2 * len(units)))
	w.Inside(func() {
		w.U32(uint32(len(units)))
		w.U32(0)
		w.U32(uint32(len(units)))
		w.units(units)
	})
}

// SID writes an account with the count of its parts in front.
func (w *Writer) SID(s account.SID) {
	w.U32(uint32(len(s.Subs())))
	w.Raw(s.Binary())
}

// Reader takes parameters apart.
type Reader struct {
	b   []byte
	at  int
	err error
}

// NewReader reads b, which it does not change and may retain.
func NewReader(b []byte) *Reader { return &Reader{b: b} }

// Err is the first error.
func (r *Reader) Err() error { return r.err }

// Fail makes the reader fail.
func (r *Reader) Fail(format string, args ...any) {
	if r.err == nil {
		r.err = fmt.Errorf("%w: %s, at byte %d", ErrMalformed, fmt.Sprintf(format, args...), r.at)
	}
}

// take returns the next n bytes after aligning to align, or nil when they are not there.
func (r *Reader) take(n, align int) []byte {
	if r.err != nil {
		return nil
	}
	start := (r.at + align - 1) / align * align
	if n < 0 || start > len(r.b) || n > len(r.b)-start {
		r.Fail("%d bytes are needed and %d are there", n, max(0, len(r.b)-start))
		return nil
	}
	r.at = start + n
	return r.b[start:r.at]
}

// Raw reads n bytes as they are.
func (r *Reader) Raw(n int) []byte { return r.take(n, 1) }

// Raw32 reads n bytes that begin where a number of 32 bits would.
func (r *Reader) Raw32(n int) []byte { return r.take(n, 4) }

// U16 and U32 read aligned numbers.
func (r *Reader) U16() uint16 {
	if b := r.take(2, 2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

func (r *Reader) U32() uint32 {
	if b := r.take(4, 4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

// Pointer reads a pointer and reports whether something follows for it.
func (r *Reader) Pointer() bool { return r.U32() != 0 }

// Count reads the length of an array, of elements that take at least size bytes each.
func (r *Reader) Count(size int) int {
	n := r.U32()
	if r.err == nil && uint64(n)*uint64(size) > uint64(len(r.b)-r.at) {
		r.Fail("%d elements of at least %d bytes cannot be in %d bytes", n, size, len(r.b)-r.at)
		return 0
	}
	if r.err != nil {
		return 0
	}
	return int(n)
}

// Text reads a string, with or without a terminating zero.
func (r *Reader) Text() string {
	r.U32() // room that the sender had
	if offset := r.U32(); offset != 0 {
		r.Fail("a string begins at %d", offset)
	}
	b := r.Raw(2 * r.Count(2))
	units := make([]uint16, 0, len(b)/2)
	for ; len(b) >= 2; b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	for len(units) > 0 && units[len(units)-1] == 0 {
		units = units[:len(units)-1]
	}
	return string(utf16.Decode(units))
}

// Name reads a counted string inside of a structure, and returns what reads its
// content, which follows after the structure.
func (r *Reader) Name() (content func() string) {
	r.take(0, 4)
	r.U16()
	r.U16()
	if !r.Pointer() {
		return func() string { return "" }
	}
	return r.Text
}

// SID reads an account with the count of its parts in front.
func (r *Reader) SID() account.SID {
	n := r.U32()
	if n > account.MaxSubs {
		r.Fail("a SID of %d parts", n)
		return account.SID{}
	}
	b := r.Raw(8 + 4*int(n))
	if b == nil {
		return account.SID{}
	}
	if b[0] == 0 { // how some servers write nobody
		return account.SID{}
	}
	s, _, err := account.ReadSID(b)
	if err != nil {
		r.Fail("%v", err)
	}
	return s
}
