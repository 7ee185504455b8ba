// Package transfer is the one way in which Bridge Span copies files between trees.
//
// A file is staged in the intake of its destination, sealed from other accounts, and gets
// its permissions, times and attributes there. What was stored is hashed as stored. One
// rename then puts it in its place, so that under its name it is at every moment absent, as
// before, or complete. What crosses is as little as is known to be missing: nothing where
// the destination has another copy, the changed chunks where it has an older version, the
// rest where an earlier transfer was interrupted. Small files of a new folder travel
// together, as a [Bundle].
//
// The package knows nothing of versions: who decides what is to be copied calls
// [Endpoint.Stage], writes down what is about to happen, and calls [Staged.Place]. Who has
// nothing to write down calls [Copy] or [CopyFolder].
package transfer

import (
	"context"
	"fmt"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// ErrOlderChanged is [tree.ErrChanged] of the older version at the destination.
var ErrOlderChanged = fmt.Errorf("the older version: %w", tree.ErrChanged)

// File is a file to be copied, as the caller knows it.
type File struct {
	Path string // at the source
	// Entry is the file as it was last seen there: its number, size and time are compared
	// when it is opened and when it was read.
	Entry tree.Entry
	// Digest is the hash of its content, or zero when it was not read yet.
	Digest chunk.Digest
}

// Known is a file of the destination of which the content is known.
type Known struct {
	Path   string
	Entry  tree.Entry // as it was last seen there
	Digest chunk.Digest
}

// Options say how one file is copied.
type Options struct {
	// Meta is given to the file before it is placed.
	Meta tree.Meta
	// Detail is how much of the staged file is returned.
	Detail tree.Detail
	// Pace is asked for every range of bytes that crosses; it returns when that may be. nil
	// never waits.
	Pace func(ctx context.Context, bytes int) error
	// Limiter bounds what is done side by side; nil does not.
	Limiter *Limiter
	// Key names the file in the journal of the destination, so that an interrupted transfer
	// resumes; "" always begins anew.
	Key string
	// Older is the version that the destination has now, which is to be replaced.
	Older *Known
	// FetchStubs copies files of which only a stub is at the source, which fetches their contents;
	// else they fail with [tree.ErrStub].
	FetchStubs bool
	// Alike lists files of the destination that may have the same content. nil lists none.
	Alike func(ctx context.Context) ([]Known, error)
}

// Settings are the sizes from which on something is tried. The zero value suits real files.
type Settings struct {
	// DeltaFrom is from how many bytes on only what the destination lacks is copied; 0 means
	// what usually pays.
	DeltaFrom int64
	// Average is the size in bytes of the chunks that files are cut into; 0 is as suits them.
	Average int
	// Piece is how many bytes of a large file are made durable together; 0 is what arrives in
	// ten seconds.
	Piece int64
}

// least is from how many bytes on something is tried that saves transfer.
func (s Settings) least(usual int64) int64 {
	if s.DeltaFrom > 0 {
		return s.DeltaFrom
	}
	return usual
}

// sizes are those by which a file is cut that was not cut before.
func (s Settings) sizes(size int64) chunk.Sizes {
	if s.Average > 0 {
		return chunk.Around(s.Average)
	}
	return chunk.For(size)
}

// enough returns a function that tells when so many bytes have arrived that they are to be
// made durable.
func (s Settings) enough() func(n int64) bool {
	if s.Piece > 0 {
		return func(n int64) bool { return n >= s.Piece }
	}
	until := time.Now().Add(pieceFor)
	return func(n int64) bool { return n > 0 && time.Now().After(until) }
}

// SmallFile is up to how many bytes a file is read at once.
const SmallFile = 64 << 10
