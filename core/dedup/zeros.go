package dedup

import "bytes"

// blockSize is in what blocks file systems leave holes, in bytes; larger ones are
// multiples of it.
const blockSize = 4 << 10

var zeros [blockSize]byte

// emptyBlocks counts the blocks of a file that hold nothing but zeros, as its content
// passes in pieces of any length.
type emptyBlocks struct {
	filled int  // bytes of the block that passed
	empty  bool // so far
	whole  int64
}

// pass takes the next piece.
func (e *emptyBlocks) pass(piece []byte) {
	for len(piece) > 0 {
		part := piece[:min(len(piece), blockSize-e.filled)]
		piece = piece[len(part):]
		// Of nearly all blocks the first byte tells.
		e.empty = e.empty && part[0] == 0 && bytes.Equal(part, zeros[:len(part)])
		if e.filled += len(part); e.filled == blockSize {
			if e.empty {
				e.whole += blockSize
			}
			e.filled, e.empty = 0, true
		}
	}
}

// bytes is how many there are in empty blocks, the last one of a file included.
func (e *emptyBlocks) bytes() int64 {
	if e.empty {
		return e.whole + int64(e.filled)
	}
	return e.whole
}
