package seal

import (
	"bytes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"

	"bridgespan/tree"
)

// Lengths of the age format for one X25519 recipient, in bytes.
const (
	// HeadSize is the length of the header with the nonce of the payload: the version line, one recipient stanza of two lines, the
	// line of the MAC, and 16 bytes.
	HeadSize = 22 + 54 + 44 + 48 + nonceSize
	// ChunkSize is the length of a chunk of content; SealedChunk is that of the encrypted one.
	ChunkSize   = 64 << 10
	SealedChunk = ChunkSize + chacha20poly1305.Overhead

	nonceSize = 16
)

// ErrDamaged: sealed bytes are not what the holder of the key wrote.
var ErrDamaged = fmt.Errorf("%w: it was not sealed with this key, or was changed since", tree.ErrAltered)

// chunks is the number of chunks of a content. An empty one has one chunk.
func chunks(size int64) int64 { return max(1, (size+ChunkSize-1)/ChunkSize) }

// Size is the length of the sealed file for a content.
func Size(content int64) int64 {
	return HeadSize + content + chunks(content)*chacha20poly1305.Overhead
}

// ContentSize is the length of the content of a sealed file. It returns false when no file has this length.
func ContentSize(sealed int64) (int64, bool) {
	payload := sealed - HeadSize
	n := (payload + SealedChunk - 1) / SealedChunk
	content := payload - n*chacha20poly1305.Overhead
	return content, payload > 0 && content >= 0 && Size(content) == sealed
}

// File encrypts and decrypts the chunks of one file. It is safe for concurrent use.
type File struct {
	Head [HeadSize]byte
	aead cipher.AEAD
}

// fileKeyOf is a recipient that keeps the file key which the library has drawn.
type fileKeyOf struct {
	age.Recipient
	key []byte
}

func (f *fileKeyOf) Wrap(fileKey []byte) ([]*age.Stanza, error) {
	f.key = slices.Clone(fileKey)
	return f.Recipient.Wrap(fileKey)
}

// NewFile begins a file with a key and nonce of its own.
func (k *Key) NewFile() (*File, error) {
	var head bytes.Buffer
	to := &fileKeyOf{Recipient: k.identity.Recipient()}
	if _, err := age.Encrypt(&head, to); err != nil { // it writes the header and the nonce at once
		return nil, err
	}
	if head.Len() != HeadSize {
		return nil, fmt.Errorf("the age library wrote a header of %d bytes, not %d", head.Len(), HeadSize)
	}
	return newFile(head.Bytes(), to.key)
}

// OpenFile goes on with a file that has this head. It returns an error wrapping ErrDamaged when the key does not open it.
func (k *Key) OpenFile(head []byte) (*File, error) {
	if len(head) != HeadSize {
		return nil, fmt.Errorf("%w: a header of %d bytes", ErrDamaged, len(head))
	}
	fileKey, err := age.DecryptHeader(head[:HeadSize-nonceSize], k.identity)
	if err != nil {
		return nil, errors.Join(ErrDamaged, err)
	}
	return newFile(head, fileKey)
}

func newFile(head, fileKey []byte) (*File, error) {
	key, err := hkdf.Key(sha256.New, fileKey, head[HeadSize-nonceSize:], "payload", chacha20poly1305.KeySize)
	if err != nil {
		return nil, err
	}
	f := &File{}
	copy(f.Head[:], head)
	f.aead, err = chacha20poly1305.New(key)
	return f, err
}

// nonce is that of a chunk: its number, and whether it is the last one.
func nonce(number int64, last bool) []byte {
	var n [chacha20poly1305.NonceSize]byte
	binary.BigEndian.PutUint64(n[3:11], uint64(number))
	if last {
		n[11] = 1
	}
	return n[:]
}

// Seal appends an encrypted chunk to dst. Every chunk but the last one has ChunkSize bytes.
func (f *File) Seal(dst, content []byte, number int64, last bool) []byte {
	return f.aead.Seal(dst, nonce(number, last), content, nil)
}

// Open appends a decrypted chunk to dst, or returns an error wrapping ErrDamaged.
func (f *File) Open(dst, sealed []byte, number int64, last bool) ([]byte, error) {
	content, err := f.aead.Open(dst, nonce(number, last), sealed, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: chunk %d", ErrDamaged, number)
	}
	return content, nil
}
