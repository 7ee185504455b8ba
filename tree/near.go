package tree

import (
	"context"
	"crypto/sha256"
	"io"
	"sync"

	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
)

// Near is what a [Content] may offer beside reading: that it is hashed and cut
// where it lies, so that its bytes need not travel.
type Near interface {
	// Sum hashes all of it.
	Sum(ctx context.Context, by Hash) ([32]byte, error)
	// Chunks cuts it by sizes.
	Chunks(ctx context.Context, sizes chunk.Sizes) (chunk.List, error)
}

// Hash is a way to hash contents, into 32 bytes.
type Hash string

const (
	BLAKE3 Hash = "blake3"
	SHA256 Hash = "sha256" // FIPS 180-4
)

// As finds what a Content offers beside reading, also when it is wrapped in
// others that have a method Unwrap.
func As[T any](content Content) (offer T, ok bool) {
	for content != nil {
		if offer, ok = content.(T); ok {
			return offer, true
		}
		wrapped, is := content.(interface{ Unwrap() Content })
		if !is {
			return offer, false
		}
		content = wrapped.Unwrap()
	}
	return offer, false
}

// Chunks cuts a content: where it lies if that is possible, else by reading it.
func Chunks(ctx context.Context, content Content, sizes chunk.Sizes) (chunk.List, error) {
	if near, ok := As[Near](content); ok {
		return near.Chunks(ctx, sizes)
	}
	cutter, err := chunk.NewCutter(sizes)
	if err != nil {
		return chunk.List{}, err
	}
	stream := Stream(ctx, content, 0)
	defer stream.Close()
	return chunk.NewList(cutter, stream)
}

// hashes are used again: each is as large as a small file.
var hashes = sync.Pool{New: func() any { return blake3.New() }}

// Sum hashes a content, where it lies if that is possible. Else it is read, through
// what through makes of it unless that is nil. It returns ErrUnsupported for a hash
// that it does not know.
func Sum(ctx context.Context, content Content, by Hash, through func(io.Reader) io.Reader) (d [32]byte, err error) {
	if near, ok := As[Near](content); ok {
		return near.Sum(ctx, by)
	}
	stream := Stream(ctx, content, 0)
	defer stream.Close()
	var from io.Reader = stream
	if through != nil {
		from = through(stream)
	}
	switch by {
	case BLAKE3:
		hash := hashes.Get().(*blake3.Hasher)
		defer hashes.Put(hash)
		hash.Reset()
		_, err = io.Copy(hash, from)
		hash.Sum(d[:0])
	case SHA256:
		hash := sha256.New()
		_, err = io.Copy(hash, from)
		hash.Sum(d[:0])
	default:
		err = ErrUnsupported
	}
	return d, err
}
