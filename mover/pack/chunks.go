package pack

import (
	"cmp"
	"encoding/hex"
	"slices"

	"bridgespan/core/dedup"
)

// shownPaths is of how many files that have a chunk the paths are told.
const shownPaths = 5

// Chunks shows the chunks of a store that occur most, the first of them first; at most
// so many.
func (s *Store) Chunks(most int) ([]dedup.StoredChunk, error) {
	refs := make([]int64, len(s.index))
	err := s.Files(func(k Kept) error {
		for _, n := range k.chunks {
			refs[n]++
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	order := make([]uint64, len(refs))
	for n := range order {
		order[n] = uint64(n)
	}
	slices.SortFunc(order, func(a, b uint64) int {
		return cmp.Or(cmp.Compare(refs[b], refs[a]), cmp.Compare(s.index[b].length, s.index[a].length), cmp.Compare(a, b))
	})
	list := make([]dedup.StoredChunk, 0, min(most, len(order)))
	at := map[uint64]int{}
	for _, n := range order[:min(most, len(order))] {
		w := &s.index[n]
		at[n] = len(list)
		list = append(list, dedup.StoredChunk{Number: int64(n), Fingerprint: hex.EncodeToString(w.fingerprint[:]), Length: int64(w.length), Packed: int64(w.packed), Refs: refs[n], Paths: []string{}})
	}
	err = s.Files(func(k Kept) error {
		for _, n := range k.chunks {
			i, ok := at[n]
			if !ok {
				continue
			}
			if c := &list[i]; len(c.Paths) < shownPaths && !slices.Contains(c.Paths, k.Path) {
				c.Paths = append(c.Paths, k.Path)
			}
		}
		return nil
	})
	return list, err
}
