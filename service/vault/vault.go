// Package vault seals the secrets that Bridge Span must keep, such as the
// passwords of server accounts, under a key that lives in a file of its own
// and never in the database.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// Vault seals and opens secrets with AES-256-GCM. Each secret is bound to a
// label, so that one cannot be put in the place of another.
type Vault struct {
	aead cipher.AEAD
	key  []byte
}

// Open reads the key file, or makes one that only its owner may read.
func Open(keyFile string) (*Vault, error) {
	text, err := os.ReadFile(keyFile)
	if errors.Is(err, fs.ErrNotExist) {
		return create(keyFile)
	}
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	info, err := os.Stat(keyFile)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("key file %s can be read by others: run chmod 600 on it", keyFile)
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("key file %s does not hold 64 hexadecimal digits: restore it from where you keep its copy", keyFile)
	}
	return fromKey(key)
}

func create(keyFile string) (*Vault, error) {
	key := make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(keyFile, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return Open(keyFile) // another instance was faster
	}
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	defer f.Close()
	if _, err := fmt.Fprintln(f, hex.EncodeToString(key)); err != nil {
		return nil, err
	}
	if err := f.Sync(); err != nil {
		return nil, err
	}
	return fromKey(key)
}

func fromKey(key []byte) (*Vault, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		return nil, err
	}
	return &Vault{aead, key}, nil
}

// Seal encrypts a secret for the place that label names.
func (v *Vault) Seal(label, secret string) []byte {
	return v.aead.Seal(nil, nil, []byte(secret), []byte(label))
}

// Unseal returns a secret that was sealed for the same label.
func (v *Vault) Unseal(label string, sealed []byte) (string, error) {
	secret, err := v.aead.Open(nil, nil, sealed, []byte(label))
	if err != nil {
		return "", fmt.Errorf("a stored secret (%s) does not open with this key file: restore the key file it was sealed with, or set the secret again", label)
	}
	return string(secret), nil
}

// SigningKey is a key to sign with (Ed25519, RFC 8032), derived from the key file (HKDF, RFC 5869): all instances of a service have the
// same one for a label.
func (v *Vault) SigningKey(label string) (ed25519.PrivateKey, error) {
	seed, err := hkdf.Key(sha256.New, v.key, nil, "signing key: "+label, ed25519.SeedSize)
	if err != nil {
		return nil, err
	}
	return ed25519.NewKeyFromSeed(seed), nil
}
