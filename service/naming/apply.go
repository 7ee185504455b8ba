package naming

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// waits reports whether a location is held only until it is verified.
func waits(l namespace.Location) bool {
	return l.SetWhy == NotVerified || strings.HasPrefix(l.SetWhy, foundDifferences)
}

// Export makes the document of a whole namespace.
func (s *Service) Export(ctx context.Context, name string) (namespace.Document, error) {
	n, err := s.db.Namespace(ctx, name)
	if err != nil {
		return namespace.Document{}, err
	}
	entries, err := s.db.Entries(ctx, name, records.All)
	return export(n, entries), err
}

func export(n model.Namespace, entries []namespace.Entry) namespace.Document {
	return namespace.Export(namespace.Document{Namespace: n.Name, Note: n.Note, TTL: n.TTL, Returns: n.Returns, Hiding: n.Hiding}, entries, waits)
}

// fingerprint changes with everything that a document holds, and with the
// versions of what it was made of.
func fingerprint(n model.Namespace, entries []namespace.Entry) string {
	h := sha256.New()
	// Neither can fail: a hash takes everything, and these are plain values.
	_ = json.NewEncoder(h).Encode(export(n, entries))
	for _, e := range entries {
		fmt.Fprintln(h, e.ID, e.Version)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// Apply makes a namespace what a document says, all of it or nothing, or only
// tells what would change. was is the fingerprint of a rehearsal: when the
// namespace changed since, nothing is done; "" applies to whatever is there.
func (s *Service) Apply(ctx context.Context, d namespace.Document, was string, rehearse bool) (model.Application, error) {
	a := model.Application{Namespace: d.Namespace, Rehearsed: rehearse, Steps: []namespace.DocumentStep{}}
	if err := d.Check(); err != nil {
		return a, err
	}
	if d.TTL == 0 {
		d.TTL = DefaultTTL
	}
	if d.Returns == "" {
		d.Returns = AtOnce
	}
	n, entries, err := s.asItIs(ctx, s.db.Queries, d.Namespace)
	if err != nil {
		return a, err
	}
	if err := s.tryNew(ctx, entries, &d); err != nil {
		return a, err
	}
	a.Created, a.Fingerprint = n.Name == "", fingerprint(n, entries)
	a.Steps, a.Settings = append(a.Steps, namespace.Difference(entries, d)...), settingChanges(n, d)
	if rehearse {
		return a, nil
	}
	err = s.change(ctx, func(tx *records.Tx) error {
		return s.applyIn(ctx, tx, d, &a, was)
	})
	return a, err
}

// asItIs reads a namespace; one that is not there is empty and without a name.
func (s *Service) asItIs(ctx context.Context, q records.Queries, name string) (model.Namespace, []namespace.Entry, error) {
	n, err := q.Namespace(ctx, name)
	if fault.KindOf(err) == fault.NotFound {
		return model.Namespace{}, nil, nil
	}
	if err != nil {
		return n, nil, err
	}
	entries, err := q.Entries(ctx, name, records.All)
	return n, entries, err
}

// tryNew opens every location that no entry leads to yet, and takes over the
// server's own spelling.
func (s *Service) tryNew(ctx context.Context, entries []namespace.Entry, d *namespace.Document) error {
	known := map[string]bool{}
	for _, e := range entries {
		for _, l := range e.Locations {
			known[namespace.Key(l.Target().String())] = true
		}
	}
	for i := range d.Entries {
		for k := range d.Entries[i].Locations {
			l, field := &d.Entries[i].Locations[k], fmt.Sprintf("entries[%d].locations[%d].to", i, k)
			if known[namespace.Key(l.To)] {
				continue
			}
			target, err := namespace.ParseTarget(field, l.To)
			if err != nil {
				return err
			}
			if target, err = s.estate.TryLocation(ctx, field, target); err != nil {
				return err
			}
			l.To = target.String()
			known[namespace.Key(l.To)] = true
		}
	}
	return nil
}

// settingChanges says what changes about the namespace itself.
func settingChanges(n model.Namespace, d namespace.Document) []string {
	list := []string{}
	if n.Name == "" {
		return append(list, "make the namespace "+d.Namespace)
	}
	if n.Note != d.Note {
		list = append(list, fmt.Sprintf("note %q instead of %q", d.Note, n.Note))
	}
	if n.TTL != d.TTL {
		list = append(list, fmt.Sprintf("ttl %d s instead of %d s", d.TTL, n.TTL))
	}
	if n.Returns != d.Returns {
		list = append(list, fmt.Sprintf("people return %s instead of %s", d.Returns, n.Returns))
	}
	if n.Hiding != d.Hiding {
		list = append(list, map[bool]string{true: "people see only what they may open", false: "people see every entry"}[d.Hiding])
	}
	return list
}

// applyIn works out once more what to do, now that nobody can change the
// namespace, and does it.
func (s *Service) applyIn(ctx context.Context, tx *records.Tx, d namespace.Document, a *model.Application, was string) error {
	wanted := model.Namespace{Name: d.Namespace, Note: d.Note, TTL: d.TTL, Returns: d.Returns, Hiding: d.Hiding}
	if err := tx.LockNamespace(ctx, d.Namespace); err != nil && fault.KindOf(err) != fault.NotFound {
		return err
	}
	n, entries, err := s.asItIs(ctx, tx.Queries, d.Namespace)
	if err != nil {
		return err
	}
	if was != "" && was != fingerprint(n, entries) {
		return fault.New(fault.Stale, "rehearse it again, and see what is different now", "the namespace %s was changed since the rehearsal", d.Namespace)
	}
	a.Steps, a.Settings = append([]namespace.DocumentStep{}, namespace.Difference(entries, d)...), settingChanges(n, d)
	switch {
	case n.Name == "":
		if err := tx.AddNamespace(ctx, wanted); err != nil {
			return err
		}
		if err := tx.Record(ctx, access.Change(ctx, "namespace.add", d.Namespace, nil, wanted), "namespace"); err != nil {
			return err
		}
	case len(a.Settings) > 0:
		wanted.Version = n.Version
		if err := tx.UpdateNamespace(ctx, wanted); err != nil {
			return err
		}
		if err := tx.Record(ctx, access.Change(ctx, "namespace.edit", d.Namespace, n, wanted), "namespace"); err != nil {
			return err
		}
	}
	for _, e := range namespace.LettersTaken(entries, d) {
		if err := tx.GiveLetter(ctx, d.Namespace, e.ID, ""); err != nil {
			return err
		}
	}
	// What goes and what moves comes first, and makes room for what is new.
	room := 0
	for room < len(a.Steps) && (a.Steps[room].Kind == namespace.RemoveEntry || a.Steps[room].Kind == namespace.MoveEntry) {
		room++
	}
	if err := s.doAll(ctx, tx, d.Namespace, a.Steps[:room]); err != nil {
		return err
	}
	left, err := addTogether(ctx, tx, d.Namespace, a.Steps[room:])
	if err != nil {
		return err
	}
	if err := s.doAll(ctx, tx, d.Namespace, left); err != nil {
		return err
	}
	return keepLetters(ctx, tx, d)
}

// doAll does steps one by one.
func (s *Service) doAll(ctx context.Context, tx *records.Tx, name string, steps []namespace.DocumentStep) error {
	for _, step := range steps {
		if err := s.do(ctx, tx, name, step); err != nil {
			var e *fault.Error
			if errors.As(err, &e) {
				e.Problem = "cannot " + step.Text + ": " + e.Problem
			}
			return err
		}
	}
	return nil
}

// keepLetters gives back the letters of those that moved and were to keep theirs.
func keepLetters(ctx context.Context, tx *records.Tx, d namespace.Document) error {
	for _, w := range d.Entries {
		if w.Letter == "" {
			continue
		}
		e, err := tx.EntryAt(ctx, d.Namespace, w.Path)
		if err != nil {
			return err
		}
		if e.Letter != w.Letter {
			if err := tx.GiveLetter(ctx, d.Namespace, e.ID, w.Letter); err != nil {
				return err
			}
		}
	}
	return nil
}

// do does one step.
func (s *Service) do(ctx context.Context, tx *records.Tx, name string, step namespace.DocumentStep) error {
	record := func(action, path string, before, after any) error {
		return tx.Record(ctx, access.Change(ctx, action, "/"+name+"/"+path, before, after), "namespace")
	}
	before, err := tx.EntryAt(ctx, name, step.Path)
	// A folder may be there by now, for what was moved or added below it.
	if step.Kind == namespace.AddEntry && (err != nil || before.Kind != namespace.Folder || len(step.Want.Locations) > 0) {
		return addEntryOf(ctx, tx, name, step.Want, record)
	}
	if err != nil {
		return err
	}
	switch step.Kind {
	case namespace.RemoveEntry:
		if err := tx.RemoveEntry(ctx, before); err != nil {
			return err
		}
		return record("entry.remove", before.Path, before, nil)
	case namespace.MoveEntry:
		after, err := moveBranch(ctx, tx, name, before, step.To)
		if err != nil {
			return err
		}
		return record("entry.move", before.Path, before, after)
	}
	if before.Path != step.Want.Path { // in another case
		if before, err = moveBranch(ctx, tx, name, before, step.Want.Path); err != nil {
			return err
		}
	}
	return editEntryOf(ctx, tx, name, before, step.Want, record)
}

type recorder func(action, path string, before, after any) error

func addEntryOf(ctx context.Context, tx *records.Tx, name string, w namespace.DocumentEntry, record recorder) error {
	e := namespace.Entry{Path: w.Path, Kind: namespace.Folder, Note: w.Note, TTL: w.TTL}
	if len(w.Locations) > 0 {
		e.Kind = namespace.Signpost
	}
	if err := addParents(ctx, tx, name, &e); err != nil {
		return err
	}
	id, err := tx.AddEntry(ctx, name, e)
	if err != nil {
		return err
	}
	for i, to := range w.Locations {
		if err := tx.AddLocation(ctx, id, fromDocument(to, i > 0)); err != nil {
			return err
		}
	}
	if w.Letter != "" {
		if err := tx.GiveLetter(ctx, name, id, w.Letter); err != nil {
			return err
		}
	}
	after, err := tx.Entry(ctx, name, id)
	if err != nil {
		return err
	}
	return record("entry.add", after.Path, nil, after)
}

// fromDocument is a new location as a document wants it: a further one waits
// until it is verified, unless the document says otherwise.
func fromDocument(to namespace.DocumentLocation, further bool) namespace.Location {
	target, _ := namespace.ParseTarget("", to.To) // the document was checked
	n := NewLocation{Target: target, Rank: to.Rank, Weight: to.Weight, OnlyFor: to.OnlyFor, OpenNow: to.State == namespace.Open}
	l := n.location(further)
	if to.State == namespace.Held {
		l.Set, l.SetWhy = namespace.Held, to.Why
	}
	return l
}

func editEntryOf(ctx context.Context, tx *records.Tx, name string, before namespace.Entry, w namespace.DocumentEntry, record recorder) error {
	e := before
	e.Note, e.TTL = w.Note, w.TTL
	left := 0
	for _, l := range before.Locations {
		if !w.Leads(l.Target()) {
			if err := tx.RemoveLocation(ctx, l); err != nil {
				return err
			}
			continue
		}
		left++
	}
	for _, to := range w.Locations {
		target, err := namespace.ParseTarget("to", to.To)
		if err != nil {
			return err
		}
		l, known := before.At(target)
		if !known {
			if err := tx.AddLocation(ctx, e.ID, fromDocument(to, left > 0)); err != nil {
				return err
			}
			left++
			continue
		}
		after := l.Changed(to)
		if after.Set == namespace.Open && l.Set == namespace.Held && waits(l) {
			after.SetWhy = unverified
		}
		if err := tx.UpdateLocation(ctx, after); err != nil {
			return err
		}
	}
	if w.Letter != "" && w.Letter != before.Letter {
		if err := tx.GiveLetter(ctx, name, e.ID, w.Letter); err != nil {
			return err
		}
	}
	if err := tx.TouchEntry(ctx, e); err != nil {
		return err
	}
	after, err := tx.Entry(ctx, name, e.ID)
	if err != nil {
		return err
	}
	return record("entry.edit", after.Path, before, after)
}
