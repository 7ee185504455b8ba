package fileserver

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Place returns the folder in which servers under dir should keep what they
// hold: dir itself, or a folder of the host's that dir then links to when
// private accounts could not reach it (file servers act as the signed-in
// account, which must be able to pass through every parent).
func Place(dir string) (string, error) {
	if target, err := os.Readlink(dir); err == nil {
		return target, os.MkdirAll(target, 0o711)
	}
	parent := filepath.Dir(dir)
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return "", err
	}
	if passable(parent) {
		if err := os.MkdirAll(dir, 0o711); err != nil {
			return "", err
		}
		return dir, os.Chmod(dir, 0o711)
	}
	sum := sha256.Sum256([]byte(dir))
	target := filepath.Join("/var/tmp", "bridgespan-"+hex.EncodeToString(sum[:6]))
	if err := os.Mkdir(target, 0o711); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	return target, os.Symlink(target, dir)
}

// passable reports whether every account of the host can pass through dir.
func passable(dir string) bool {
	for {
		info, err := os.Stat(dir)
		if err != nil || info.Mode()&0o001 == 0 {
			return false
		}
		parent := filepath.Dir(dir)
		if parent == dir {
			return true
		}
		dir = parent
	}
}

// Discard removes a place and what it holds.
func Discard(dir string) error {
	if target, err := os.Readlink(dir); err == nil {
		if err := os.RemoveAll(target); err != nil {
			return err
		}
	}
	return os.RemoveAll(dir)
}
