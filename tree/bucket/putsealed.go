package bucket

import (
	"context"
	"crypto/rand"
	"encoding/hex"
)

// seal prepares a sealed upload: its content is encrypted from here on. One in parts is opened first, since an interrupted try goes on with
// the key that it had.
func (u *upload) seal(ctx context.Context, each int64) (err error) {
	if !u.seals {
		return nil
	}
	if u.options.SizeKnown && u.options.Size >= each {
		err = u.open(ctx)
	} else {
		u.file, err = u.target.Seal.NewFile()
	}
	if err == nil {
		u.sealed = u.file.NewReader(u.from.from)
		u.from.from = u.sealed
	}
	return err
}

// close ends an upload that was opened, and of which nothing can be sent now.
func (u *upload) close(ctx context.Context) error {
	if u.id == "" || u.mayResume(ctx, nil) {
		return nil
	}
	return u.abort(ctx)
}

// resumeSealed takes the key of the file from the note of an interrupted try. It returns false when that cannot be continued.
func (u *upload) resumeSealed(n uploadNote) bool {
	if !u.seals {
		return true
	}
	file, err := u.target.Seal.OpenFile(n.Head)
	u.file = file
	return err == nil
}

// sealedHead is the header of a sealed file, for the note.
func (u *upload) sealedHead() []byte {
	if u.file == nil {
		return nil
	}
	return u.file.Head[:]
}

// plainValue is the text of metadata as it would be without sealing, which is different each time.
func (u *upload) plainValue(name string) string {
	purpose := map[string]string{metaHash: hashValue, metaDescriptor: descriptorValue}[name]
	if purpose == "" {
		return u.meta[name]
	}
	value, err := u.readValue(purpose, u.meta[name], func(text string) ([]byte, error) { return []byte(text), nil })
	if err != nil {
		return u.meta[name]
	}
	return string(value)
}

// sealedFingerprint is the fingerprint of an upload that is sealed. Two contents may not be encrypted with one key: without the hash of the
// content, no try continues another one.
func (u *upload) sealedFingerprint(text []byte) string {
	if !u.options.Digest.Known() {
		text = append(text, rand.Text()...)
	}
	return hex.EncodeToString(u.target.Seal.Fingerprint(text))
}
