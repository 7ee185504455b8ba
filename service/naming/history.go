package naming

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// History lists the changes of a namespace, newest first, before the number
// given (0 for the newest).
func (s *Service) History(ctx context.Context, name string, before int64, limit int) ([]model.Change, error) {
	if _, err := s.db.Namespace(ctx, name); err != nil {
		return nil, err
	}
	return s.db.NamespaceChanges(ctx, name, before, 0, limit)
}

// mostReversed bounds how many changes a return takes back.
const mostReversed = 20000

// AsOf is the document of a namespace as it was right after a change.
func (s *Service) AsOf(ctx context.Context, name string, change int64) (namespace.Document, error) {
	n, err := s.db.Namespace(ctx, name)
	if err != nil {
		return namespace.Document{}, err
	}
	since, err := s.db.NamespaceChanges(ctx, name, 0, change, mostReversed+1)
	if err != nil {
		return namespace.Document{}, err
	}
	if len(since) == 0 || since[len(since)-1].ID != change {
		return namespace.Document{}, fault.New(fault.NotFound, "list them with: bspan namespace history "+name, "%d is not a change of the namespace %s", change, name).At("to")
	}
	if len(since) > mostReversed {
		return namespace.Document{}, fault.Field("to", "return in several steps", "more than %d changes came after it", mostReversed)
	}
	entries, err := s.db.Entries(ctx, name, records.All)
	if err != nil {
		return namespace.Document{}, err
	}
	past := reversal{namespace: n, entries: map[string]namespace.Entry{}, now: map[string]bool{}}
	for _, e := range entries {
		past.entries[namespace.Key(e.Path)] = e
		for _, l := range e.Locations {
			past.now[namespace.Key(l.Target().String())] = true
		}
	}
	for _, c := range since[:len(since)-1] { // all that came after it
		if c.Action == "namespace.add" || c.Action == "namespace.remove" {
			return namespace.Document{}, fault.Field("to", "choose a later change", "the namespace %s was made after it", name)
		}
		past.takeBack(c)
	}
	return past.document(), nil
}

// reversal goes back in time, change by change.
type reversal struct {
	namespace model.Namespace
	entries   map[string]namespace.Entry // by key of path
	now       map[string]bool            // targets that are led to now
}

func (r *reversal) takeBack(c model.Change) {
	if !strings.HasPrefix(c.Subject, "/") {
		if before, ok := decode[model.Namespace](c.Before); ok {
			r.namespace = before
		}
		return
	}
	before, was := decode[namespace.Entry](c.Before)
	after, is := decode[namespace.Entry](c.After)
	if is {
		delete(r.entries, namespace.Key(after.Path))
		if was && namespace.Key(after.Path) != namespace.Key(before.Path) {
			r.moveBack(after.Path, before.Path)
		}
	}
	if was {
		for i := range before.Locations { // what was set is not in the record, only what came of it
			l := &before.Locations[i]
			if l.Set, l.SetWhy = l.State, l.Why; l.State == namespace.Failing {
				l.Set, l.SetWhy = namespace.Open, ""
			}
		}
		r.entries[namespace.Key(before.Path)] = before
	}
}

// moveBack gives what lies below a moved entry its old paths.
func (r *reversal) moveBack(from, to string) {
	prefix := namespace.Key(from) + "/"
	for key, e := range r.entries {
		if strings.HasPrefix(key, prefix) {
			delete(r.entries, key)
			e.Path = to + e.Path[len(from):]
			r.entries[namespace.Key(e.Path)] = e
		}
	}
}

func (r *reversal) document() namespace.Document {
	var entries []namespace.Entry
	for _, e := range r.entries {
		entries = append(entries, e)
	}
	slices.SortFunc(entries, func(a, b namespace.Entry) int {
		return strings.Compare(namespace.Key(a.Path), namespace.Key(b.Path))
	})
	d := export(r.namespace, entries)
	for i, e := range entries {
		for k, l := range e.Locations {
			// What was open then and is still led to is opened again; what comes
			// back may have grown old, and waits until it is verified.
			if l.Set == namespace.Open && r.now[namespace.Key(l.Target().String())] {
				d.Entries[i].Locations[k].State = namespace.Open
			}
		}
	}
	return d
}

func decode[T any](state any) (v T, ok bool) {
	if state == nil {
		return v, false
	}
	text, err := json.Marshal(state)
	if err != nil {
		return v, false
	}
	return v, json.Unmarshal(text, &v) == nil
}
