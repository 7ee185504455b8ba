package tree

import (
	"context"
	"io"

	"bridgespan/core/chunk"
)

// What only some trees can do, asked of any tree: one that cannot returns an error
// wrapping ErrUnsupported. Stage, Flush, Protect, Watch and OpenExpected are elsewhere in
// this package.

// Exchange lets two files change places as an [Exchanger] does.
func Exchange(ctx context.Context, t Tree, a, b string) error {
	if x, ok := t.(Exchanger); ok {
		return x.Exchange(ctx, a, b)
	}
	return PathError("exchange", a, ErrUnsupported)
}

// Assemble makes a file of parts of another one as an [Assembler] does.
func Assemble(ctx context.Context, t Tree, name, base string, parts []chunk.Part, content io.ReaderAt, options PutOptions) (Entry, error) {
	if a, ok := t.(Assembler); ok {
		return a.Assemble(ctx, name, base, parts, content, options)
	}
	return Entry{}, PathError("assemble", name, ErrUnsupported)
}

// MayWrite tells whether a tree lets us write as a [WriteTrier] does.
func MayWrite(ctx context.Context, t Tree, folder string) error {
	if w, ok := t.(WriteTrier); ok {
		return w.MayWrite(ctx, folder)
	}
	return PathError("write", folder, ErrUnsupported)
}
