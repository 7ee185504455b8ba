package naming

import (
	"context"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// manyAdditions is from how many additions on a document's are made together:
// one by one takes minutes for a large namespace, and holds up others meanwhile.
const manyAdditions = 50

// addTogether does the additions of a document that are all new, with the
// folders above them, and returns the steps that are left to be done one by one.
func addTogether(ctx context.Context, tx *records.Tx, name string, steps []namespace.DocumentStep) (left []namespace.DocumentStep, err error) {
	additions := 0
	for _, step := range steps {
		if step.Kind == namespace.AddEntry {
			additions++
		}
	}
	if additions < manyAdditions {
		return steps, nil
	}
	there, err := tx.Entries(ctx, name, records.All)
	if err != nil {
		return nil, err
	}
	known := make(map[string]*namespace.Entry, len(there)+additions)
	for i := range there {
		known[namespace.Key(there[i].Path)] = &there[i]
	}
	var added []*namespace.Entry
	add := func(e namespace.Entry) {
		known[namespace.Key(e.Path)] = &e
		added = append(added, &e)
	}
	for _, step := range steps {
		if step.Kind != namespace.AddEntry || known[namespace.Key(step.Path)] != nil {
			left = append(left, step)
			continue
		}
		e := namespace.Entry{Path: step.Want.Path, Kind: namespace.Folder, Note: step.Want.Note, TTL: step.Want.TTL, Letter: step.Want.Letter}
		for _, parent := range namespace.Parents(e.Path) {
			switch above := known[namespace.Key(parent)]; {
			case above == nil:
				add(namespace.Entry{Path: e.Path[:len(parent)], Kind: namespace.Folder})
			case above.Kind == namespace.Signpost:
				return nil, fault.Field("path", "choose a path outside of it", "/%s/%s is a signpost: what lies below it are the files of its locations", name, above.Path)
			default:
				e.Path = above.Path + e.Path[len(parent):]
			}
		}
		for i, to := range step.Want.Locations {
			e.Kind = namespace.Signpost
			e.Locations = append(e.Locations, fromDocument(to, i > 0))
		}
		add(e)
	}
	return left, addAll(ctx, tx, name, added)
}

// addAll keeps new entries, and records each.
func addAll(ctx context.Context, tx *records.Tx, name string, added []*namespace.Entry) error {
	entries := make([]namespace.Entry, len(added))
	for i, e := range added {
		entries[i] = *e
	}
	entries, err := tx.AddEntries(ctx, name, entries)
	if err != nil {
		return err
	}
	changes := make([]model.Change, len(entries))
	for i, e := range entries {
		for k := range e.Locations {
			e.Locations[k].State, e.Locations[k].Why = e.Locations[k].Set, e.Locations[k].SetWhy
		}
		changes[i] = access.Change(ctx, "entry.add", "/"+name+"/"+e.Path, nil, e)
	}
	return tx.RecordAll(ctx, changes, "namespace", "/"+name)
}
