package remote

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"log/slog"

	"bridgespan/core/text"
	"bridgespan/tree"
)

// What a mover may send, and who calls one. All of it comes from another host: nothing is
// kept, counted or reserved by it before it was compared with these.
const (
	mostAnswer  = 1 << 20   // bytes of a line of an answer, and of what a mover says of itself
	mostCall    = 64 << 20  // bytes of the line of a call: that to assemble a file lists its parts
	mostListing = 512 << 20 // bytes of the lines of one listing
	mostFolders = 1000      // that a mover serves
	mostName    = 1024      // bytes of the name of an entry
	mostText    = 1000      // bytes of an error in words
	mostSize    = 1 << 60   // bytes of a file
	mostChunks  = 16 << 20  // of one file: 64 TiB are cut into so many
	mostGrown   = 1 << 40   // bytes by which a file may grow while it is open
)

// Distrust tells that a mover sent what no mover sends, and returns that as an error.
func (h *Host) Distrust(format string, args ...any) error {
	why := fmt.Errorf("%w: "+format, append([]any{tree.ErrUntrusted}, args...)...)
	h.once.Do(func() {
		slog.Error("a mover sent answers that cannot be trusted", "address", h.target.Address, "error", why)
		if h.target.Untrusted != nil {
			h.target.Untrusted(why)
		}
	})
	return why
}

// checkEntry returns an error when an entry cannot be one.
func (h *Host) checkEntry(e *entry) error {
	switch {
	case e.Size < 0 || e.Size > mostSize || e.Allocated < 0 || e.Allocated > mostSize:
		return h.Distrust("a file of %d bytes, in %d", e.Size, e.Allocated)
	case e.Kind > tree.Other:
		return h.Distrust("an entry of kind %d", e.Kind)
	case len(e.Name) > mostName || e.Name != "." && !tree.IsElement(e.Name, "/"):
		return h.Distrust("an entry named %.100q", e.Name)
	}
	return nil
}

// checkInfo returns an error when a mover cannot serve what it says.
func (h *Host) checkInfo(info *Info) error {
	if len(info.Folders) > mostFolders {
		return h.Distrust("it serves %d folders", len(info.Folders))
	}
	info.Name = printable(info.Name)
	for i := range info.Folders {
		f := &info.Folders[i]
		if !tree.IsElement(f.Name, `/\`) || printable(f.Name) != f.Name {
			return h.Distrust("it serves a folder named %.100q", f.Name)
		}
		f.Path, f.Trouble = text.Printable(f.Path, tree.MaxPath), printable(f.Trouble)
	}
	return nil
}

// printable is a text that can be shown anywhere: without control characters, and short.
func printable(s string) string { return text.Printable(s, mostText) }

var errLong = errors.New("its line is too long")

// readBounded reads a line, but not one that never ends. The line may be used until
// something else is read.
func readBounded(r *bufio.Reader, most int) ([]byte, error) {
	line, err := r.ReadSlice('\n')
	if !errors.Is(err, bufio.ErrBufferFull) {
		return line, err
	}
	long := bytes.Clone(line)
	for errors.Is(err, bufio.ErrBufferFull) {
		if len(long) > most {
			return nil, errLong
		}
		line, err = r.ReadSlice('\n')
		long = append(long, line...)
	}
	return long, err
}
