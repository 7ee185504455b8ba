package update

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"runtime"
	"time"
)

// Offer describes a program that a service sends, with the service's signature (Ed25519, RFC 8032).
type Offer struct {
	Version   string    `json:"version"`
	Platform  string    `json:"platform"` // operating system and architecture, such as linux/amd64
	Digest    string    `json:"digest"`   // SHA-256 of the program, in hexadecimal digits
	Size      int64     `json:"size"`     // bytes
	Issued    time.Time `json:"issued"`
	Key       []byte    `json:"key"` // public key of the service
	Signature []byte    `json:"signature"`
}

// Platform is the platform of this host.
const Platform = runtime.GOOS + "/" + runtime.GOARCH

// Most is how long a program may be, in bytes.
const Most = 512 << 20

// Sign signs an offer.
func (o *Offer) Sign(key ed25519.PrivateKey) {
	o.Key = key.Public().(ed25519.PublicKey)
	o.Signature = ed25519.Sign(key, o.text())
}

// text is what is signed. No field contains a line break, so that two different offers never have the same text.
func (o *Offer) text() []byte {
	return fmt.Appendf(nil, "bridge span mover program\n%q\n%q\n%q\n%d\n%s\n", o.Version, o.Platform, o.Digest, o.Size, o.Issued.UTC().Format(time.RFC3339Nano))
}

// Errors of offers.
var (
	// ErrSignature: the offer, or the program, is not what the service signed.
	ErrSignature = errors.New("the signature is wrong")
	// ErrKey: the service has another key than the one that this mover knows.
	ErrKey = errors.New("the signing key is unknown")
	// ErrPlatform: the program is for another platform.
	ErrPlatform = errors.New("the program is for another platform")
	// ErrOld: a later offer was accepted before.
	ErrOld = errors.New("the offer is older than an earlier one")
)

// check returns an error unless an offer is signed by its own key and can be for this host.
func (o *Offer) check() error {
	switch {
	case o.Size <= 0 || o.Size > Most:
		return fmt.Errorf("%w: a program of %d bytes", ErrSignature, o.Size)
	case len(o.Version) > 100 || len(o.Digest) != 64 || len(o.Key) != ed25519.PublicKeySize:
		return fmt.Errorf("%w: a field has a wrong length", ErrSignature)
	case !ed25519.Verify(o.Key, o.text(), o.Signature):
		return ErrSignature
	case o.Platform != Platform:
		return fmt.Errorf("%w: %s, and this host is %s", ErrPlatform, o.Platform, Platform)
	}
	return nil
}
