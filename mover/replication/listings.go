package replication

import (
	"encoding/binary"
	"hash/maphash"

	"bridgespan/tree"
)

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
