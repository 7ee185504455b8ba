package seal

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"filippo.io/age"
)

// KeyFile is the object in a sealed folder that holds its private key as an identity file of age, encrypted for the recovery keys. With it,
// whoever has a recovery key opens the files without Bridge Span.
const KeyFile = ".bspan/key.age"

// RecoveryKeys are public keys that the private key of a folder is encrypted for.
type RecoveryKeys []age.Recipient

// ErrPrivate: a private key was given where a public one belongs.
var ErrPrivate = errors.New("it is a private key: give the public one, which begins with age1, and keep the private one to yourself")

// ParseRecoveryKeys reads public keys in the text form of age.
func ParseRecoveryKeys(texts []string) (keys RecoveryKeys, err error) {
	for _, text := range texts {
		text = strings.TrimSpace(text)
		if strings.Contains(strings.ToUpper(text), "SECRET-KEY") {
			return nil, ErrPrivate
		}
		list, err := age.ParseRecipients(strings.NewReader(text))
		if err != nil || len(list) != 1 || strings.ContainsAny(text, "\n\r#") {
			return nil, fmt.Errorf("%.80q is no public key of age, which begins with age1", text)
		}
		keys = append(keys, list[0])
	}
	if len(keys) == 0 {
		return nil, errors.New("at least one is needed: without it, nobody can open the files when the records of Bridge Span are lost")
	}
	return keys, nil
}

// ForRecovery is the content of a key file.
func (k *Key) ForRecovery(keys RecoveryKeys) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, keys...)
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintf(w, "# The key of the sealed files of a folder\n# public key: %s\n%s\n", k.Recipient(), k.Identity()); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// NewRecoveryKey makes a pair of keys: the public one, and the text of an identity file with the private one.
func NewRecoveryKey() (public, private string, err error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	public = identity.Recipient().String()
	return public, fmt.Sprintf("# A recovery key for sealed files\n# public key: %s\n%s\n", public, identity), nil
}

// Recover opens the key of a folder with a recovery key; both are texts of files.
func Recover(keyFile []byte, recovery string) (*Key, error) {
	identity, err := identitiesIn(recovery)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(keyFile), identity...)
	if err != nil {
		return nil, fmt.Errorf("the recovery key does not open the key of the folder: %w", err)
	}
	var text bytes.Buffer
	if _, err := text.ReadFrom(r); err != nil {
		return nil, err
	}
	return ParseKey(text.String())
}
