package replication

import (
	"context"
	"fmt"
	"path"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// listed is an entry of a folder; with err its permissions could not be read.
type listed struct {
	tree.Entry
	err error
}

// listing lists a folder, but what is the engine's own.
func (s *scan) listing(ctx context.Context, name string) (list []listed, err error) {
	if s.listers != nil {
		s.listers <- struct{}{}
		defer func() { <-s.listers }()
	}
	hasWorkFolder := false
	for entry, err := range s.r.Tree.List(ctx, name, s.detail()) {
		if entry.Name == "" && err != nil {
			return nil, err
		}
		hasWorkFolder = hasWorkFolder || name != "." && tree.Key(entry.Name, false) == workFolder
		if own(entry.Name) || s.LeaveOut != nil && s.LeaveOut(replica.Below(name, entry.Name), entry) {
			continue
		}
		list = append(list, listed{entry, err})
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
