package chunk

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Digest is the BLAKE3 hash of a file's content. The zero digest is that of a
// file that was not read yet: that it is there, and how long, is known.
type Digest [32]byte

// Known reports whether the file was read.
func (d Digest) Known() bool { return d != Digest{} }

// MarshalText writes a digest in hexadecimal, and one that is not known as nothing.
func (d Digest) MarshalText() ([]byte, error) {
	if !d.Known() {
		return []byte{}, nil
	}
	return hex.AppendEncode(nil, d[:]), nil
}

// UnmarshalJSON reads what MarshalText writes, or a list of 32 numbers, as digests
// were written before.
func (d *Digest) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] == '[' {
		return json.Unmarshal(b, (*[len(Digest{})]byte)(d))
	}
	var text string
	if err := json.Unmarshal(b, &text); err != nil {
		return err
	}
	*d = Digest{}
	if text == "" {
		return nil
	}
	if len(text) != hex.EncodedLen(len(d)) {
		return fmt.Errorf("a digest has 64 digits, not %d", len(text))
	}
	_, err := hex.Decode(d[:], []byte(text))
	return err
}

// Partial is the beginning of a file that is on its way to a place, or whose transfer was
// interrupted: the bytes that have arrived are durable, and the transfer resumes after them.
type Partial struct {
	Key    string // of the file, in a journal
	Staged string // where it waits in the intake
	Bytes  int64  // that have arrived
	Digest Digest // of these bytes
	Kept   time.Time
}
