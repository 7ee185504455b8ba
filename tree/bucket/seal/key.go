// Package seal encrypts the files of a bucket, so that only holders of a key can read them.
//
// A sealed file has the age format (age-encryption.org/v1, C2SP specification), for one X25519 recipient: any age client
// opens it. Its header has always the same length, so that the length of the content follows from that of the object, and chunks of 64 KiB
// are encrypted one by one, so that ranges can be read. The header is made and opened by the age library.
// The payload is encrypted here, since an upload that was interrupted has to produce the same bytes again.
//
// File and folder names, where they are sealed, are encrypted deterministically with AES-SIV (RFC 5297), one path element at a
// time: a path always has the same key. Short values, such as a permission beside a file, are encrypted with
// AES-256-GCM. Both keys are derived from the identity (HKDF-SHA-256, RFC 5869).
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"

	"filippo.io/age"
	"github.com/tink-crypto/tink-go/v2/daead/subtle"
	"github.com/zeebo/blake3"
)

// Key opens and seals the files of a folder. It is safe for concurrent use.
type Key struct {
	identity *age.X25519Identity
	names    *subtle.AESSIV
	values   cipher.AEAD
	marks    []byte // of Fingerprint
	// sealsNames: Path encrypts names.
	sealsNames bool
}

// NewKey makes a key.
func NewKey() (*Key, error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	return fromIdentity(identity)
}

// ParseKey reads a key from the text of an identity file of age: lines that begin with # are comments.
func ParseKey(text string) (*Key, error) {
	identity, err := identityIn(text)
	if err != nil {
		return nil, err
	}
	return fromIdentity(identity)
}

// mostIdentityFile bounds the text of an identity file.
const mostIdentityFile = 64 << 10

// identityIn returns the only identity in a text.
func identityIn(text string) (*age.X25519Identity, error) {
	list, err := identitiesIn(text)
	if err != nil {
		return nil, err
	}
	identity, ok := list[0].(*age.X25519Identity)
	if len(list) != 1 || !ok {
		return nil, errors.New("it has to be one private key of age of the kind X25519, which begins with AGE-SECRET-KEY-1")
	}
	return identity, nil
}

// identitiesIn returns the identities in a text, at least one.
func identitiesIn(text string) ([]age.Identity, error) {
	if len(text) > mostIdentityFile {
		return nil, errors.New("it is too long for a key of age")
	}
	list, err := age.ParseIdentities(strings.NewReader(text))
	if err != nil {
		return nil, errors.New("it is no private key of age, which begins with AGE-SECRET-KEY-1") // the error may quote the key
	}
	return list, nil
}

// Labels of the keys that are derived from an identity.
const (
	namesLabel  = "bridgespan sealed names v1"
	valuesLabel = "bridgespan sealed values v1"
	marksLabel  = "bridgespan sealed marks v1"
)

func fromIdentity(identity *age.X25519Identity) (*Key, error) {
	k := &Key{identity: identity}
	derive := func(label string, length int) ([]byte, error) {
		return hkdf.Key(sha256.New, []byte(identity.String()), nil, label, length)
	}
	siv, err1 := derive(namesLabel, 64)
	gcm, err2 := derive(valuesLabel, 32)
	marks, err3 := derive(marksLabel, 32)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	var err error
	if k.names, err = subtle.NewAESSIV(siv); err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(gcm)
	if err != nil {
		return nil, err
	}
	k.values, err = cipher.NewGCMWithRandomNonce(block)
	k.marks = marks
	return k, err
}

// WithNames is the same key, which seals names as well.
func (k *Key) WithNames() *Key {
	with := *k
	with.sealsNames = true
	return &with
}

// SealsNames reports whether the key seals names as well.
func (k *Key) SealsNames() bool { return k.sealsNames }

// Identity is the private key in the text form of age, AGE-SECRET-KEY-1…
func (k *Key) Identity() string { return k.identity.String() }

// Recipient is the public key in the text form of age, age1…
func (k *Key) Recipient() string { return k.identity.Recipient().String() }

// String keeps the private key out of logs.
func (k *Key) String() string { return "key of " + k.Recipient() }

// SealValue encrypts a short value for a purpose. Each call returns another text.
func (k *Key) SealValue(purpose string, value []byte) []byte {
	return k.values.Seal(nil, nil, value, []byte(purpose))
}

// OpenValue decrypts a value. It returns an error unless it was sealed for this purpose.
func (k *Key) OpenValue(purpose string, sealed []byte) ([]byte, error) {
	value, err := k.values.Open(nil, nil, sealed, []byte(purpose))
	if err != nil {
		return nil, fmt.Errorf("%w: a %s", ErrDamaged, purpose)
	}
	return value, nil
}

// Fingerprint is a hash of 32 bytes that only holders of the key can compute: it does not tell others whether two files are the same.
func (k *Key) Fingerprint(value []byte) []byte {
	h, err := blake3.NewKeyed(k.marks)
	if err != nil {
		panic(err) // the key has 32 bytes
	}
	h.Write(value)
	return h.Sum(nil)
}
