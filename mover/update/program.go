// Package update replaces the program of a mover. The service sends its own program with a signature; the mover checks both, keeps
// the program that it had, and starts the new one in its place.
package update

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"sync"
)

// Program is a program file.
type Program struct {
	Path   string
	Digest string // SHA-256, in hexadecimal digits
	Size   int64  // bytes
}

// running is read once: an update replaces the file of a running program.
var running = sync.OnceValues(func() (p Program, err error) {
	if p.Path, err = os.Executable(); err != nil {
		return p, err
	}
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return p, err
	}
	defer f.Close()
	sum := sha256.New()
	if p.Size, err = io.Copy(sum, f); err != nil {
		return p, fmt.Errorf("read the running program: %w", err)
	}
	p.Digest = hex.EncodeToString(sum.Sum(nil))
	return p, nil
})

// Running is the program that runs.
func Running() (Program, error) { return running() }
