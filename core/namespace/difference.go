package namespace

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// StepKind is what a step does.
type StepKind string

const (
	RemoveEntry StepKind = "remove-entry"
	MoveEntry   StepKind = "move-entry"
	AddEntry    StepKind = "add-entry"
	EditEntry   StepKind = "edit-entry" // note, ttl and locations
)

// DocumentStep is one change that leads from one state of a namespace to another.
type DocumentStep struct {
	Kind StepKind      `json:"kind" enum:"remove-entry,move-entry,add-entry,edit-entry"`
	Path string        `json:"path" doc:"Path of the entry; of a move, the old one"`
	To   string        `json:"to,omitempty" doc:"Where it moves"`
	Text string        `json:"text" doc:"What is done, in words"`
	Want DocumentEntry `json:"-"` // of an addition or change
}

// Difference is what leads from entries to what a checked document wants, in an
// order in which it can be done. A signpost whose locations appear under another
// path is moved, so that what is known of its locations stays.
func Difference(have []Entry, want Document) []DocumentStep {
	is, wanted := map[string]*Entry{}, map[string]*DocumentEntry{}
	for i := range have {
		is[Key(have[i].Path)] = &have[i]
	}
	for i := range want.Entries {
		wanted[Key(want.Entries[i].Path)] = &want.Entries[i]
	}
	implied := map[string]bool{}
	for _, e := range want.Entries {
		for _, parent := range Parents(e.Path) {
			implied[Key(parent)] = true
		}
	}
	moves := moved(is, wanted)
	var steps, folders []DocumentStep
	for _, e := range have {
		key := Key(e.Path)
		w := wanted[key]
		_, moves := moves[key]
		switch stays := w != nil && kindOf(*w) == e.Kind || w == nil && implied[key] && e.Kind == Folder; {
		case stays || moves:
		case e.Kind == Signpost:
			steps = append(steps, DocumentStep{Kind: RemoveEntry, Path: e.Path, Text: fmt.Sprintf("remove the signpost %s, which leads to %s", e.Path, targets(e.Locations))})
		default:
			folders = append(folders, DocumentStep{Kind: RemoveEntry, Path: e.Path, Text: "remove the folder " + e.Path})
		}
	}
	slices.Reverse(folders) // what lies below comes later in the order of paths, and goes first
	steps = append(steps, orderedMoves(moves, is)...)
	steps = append(steps, folders...)
	loses := map[string]bool{}
	for _, e := range LettersTaken(have, want) {
		loses[Key(e.Path)] = true
	}
	came := map[string]string{} // by key of the new path, that of the old one
	for from, to := range moves {
		came[Key(to)] = from
	}
	for i := range want.Entries {
		w := &want.Entries[i]
		now := is[Key(w.Path)]
		if from, moved := came[Key(w.Path)]; moved {
			now = is[from]
		}
		if now == nil || now.Kind != kindOf(*w) {
			steps = append(steps, DocumentStep{Kind: AddEntry, Path: w.Path, Text: addition(*w), Want: *w})
			continue
		}
		if text := changes(*now, *w, loses[Key(now.Path)]); text != "" {
			steps = append(steps, DocumentStep{Kind: EditEntry, Path: w.Path, Text: fmt.Sprintf("change %s: %s", w.Path, text), Want: *w})
		}
	}
	return steps
}

func kindOf(e DocumentEntry) EntryKind {
	if len(e.Locations) > 0 {
		return Signpost
	}
	return Folder
}

// moved finds the signposts that appear under another path with the same
// locations: by the key of the old path, the new one.
func moved(is map[string]*Entry, wanted map[string]*DocumentEntry) map[string]string {
	gone := map[string][]string{}
	for key, e := range is {
		if e.Kind == Signpost && wanted[key] == nil {
			set := make([]string, len(e.Locations))
			for i, l := range e.Locations {
				set[i] = Key(l.Target().String())
			}
			gone[fingerprint(set)] = append(gone[fingerprint(set)], key)
		}
	}
	moves := map[string]string{}
	claimed := map[string]int{}
	var added []*DocumentEntry
	for key, w := range wanted {
		if len(w.Locations) == 0 || is[key] != nil {
			continue
		}
		added = append(added, w)
		claimed[fingerprint(wantedSet(*w))]++
	}
	for _, w := range added {
		set := fingerprint(wantedSet(*w))
		if len(gone[set]) == 1 && claimed[set] == 1 {
			moves[gone[set][0]] = w.Path
		}
	}
	return moves
}

func wantedSet(w DocumentEntry) []string {
	set := make([]string, len(w.Locations))
	for i, l := range w.Locations {
		set[i] = Key(l.To)
	}
	return set
}

func fingerprint(set []string) string {
	slices.Sort(set)
	return strings.Join(set, "\x00")
}

// LettersTaken are the entries whose drive letter a document gives to another
// one: they lose it, and are given another when drives are next made.
func LettersTaken(have []Entry, want Document) []Entry {
	wanted := map[string]string{} // keys of paths by letter
	for _, w := range want.Entries {
		if w.Letter != "" {
			wanted[w.Letter] = Key(w.Path)
		}
	}
	return slices.DeleteFunc(slices.Clone(have), func(e Entry) bool {
		path, given := wanted[e.Letter]
		return e.Letter == "" || !given || path == Key(e.Path)
	})
}

func orderedMoves(moves map[string]string, is map[string]*Entry) []DocumentStep {
	var steps []DocumentStep
	for key, to := range moves {
		from := is[key].Path
		steps = append(steps, DocumentStep{Kind: MoveEntry, Path: from, To: to, Text: fmt.Sprintf("move %s to %s", from, to)})
	}
	slices.SortFunc(steps, func(a, b DocumentStep) int { return cmp.Compare(a.Path, b.Path) })
	return steps
}

func targets(list []Location) string {
	var names []string
	for _, l := range list {
		names = append(names, l.Target().String())
	}
	return strings.Join(names, ", ")
}

func addition(w DocumentEntry) string {
	if len(w.Locations) == 0 {
		return "add the folder " + w.Path
	}
	var names []string
	for i, l := range w.Locations {
		text := l.To
		switch {
		case l.State == Held:
			text += " (held)"
		case i > 0 && l.State == "":
			text += " (held until verified)"
		}
		names = append(names, text)
	}
	return fmt.Sprintf("add the signpost %s, which leads to %s", w.Path, strings.Join(names, ", "))
}

// changes says what is to change about an entry; "" when nothing is. Its drive
// letter may go to another one.
func changes(e Entry, w DocumentEntry, losesLetter bool) string {
	var list []string
	if e.Path != w.Path && Key(e.Path) == Key(w.Path) {
		list = append(list, "write it "+w.Path)
	}
	if e.Note != w.Note {
		list = append(list, fmt.Sprintf("note %q instead of %q", w.Note, e.Note))
	}
	if e.TTL != w.TTL {
		list = append(list, fmt.Sprintf("ttl %d s instead of %d s", w.TTL, e.TTL))
	}
	if w.Letter != "" && e.Letter != w.Letter {
		list = append(list, fmt.Sprintf("drive letter %s instead of %s", w.Letter, cmp.Or(e.Letter, "none")))
	}
	if w.Letter == "" && losesLetter {
		list = append(list, "its drive letter "+e.Letter+" goes to another")
	}
	for _, l := range e.Locations {
		if _, stays := w.at(l.Target()); !stays {
			list = append(list, "remove "+l.Target().String())
		}
	}
	for _, to := range w.Locations {
		now, known := e.at(to.target())
		switch {
		case !known && to.State == "":
			list = append(list, "add "+to.To+", held until verified")
		case !known:
			list = append(list, fmt.Sprintf("add %s, %s", to.To, to.State))
		default:
			if text := locationChanges(now, to); text != "" {
				list = append(list, to.To+" "+text)
			}
		}
	}
	return strings.Join(list, "; ")
}

func locationChanges(l Location, to DocumentLocation) string {
	var list []string
	switch {
	case to.State == Open && l.Set != Open:
		list = append(list, "open")
	case to.State == Held && (l.Set != Held || l.SetWhy != to.Why):
		list = append(list, "held: "+cmp.Or(to.Why, "by hand"))
	}
	if l.Rank != to.Rank {
		list = append(list, fmt.Sprintf("rank %s instead of %s", to.Rank, l.Rank))
	}
	if max(l.Weight, 1) != to.Weight {
		list = append(list, fmt.Sprintf("weight %d instead of %d", to.Weight, max(l.Weight, 1)))
	}
	if !sameNames(l.OnlyFor, to.OnlyFor) {
		list = append(list, "for people at "+cmp.Or(strings.Join(to.OnlyFor, ", "), "every site"))
	}
	return strings.Join(list, ", ")
}

func sameNames(a, b []string) bool {
	fold := func(list []string) []string {
		var keys []string
		for _, s := range list {
			keys = append(keys, Key(s))
		}
		slices.Sort(keys)
		return keys
	}
	return slices.Equal(fold(a), fold(b))
}

// at finds the location that leads to a target.
func (e Entry) at(t Target) (Location, bool) {
	for _, l := range e.Locations {
		if Key(l.Target().String()) == Key(t.String()) {
			return l, true
		}
	}
	return Location{}, false
}

func (e DocumentEntry) at(t Target) (DocumentLocation, bool) {
	for _, l := range e.Locations {
		if Key(l.To) == Key(t.String()) {
			return l, true
		}
	}
	return DocumentLocation{}, false
}

// Leads reports whether a location of the entry leads to a target.
func (e DocumentEntry) Leads(t Target) bool {
	_, ok := e.at(t)
	return ok
}

// At finds the location of a signpost that leads to a target.
func (e Entry) At(t Target) (Location, bool) { return e.at(t) }

// Changed is what a location becomes for a document.
func (l Location) Changed(to DocumentLocation) Location {
	switch {
	case to.State == Open && l.Set != Open:
		l.Set, l.SetWhy = Open, ""
	case to.State == Held:
		l.Set, l.SetWhy = Held, to.Why
	}
	l.Rank, l.Weight, l.OnlyFor = to.Rank, to.Weight, to.OnlyFor
	return l
}
