package dedup

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"bridgespan/core/chunk"
	"bridgespan/core/fault"
)

// Profile is a kind of data, by which it is cut.
type Profile string

const (
	Documents  Profile = "documents"
	DiskImages Profile = "disk-images"
	Backups    Profile = "backups"
)

// Profiles are all of them, the usual one first.
var Profiles = []Profile{Documents, DiskImages, Backups}

// profiles say how each cuts: where the content says so, or in blocks.
var profiles = map[Profile]struct {
	sizes chunk.Sizes
	block int
	why   string
}{
	Documents: {sizes: chunk.Sizes{Min: 16 << 10, Average: 32 << 10, Max: 128 << 10},
		why: "chunks of 32 KiB on average, cut where the content says so: an edit moves what is behind it, and versions of one document still share most of it"},
	DiskImages: {block: 32 << 10,
		why: "blocks of 32 KiB: what is in a disk image lies at whole blocks and is changed in place, so that cutting by content would find no more and cost more"},
	Backups: {sizes: chunk.Sizes{Min: 32 << 10, Average: 64 << 10, Max: 256 << 10},
		why: "chunks of 64 KiB on average, cut where the content says so: backups are few large files that repeat long stretches, at shifted places, and larger chunks need half the index"},
}

// CheckProfile returns a fault at a field unless it names a profile.
func CheckProfile(field, name string) (Profile, error) {
	if name == "" {
		return Documents, nil
	}
	if _, ok := profiles[Profile(name)]; ok {
		return Profile(name), nil
	}
	var names []string
	for _, p := range Profiles {
		names = append(names, string(p))
	}
	return "", fault.Field(field, "use "+strings.Join(names, ", "), "there is no profile %q", name)
}

// Why says what the profile changes, and why.
func (p Profile) Why() string { return profiles[p].why }

// Cutter cuts content as a profile says. It may be used side by side.
type Cutter struct {
	chunks *chunk.Cutter // nil: blocks
	block  int
}

// NewCutter makes the cutter of a profile.
func NewCutter(p Profile) (*Cutter, error) {
	how, ok := profiles[p]
	if !ok {
		return nil, fmt.Errorf("no profile %q", p)
	}
	if how.block > 0 {
		return &Cutter{block: how.block}, nil
	}
	c, err := chunk.NewCutter(how.sizes)
	return &Cutter{chunks: c}, err
}

// Most is the most bytes that a chunk has.
func (c *Cutter) Most() int {
	if c.chunks != nil {
		return c.chunks.Sizes().Max
	}
	return c.block
}

// Split cuts what a reader holds, and calls each with every chunk in order, which is
// valid until each returns.
func (c *Cutter) Split(r io.Reader, buffer []byte, each func(chunk []byte) error) error {
	if c.chunks != nil {
		return c.chunks.Split(r, buffer, each)
	}
	for {
		n, err := io.ReadFull(r, buffer[:c.block])
		if n > 0 {
			if bad := each(buffer[:n]); bad != nil {
				return bad
			}
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return nil
		case err != nil:
			return err
		}
	}
}
