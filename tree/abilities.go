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

// Tidy tidies a tree as a [Tidier] does, where there is something to do.
func Tidy(ctx context.Context, t Tree) error {
	if i, ok := t.(Tidier); ok {
		return i.Tidy(ctx)
	}
	return nil
}

// MayWrite tells whether a tree lets us write as a [WriteTrier] does.
func MayWrite(ctx context.Context, t Tree, folder string) error {
	if w, ok := t.(WriteTrier); ok {
		return w.MayWrite(ctx, folder)
	}
	return PathError("write", folder, ErrUnsupported)
}

// Identifier is a tree that tells the number of an entry for more round trips than Stat takes.
type Identifier interface {
	// Identify is Stat with the entry's ID. It may need the right to read the entry.
	Identify(ctx context.Context, name string) (Entry, error)
}

// Identify is Stat with the entry's ID, where the tree knows it at all.
func Identify(ctx context.Context, t Tree, name string) (Entry, error) {
	if i, ok := t.(Identifier); ok {
		return i.Identify(ctx, name)
	}
	return t.Stat(ctx, name)
}
