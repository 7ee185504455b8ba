package update

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Files in the state folder of a mover.
const (
	keyFile   = "update-key"  // the service's key, taken with the first offer
	stateFile = "update.json" // the latest update
)

// state is the latest update of a mover.
type state struct {
	Issued  time.Time `json:"issued"`
	Version string    `json:"version"`
	Digest  string    `json:"digest"`
	// Trial is true until the program has served: when it does not, the program before it is put back.
	Trial bool `json:"trial,omitempty"`
	Tries int  `json:"tries,omitempty"`
	// Reverted is why the program before it was put back.
	Reverted string `json:"reverted,omitempty"`
}

func (u *Updater) read() (s state, err error) {
	text, err := os.ReadFile(filepath.Join(u.State, stateFile))
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	return s, err
}

func (u *Updater) store(s state) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return replace(filepath.Join(u.State, stateFile), text)
}

// replace writes a file so that it is whole after a crash.
func replace(name string, text []byte) error {
	f, err := os.OpenFile(name+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return errors.Join(os.Rename(name+".new", name), syncFolder(filepath.Dir(name)))
}

func syncFolder(name string) error {
	d, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// pin compares the key of an offer with the one that is known. The first key is taken: who sends it has shown the secret of the mover.
func (u *Updater) pin(key []byte) error {
	name := filepath.Join(u.State, keyFile)
	text, err := os.ReadFile(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return replace(name, []byte(hex.EncodeToString(key)+"\n"))
	case err != nil:
		return err
	case strings.TrimSpace(string(text)) != hex.EncodeToString(key):
		return fmt.Errorf("%w: when the service was given a new one, remove %s on the host", ErrKey, name)
	}
	return nil
}
