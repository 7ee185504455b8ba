package replication

import (
	"context"
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"path"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// listed is an entry of a folder; with err its permissions could not be read.
type listed struct {
	tree.Entry
	err error
}

// brief reports whether versions alone are listed: what has another one is looked at by itself.
func (s *scan) brief() bool {
	return s.r.Tree.Capabilities().CostlyDetail && s.scanned(s.r) && !(s.LeaveOut != nil && s.LeaveOutByTime)
}

// listing lists a folder, but what is the engine's own.
func (s *scan) listing(ctx context.Context, name string, brief bool) (list []listed, err error) {
	if s.listers != nil {
		s.listers <- struct{}{}
		defer func() { <-s.listers }()
	}
	detail := s.detail()
	if brief {
		detail = tree.Versions
	}
	hasWorkFolder, made := false, !brief || name == "."
	for entry, err := range s.r.Tree.List(ctx, name, detail) {
		if entry.Name == "" && err != nil {
			return nil, err
		}
		if entry.Name == "." {
			made = true
			continue
		}
		hasWorkFolder = hasWorkFolder || name != "." && tree.Key(entry.Name, false) == workFolder
		if own(entry.Name) || s.LeaveOut != nil && s.LeaveOut(replica.Below(name, entry.Name), entry) {
			continue
		}
		list = append(list, listed{entry, err})
	}
	if !made {
		s.noteImplied(name)
	}
	if hasWorkFolder {
		return list, s.findNested(ctx, name)
	}
	return list, nil
}

// arrange makes of a listing one entry for each key, the known spelling first.
func (s *scan) arrange(name string, list []listed, known map[string]replica.Record) (entries []tree.Entry) {
	at := make(map[string]int, len(list))
	entries = make([]tree.Entry, 0, len(list))
	for _, l := range list {
		entry := l.Entry
		key := keyOf(replica.Below(name, entry.Name))
		if l.err != nil {
			s.trouble(replica.Below(name, entry.Name), l.err)
			entry.Kind = tree.Other
		}
		i, twice := at[key]
		if !twice {
			at[key] = len(entries)
			entries = append(entries, entry)
			continue
		}
		if known[key].Name == entry.Name {
			entries[i], entry = entry, entries[i]
		}
		s.trouble(replica.Below(name, entry.Name), fmt.Errorf("%w: %s", errClash, entries[i].Name))
	}
	if s.LeaveOut != nil {
		s.forgetLeftOut(name, known)
	}
	return entries
}

// forgetLeftOut takes out of what is known what the set is not about any more:
// that it was known once does not matter.
func (s *scan) forgetLeftOut(name string, known map[string]replica.Record) {
	for key, rec := range known {
		kind := tree.File
		if rec.Kind == replica.Folder {
			kind = tree.Folder
		}
		if s.LeaveOut(path.Join(name, rec.Name), tree.Entry{Name: rec.Name, Kind: kind, Size: rec.Seen.Size, Modified: rec.Seen.Modified}) {
			delete(known, key)
		}
	}
}

// listingSum stands for all that a listing of a folder shows, in whatever order.
// Two listings with one sum are taken for the same: with 128 bits that does not
// happen otherwise.
type listingSum [2]uint64

var listingSeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// sum makes the sum of a listing. It is false when something about the listing
// has to be told each time.
func (s *scan) sum(list []listed) (sum listingSum, plain bool) {
	buffer := make([]byte, 0, 512)
	keys := make(map[string]bool, len(list))
	for _, l := range list {
		key := keyOf(l.Name)
		if l.err != nil || keys[key] || l.Kind > tree.Folder {
			return sum, false
		}
		keys[key] = true
		seen := s.seenOf(l.Entry)
		buffer = append(buffer[:0], byte(l.Kind))
		buffer = binary.LittleEndian.AppendUint64(buffer, uint64(seen.Size))
		buffer = binary.LittleEndian.AppendUint64(buffer, uint64(seen.Modified.UnixNano()))
		buffer = binary.LittleEndian.AppendUint64(buffer, seen.ID)
		buffer = binary.LittleEndian.AppendUint32(buffer, seen.Attributes)
		buffer = binary.LittleEndian.AppendUint32(buffer, uint32(len(l.Name)))
		buffer = append(append(buffer, l.Name...), seen.Descriptor.Binary()...)
		for i := range sum {
			sum[i] += maphash.Bytes(listingSeeds[i], buffer)
		}
	}
	return sum, true
}

// asListed reports whether a folder was listed like this before, when all of it
// was as its records say, and no record of it was saved since.
func (k *known) asListed(p place, sum listingSum) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	last, ok := k.listings[p]
	return ok && last == sum
}

// maxListings bounds how many folders are remembered.
const maxListings = 1_000_000

// learnListing remembers a listing that is as the records say, unless some were
// saved since they were read.
func (k *known) learnListing(p place, sum listingSum, saves uint64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.saves[p.replica] != saves {
		return
	}
	if k.listings == nil || len(k.listings) >= maxListings {
		k.listings = map[place]listingSum{}
	}
	k.listings[p] = sum
}
