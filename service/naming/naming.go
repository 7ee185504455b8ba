// Package naming keeps the namespaces: their entries, the locations that
// signposts lead to, and the directions that people are given.
package naming

import (
	"context"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// Estate knows the servers.
type Estate interface {
	// TryLocation opens where a location is to lead, and returns the target in the
	// server's own spelling or a fault at the field.
	TryLocation(ctx context.Context, field string, target namespace.Target) (namespace.Target, error)
	// LookAt tries targets that are all at one server, and says of each how it
	// was found. A server that does not answer is found silent.
	LookAt(ctx context.Context, server string, targets []namespace.Target) []namespace.Look
}

// Service is the use case.
type Service struct {
	db      *records.DB
	estate  Estate
	changed func()
	cache   cache
}

// New makes the service. changed is called after every change.
func New(db *records.DB, estate Estate, changed func()) *Service {
	return &Service{db: db, estate: estate, changed: changed}
}

func (s *Service) change(ctx context.Context, do func(tx *records.Tx) error) error {
	defer s.changed()
	defer s.Forget()
	return s.db.Change(ctx, do)
}

// Namespaces lists namespaces.
func (s *Service) Namespaces(ctx context.Context, page records.Page) ([]model.Namespace, error) {
	return s.db.Namespaces(ctx, page)
}

// Namespace finds a namespace.
func (s *Service) Namespace(ctx context.Context, name string) (model.Namespace, error) {
	return s.db.Namespace(ctx, name)
}

// DefaultTTL is for how many seconds directions may be kept unless a namespace says otherwise.
const DefaultTTL = 300

func checkNamespace(n *model.Namespace) error {
	if err := namespace.CheckName("name", n.Name); err != nil {
		return err
	}
	if n.TTL == 0 {
		n.TTL = DefaultTTL
	}
	if n.TTL < 1 || n.TTL > 86400 {
		return fault.Field("ttl", "use between 1 and 86400 seconds", "directions cannot be kept for %d seconds", n.TTL)
	}
	if n.Returns == "" {
		n.Returns = AtOnce
	}
	if n.Returns != AtOnce && n.Returns != Later {
		return fault.Field("returns", "use at-once or later", "%q is not a way to come back", n.Returns)
	}
	return checkNote(n.Note)
}

// When people come back to a preferred location that is well again.
const (
	AtOnce = "at-once"
	Later  = "later" // when their directions run out
)

func checkNote(note string) error {
	if len(note) > 1000 {
		return fault.Field("note", "shorten it", "the note has %d bytes, at most 1000 are allowed", len(note))
	}
	return nil
}

func checkTTL(ttl int) error {
	if ttl < 0 || ttl > 86400 {
		return fault.Field("ttl", "use up to 86400 seconds, or 0 for what the namespace says", "directions cannot be kept for %d seconds", ttl)
	}
	return nil
}

// AddNamespace adds an empty namespace.
func (s *Service) AddNamespace(ctx context.Context, n model.Namespace) error {
	if err := checkNamespace(&n); err != nil {
		return err
	}
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.AddNamespace(ctx, n); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "namespace.add", n.Name, nil, n), "namespace")
	})
}

// EditNamespace changes all but the name. n.Version is what the caller last read.
func (s *Service) EditNamespace(ctx context.Context, n model.Namespace) error {
	if err := checkNamespace(&n); err != nil {
		return err
	}
	return s.change(ctx, func(tx *records.Tx) error {
		before, err := tx.Namespace(ctx, n.Name)
		if err != nil {
			return err
		}
		if err := tx.UpdateNamespace(ctx, n); err != nil {
			return tx.Since(ctx, err, n.Name, n.Version)
		}
		return tx.Record(ctx, access.Change(ctx, "namespace.edit", n.Name, before, n), "namespace")
	})
}

// RemoveNamespace removes a namespace with all of its entries; no file is touched.
// When it has entries, force must be true.
func (s *Service) RemoveNamespace(ctx context.Context, name string, version int64, force bool) error {
	return s.change(ctx, func(tx *records.Tx) error {
		n, err := tx.Namespace(ctx, name)
		if err != nil {
			return err
		}
		if n.Folders+n.Signposts > 0 && !force {
			return fault.New(fault.Needed, "remove them first, or say that they go too (with-entries)", "the namespace %s still has %d folders and %d signposts", name, n.Folders, n.Signposts)
		}
		entries, err := tx.Entries(ctx, name, records.All)
		if err != nil {
			return err
		}
		n.Version = version
		if err := tx.RemoveNamespace(ctx, n); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "namespace.remove", name, map[string]any{"namespace": n, "entries": entries}, nil), "namespace")
	})
}

// InNeed lists the first signposts of which a location is held or not well.
func (s *Service) InNeed(ctx context.Context, name string, limit int) ([]namespace.Entry, error) {
	if _, err := s.db.Namespace(ctx, name); err != nil {
		return nil, err
	}
	return s.db.EntriesInNeed(ctx, name, limit)
}

// Entries lists the entries of a namespace in order of path.
func (s *Service) Entries(ctx context.Context, name string, page records.Page) ([]namespace.Entry, error) {
	if _, err := s.db.Namespace(ctx, name); err != nil {
		return nil, err
	}
	return s.db.Entries(ctx, name, page)
}

// EntryAt finds an entry by its path.
func (s *Service) EntryAt(ctx context.Context, name, path string) (namespace.Entry, error) {
	if err := namespace.CheckPath("path", path); err != nil {
		return namespace.Entry{}, err
	}
	return s.db.EntryAt(ctx, name, path)
}

// Entry finds an entry by its number.
func (s *Service) Entry(ctx context.Context, name string, id int64) (namespace.Entry, error) {
	return s.db.Entry(ctx, name, id)
}

// AddEntry adds an entry, and the folders above it that are missing. A
// signpost needs at least one location.
func (s *Service) AddEntry(ctx context.Context, name string, e namespace.Entry, locations []NewLocation) (namespace.Entry, error) {
	if err := checkEntry(e, locations); err != nil {
		return e, err
	}
	if err := s.tryTargets(ctx, locations); err != nil {
		return e, err
	}
	err := s.change(ctx, func(tx *records.Tx) error {
		if err := tx.LockNamespace(ctx, name); err != nil {
			return err
		}
		if err := addParents(ctx, tx, name, &e); err != nil {
			return err
		}
		id, err := tx.AddEntry(ctx, name, e)
		if err != nil {
			return err
		}
		for i, l := range locations {
			if err := tx.AddLocation(ctx, id, l.location(i > 0)); err != nil {
				return err
			}
		}
		if e, err = tx.Entry(ctx, name, id); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "entry.add", "/"+name+"/"+e.Path, nil, e), "namespace")
	})
	return e, err
}

func checkEntry(e namespace.Entry, locations []NewLocation) error {
	if err := namespace.CheckPath("path", e.Path); err != nil {
		return err
	}
	switch {
	case e.Path == "":
		return fault.Field("path", "name an entry below the namespace", "the root of the namespace is there already")
	case e.Kind == namespace.Folder && e.TTL != 0:
		return fault.Field("ttl", "leave it out", "a folder gives no directions")
	case e.Kind == namespace.Folder && len(locations) > 0:
		return fault.Field("locations", "make it a signpost, or leave them out", "a folder leads nowhere itself")
	case e.Kind == namespace.Signpost && len(locations) == 0:
		return fault.Field("locations", "give at least one, as SERVER/SHARE", "a signpost must lead somewhere")
	case e.Kind != namespace.Folder && e.Kind != namespace.Signpost:
		return fault.Field("kind", "use folder or signpost", "%q is not a kind of entry", e.Kind)
	}
	if err := checkNote(e.Note); err != nil {
		return err
	}
	if err := checkTTL(e.TTL); err != nil {
		return err
	}
	for i := range locations {
		for _, other := range locations[:i] {
			if err := checkOverlap(other.Target, locations[i].Target); err != nil {
				return err
			}
		}
	}
	return nil
}

// addParents adds the folders above e that are missing, and takes over the
// spelling of those that are there. It refuses to add below a signpost.
func addParents(ctx context.Context, tx *records.Tx, name string, e *namespace.Entry) error {
	for _, parent := range namespace.Parents(e.Path) {
		found, err := tx.EntryAt(ctx, name, parent)
		switch {
		case fault.KindOf(err) == fault.NotFound:
			folder := namespace.Entry{Path: parent, Kind: namespace.Folder}
			if _, err := tx.AddEntry(ctx, name, folder); err != nil {
				return err
			}
			if err := tx.Record(ctx, access.Change(ctx, "entry.add", "/"+name+"/"+parent, nil, folder), "namespace"); err != nil {
				return err
			}
		case err != nil:
			return err
		case found.Kind == namespace.Signpost:
			return fault.Field("path", "choose a path outside of it", "/%s/%s is a signpost: what lies below it are the files of its locations", name, found.Path)
		default:
			e.Path = found.Path + e.Path[len(parent):]
		}
	}
	return nil
}

// EditEntry changes note, ttl and path; what is nil or "" stays. version is
// what the caller last read.
func (s *Service) EditEntry(ctx context.Context, name string, id, version int64, change model.EditEntry) error {
	if change.Path != "" {
		if change.Note != nil || change.TTL != nil || change.Letter != nil {
			return fault.Field("path", "move it first, then change it", "an entry is moved and changed one after the other")
		}
		return s.moveEntry(ctx, name, id, version, change.Path)
	}
	return s.changeEntry(ctx, name, id, version, "entry.edit", func(tx *records.Tx, e *namespace.Entry) error {
		if change.Note != nil {
			e.Note = *change.Note
		}
		if change.TTL != nil {
			e.TTL = *change.TTL
		}
		if e.Kind == namespace.Folder && e.TTL != 0 {
			return fault.Field("ttl", "leave it out", "a folder gives no directions")
		}
		if err := checkTTL(e.TTL); err != nil {
			return err
		}
		if err := checkNote(e.Note); err != nil || change.Letter == nil {
			return err
		}
		letter := strings.ToUpper(*change.Letter)
		if letter != "" && (letter < "E" || letter > "Z" || len(letter) != 1 || e.Kind == namespace.Folder) {
			return fault.Field("letter", "use a letter from E to Z, for a signpost", "%q cannot be the drive letter of this %s", *change.Letter, e.Kind)
		}
		return tx.GiveLetter(ctx, name, e.ID, letter)
	})
}

// moveEntry gives an entry and everything below it another path, and adds the
// folders above that are missing.
func (s *Service) moveEntry(ctx context.Context, name string, id, version int64, to string) error {
	if err := namespace.CheckPath("path", to); err != nil {
		return err
	}
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.LockNamespace(ctx, name); err != nil {
			return err
		}
		before, err := tx.Entry(ctx, name, id)
		if err != nil {
			return err
		}
		before.Version = version
		after, err := moveBranch(ctx, tx, name, before, to)
		if err != nil {
			return tx.Since(ctx, err, "/"+name+"/"+before.Path, version)
		}
		return tx.Record(ctx, access.Change(ctx, "entry.move", "/"+name+"/"+before.Path, before, after), "namespace")
	})
}

func moveBranch(ctx context.Context, tx *records.Tx, name string, e namespace.Entry, to string) (namespace.Entry, error) {
	from, key := namespace.Key(e.Path), namespace.Key(to)
	if strings.HasPrefix(key, from+"/") {
		return e, fault.Field("path", "choose a path outside of it", "/%s/%s cannot move into its own branch", name, e.Path)
	}
	moved := namespace.Entry{Path: to}
	if err := addParents(ctx, tx, name, &moved); err != nil {
		return e, err
	}
	if taken, err := tx.EntryAt(ctx, name, moved.Path); err == nil && taken.ID != e.ID {
		return e, fault.New(fault.Taken, "choose another path, or move that one away first", "there is a %s at /%s/%s", taken.Kind, name, taken.Path).At("path")
	} else if err != nil && fault.KindOf(err) != fault.NotFound {
		return e, err
	}
	if err := tx.MoveBranch(ctx, name, e, moved.Path); err != nil {
		return e, err
	}
	return tx.Entry(ctx, name, e.ID)
}

// changeEntry runs do on an entry that is still as the caller last read it,
// raises its version and records the change.
func (s *Service) changeEntry(ctx context.Context, name string, id, version int64, action string, do func(tx *records.Tx, e *namespace.Entry) error) error {
	at := ""
	defer s.changed()
	defer func() { s.ForgetPath("/" + name + "/" + at) }()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.LockNamespace(ctx, name); err != nil {
			return err
		}
		before, err := tx.Entry(ctx, name, id)
		if err != nil {
			return err
		}
		e := before
		e.Version, at = version, before.Path
		if err := do(tx, &e); err != nil {
			return err
		}
		if err := tx.TouchEntry(ctx, e); err != nil {
			return tx.Since(ctx, err, "/"+name+"/"+before.Path, version)
		}
		after, err := tx.Entry(ctx, name, id)
		if err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, action, "/"+name+"/"+e.Path, before, after), "namespace")
	})
}

// RemoveEntry removes an entry that has nothing below it; no file is touched.
func (s *Service) RemoveEntry(ctx context.Context, name string, id, version int64) error {
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.LockNamespace(ctx, name); err != nil {
			return err
		}
		before, err := tx.Entry(ctx, name, id)
		if err != nil {
			return err
		}
		below, err := tx.CountBelow(ctx, name, before.Path)
		if err != nil {
			return err
		}
		if below > 0 {
			return fault.New(fault.Needed, "remove those first", "%d entries lie below /%s/%s", below, name, before.Path)
		}
		e := before
		e.Version = version
		if err := tx.RemoveEntry(ctx, e); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "entry.remove", "/"+name+"/"+e.Path, before, nil), "namespace")
	})
}
