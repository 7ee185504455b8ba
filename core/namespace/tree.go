package namespace

import (
	"maps"
	"path"
	"slices"
	"strings"
	"time"
)

// EntryKind is what an entry of a namespace is.
type EntryKind string

const (
	Folder   EntryKind = "folder"
	Signpost EntryKind = "signpost"
)

// State says whether people are led to a location.
type State string

const (
	Open    State = "open"
	Held    State = "held"
	Failing State = "failing"
)

// Rank is the order that an administrator gives to locations that are equally near.
type Rank string

const (
	First  Rank = "first"
	Normal Rank = "normal"
	Last   Rank = "last"
)

var rankOrder = []Rank{First, Normal, Last}

// Location is one place that holds what a signpost leads to.
type Location struct {
	ID     int64  `json:"id" doc:"Number of the location"`
	Server string `json:"server" doc:"Server that holds it"`
	Share  string `json:"share" doc:"Share of the server"`
	Sub    string `json:"sub,omitempty" doc:"Folder below the share"`
	Site   string `json:"site" doc:"Site of the server"`
	// Listens is for a gateway that goes there.
	Listens Listener `json:"-"`
	// Set and SetWhy are what an administrator set; State and Why are what comes
	// of that and of what was found.
	Set     State    `json:"-"`
	SetWhy  string   `json:"-"`
	State   State    `json:"state" enum:"open,held,failing" doc:"open: people are led here; held: kept from people; failing: found unreachable"`
	Why     string   `json:"why,omitempty" doc:"Why it is held or failing; what to know of one that is open"`
	Rank    Rank     `json:"rank" enum:"first,normal,last" doc:"Order among locations that are equally near"`
	Weight  int      `json:"weight" doc:"Share of the people among locations that stand equal"`
	OnlyFor []string `json:"onlyFor,omitempty" doc:"Sites whose people are led here; absent for those of every site"`
	Health  Health   `json:"health,omitempty" enum:",well,read-only,share-missing,folder-missing,refused,broken,silent" doc:"How it was found at the last look; absent before the first"`
	// Since is when it was first found so.
	Since    *time.Time `json:"since,omitempty" doc:"Since when it has been found so"`
	Verified *time.Time `json:"verified,omitempty" doc:"When a verification last found that it holds what another location holds"`
}

// Health is how a location was found when it was last tried.
type Health string

const (
	NotTried      Health = ""
	Well          Health = "well"
	ReadOnly      Health = "read-only"      // readable, and nothing can be written
	ShareMissing  Health = "share-missing"  // the server does not have the share
	FolderMissing Health = "folder-missing" // the share does not have the folder
	Refused       Health = "refused"        // we may not come in
	Broken        Health = "broken"         // something else
	Silent        Health = "silent"         // the server does not answer
)

// Failing reports whether nobody should be led to such a location.
func (h Health) Failing() bool {
	switch h {
	case NotTried, Well, ReadOnly, Refused: // what refuses us may let people in
		return false
	}
	return true
}

// Words says in words how a location was found.
func (h Health) Words() string {
	switch h {
	case ReadOnly:
		return "read-only: nothing can be written there"
	case ShareMissing:
		return "the share is missing"
	case FolderMissing:
		return "the folder is missing"
	case Refused:
		return "the server refuses us, so that it cannot be watched"
	case Broken:
		return "it cannot be opened"
	case Silent:
		return "the server does not answer"
	}
	return ""
}

// Listener is where a server listens, and for whom.
type Listener struct {
	Server   string
	HostPort string
	// Domain is that of people who name none; empty for accounts of the server itself.
	Domain string
	// Unsigned lets messages pass that are not signed.
	Unsigned bool
	// People is the name by which people's machines reach it by SMB; when it is empty, Unled says
	// why they cannot be led there.
	People, Unled string
}

// Target is where the location leads.
func (l Location) Target() Target { return Target{l.Server, l.Share, l.Sub} }

// Entry is one name in a namespace.
type Entry struct {
	ID        int64      `json:"id" doc:"Number of the entry"`
	Path      string     `json:"path" doc:"Path inside the namespace, without a leading slash"`
	Kind      EntryKind  `json:"kind" enum:"folder,signpost" doc:"folder: holds names; signpost: leads to locations"`
	Note      string     `json:"note,omitempty" doc:"For administrators"`
	TTL       int        `json:"ttl,omitempty" doc:"For how many seconds directions of a signpost may be kept; absent: as the namespace says"`
	Letter    string     `json:"letter,omitempty" doc:"Drive letter that it was given"`
	Locations []Location `json:"locations,omitempty" doc:"Where a signpost leads"`
	Version   int64      `json:"version" doc:"Goes up with every change; the ETag"`
}

// Tree is one namespace, ready to be asked. It does not change.
type Tree struct {
	Name     string
	entries  map[string]*Entry
	children map[string][]*Entry
}

// NewTree makes a tree of entries. It keeps them.
func NewTree(name string, entries []Entry) *Tree {
	t := &Tree{Name: name, entries: make(map[string]*Entry, len(entries)), children: map[string][]*Entry{}}
	for i := range entries {
		e := &entries[i]
		key := Key(e.Path)
		t.entries[key] = e
		parent := parentOf(key)
		t.children[parent] = append(t.children[parent], e)
	}
	for _, list := range t.children {
		slices.SortFunc(list, func(a, b *Entry) int { return strings.Compare(Key(a.Path), Key(b.Path)) })
	}
	return t
}

// WithEntry is the tree with an entry as it is now; ok is false when there was none of its number
// and kind at its path. The tree itself stays as it is.
func (t *Tree) WithEntry(e Entry) (next *Tree, ok bool) {
	was := t.entries[Key(e.Path)]
	if was == nil || was.ID != e.ID || was.Kind != e.Kind || was.Path != e.Path {
		return nil, false
	}
	next = &Tree{Name: t.Name, entries: maps.Clone(t.entries), children: maps.Clone(t.children)}
	next.put(&e, map[string]bool{})
	return next, true
}

// put puts an entry in the place of what is at its path. copied are the folders whose lists are
// the tree's own already.
func (t *Tree) put(e *Entry, copied map[string]bool) {
	key := Key(e.Path)
	t.entries[key] = e
	parent := parentOf(key)
	if !copied[parent] {
		t.children[parent] = slices.Clone(t.children[parent])
		copied[parent] = true
	}
	at, _ := slices.BinarySearchFunc(t.children[parent], key, func(c *Entry, key string) int { return strings.Compare(Key(c.Path), key) })
	t.children[parent][at] = e
}

// With is the tree with other locations for some of its entries, by their
// numbers. The tree itself stays as it is.
func (t *Tree) With(locations map[int64][]Location) *Tree {
	next := &Tree{Name: t.Name, entries: maps.Clone(t.entries), children: maps.Clone(t.children)}
	copied := map[string]bool{}
	for _, e := range t.entries {
		if found, ok := locations[e.ID]; ok {
			changed := *e
			changed.Locations = found
			next.put(&changed, copied)
		}
	}
	return next
}

func parentOf(key string) string {
	if parent := path.Dir(key); parent != "." {
		return parent
	}
	return ""
}

// Place is what lies at a path.
type Place struct {
	// Signpost is set when the path is one or lies below one; Rest is then the
	// path below it.
	Signpost *Entry
	Rest     string
	// Folder is set when the path is a folder of the namespace; the root has
	// no entry and is the zero Entry.
	Folder *Entry
	// Children are the entries of that folder, in order of name.
	Children []*Entry
}

// Resolve finds what lies at a path inside the namespace. ok is false when
// nothing does.
func (t *Tree) Resolve(inside string) (Place, bool) {
	if inside == "" {
		return Place{Folder: &Entry{Kind: Folder}, Children: t.children[""]}, true
	}
	for _, prefix := range append(Parents(inside), inside) {
		e, ok := t.entries[Key(prefix)]
		if !ok {
			return Place{}, false
		}
		if e.Kind == Signpost {
			return Place{Signpost: e, Rest: strings.TrimPrefix(inside[len(prefix):], "/")}, true
		}
	}
	e := t.entries[Key(inside)]
	return Place{Folder: e, Children: t.children[Key(inside)]}, true
}

// Servers are the servers that the namespace leads to, each with where it listens.
func (t *Tree) Servers() map[string]Listener {
	servers := map[string]Listener{}
	for _, e := range t.entries {
		for _, l := range e.Locations {
			servers[l.Server] = l.Listens
		}
	}
	return servers
}
