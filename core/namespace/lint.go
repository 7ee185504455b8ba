package namespace

import (
	"fmt"
	"path"
	"strings"
)

// FlawKind is a kind of flaw of a namespace.
type FlawKind string

const (
	LeadsNowhere FlawKind = "leads-nowhere"
	AllHeld      FlawKind = "all-held"
	OneLocation  FlawKind = "one-location"
	FailingOne   FlawKind = "failing-location"
	NotVerified  FlawKind = "not-verified"
	Differs      FlawKind = "differs"
	Overlapping  FlawKind = "overlapping"
	SpaceInName  FlawKind = "space-in-name"
	LongPath     FlawKind = "long-path"
	EmptyFolder  FlawKind = "empty-folder"
	ForNobody    FlawKind = "for-nobody"
)

// NeverThere says what nobody needs to look for.
const NeverThere = "Loops cannot be made, as signposts lead to shares alone; names that differ only in case are refused when entries are made."

// FixKind is what can be done at once about a flaw.
type FixKind string

const (
	NoFix          FixKind = ""
	FixVerify      FixKind = "verify"
	FixOpen        FixKind = "open"
	FixMove        FixKind = "move"
	FixRemove      FixKind = "remove-entry"
	FixRemovePlace FixKind = "remove-location"
)

// Flaw is something about a namespace that people will stumble over.
type Flaw struct {
	Kind     FlawKind `json:"kind" enum:"leads-nowhere,all-held,one-location,failing-location,not-verified,differs,overlapping,space-in-name,long-path,empty-folder,for-nobody"`
	Path     string   `json:"path" doc:"Full path of the entry"`
	Location string   `json:"location,omitempty" doc:"SERVER/SHARE[/FOLDER], when it is about one"`
	Means    string   `json:"means" doc:"What is wrong, and what it means for people"`
	Remedy   string   `json:"remedy" doc:"What to do about it"`
	Fix      FixKind  `json:"fix,omitempty" enum:"verify,open,move,remove-entry,remove-location" doc:"What can be done about it at once; absent when a person must decide"`
	To       string   `json:"to,omitempty" doc:"New path, of a move"`
}

// longestComfortable is how many characters a path may have for programs that
// still count to 260 with a drive and an end mark.
const longestComfortable = 256

// Lint finds the flaws that a namespace shows by itself, in the order of the
// paths. deepest tells how many characters the longest path below a location
// has, as far as it is known.
func Lint(name string, entries []Entry, deepest func(Location) int) []Flaw {
	flaws := []Flaw{}
	leads := reaches{at: map[string]reach{}, below: map[string]reach{}}
	filled := map[string]bool{}
	for _, e := range entries {
		for _, parent := range Parents(e.Path) {
			filled[Key(parent)] = true
		}
	}
	for _, e := range entries {
		full := "/" + name + "/" + e.Path
		add := func(f Flaw) {
			f.Path = full
			flaws = append(flaws, f)
		}
		if base := path.Base(e.Path); strings.Contains(base, " ") {
			to := path.Join(path.Dir(full), strings.Join(strings.Fields(base), "-"))
			add(Flaw{Kind: SpaceInName, Means: "there is a space in the name: it must be quoted in commands and scripts, and breaks in mail", Remedy: "use a hyphen instead: " + to, Fix: FixMove, To: to})
		}
		if e.Kind == Folder {
			if !filled[Key(e.Path)] {
				add(Flaw{Kind: EmptyFolder, Means: "there is nothing in the folder: people find an empty place", Remedy: "add to it, or remove it", Fix: FixRemove})
			}
			continue
		}
		lintLocations(e, add)
		for _, l := range e.Locations {
			if other, overlaps := leads.add(reach{full, l.Target()}); overlaps {
				add(Flaw{Kind: Overlapping, Location: l.Target().String(), Means: fmt.Sprintf("%s leads to %s as well: people find the same files under two names", other.path, other.target), Remedy: "remove one of the two, unless both names are wanted"})
			}
			if n := deepest(l); n > 0 && len([]rune(full))+1+n > longestComfortable {
				add(Flaw{Kind: LongPath, Location: l.Target().String(), Means: fmt.Sprintf("the longest path below it has %d characters with its own: many programs cannot open more than %d", len([]rune(full))+1+n, longestComfortable),
					Remedy: "shorten the path of the signpost, or the names below it"})
			}
		}
	}
	return flaws
}

// reach is where an entry leads.
type reach struct {
	path   string
	target Target
}

// reaches finds where entries lead to the same files, in a namespace of any size.
type reaches struct {
	at    map[string]reach // the first that leads to a folder, by the folder's key
	below map[string]reach // the first that leads somewhere below it
}

// add adds where an entry leads, and finds an earlier entry that leads to the
// same place, to one above it or to one below it.
func (r reaches) add(new reach) (other reach, overlaps bool) {
	share := Key(new.target.Server) + "/" + Key(new.target.Share)
	key := share
	if new.target.Sub != "" {
		key += "/" + Key(new.target.Sub)
	}
	found := func(o reach, there bool) {
		if there && !overlaps && o.path != new.path {
			other, overlaps = o, true
		}
	}
	o, there := r.at[key]
	found(o, there)
	for i := len(share); i < len(key); i++ {
		if key[i] != '/' {
			continue
		}
		o, there = r.at[key[:i]]
		found(o, there)
		if _, known := r.below[key[:i]]; !known {
			r.below[key[:i]] = new
		}
	}
	o, there = r.below[key]
	found(o, there)
	if _, known := r.at[key]; !known {
		r.at[key] = new
	}
	return other, overlaps
}

func lintLocations(e Entry, add func(Flaw)) {
	open, held, failing := 0, 0, 0
	for _, l := range e.Locations {
		switch l.State {
		case Open:
			open++
		case Held:
			held++
		default:
			failing++
		}
	}
	switch {
	case open == 0 && failing > 0:
		add(Flaw{Kind: LeadsNowhere, Means: "no location of it can be used: people are turned away", Remedy: "bring one of them back, or add another"})
	case open == 0:
		add(Flaw{Kind: AllHeld, Location: e.Locations[0].Target().String(), Means: "every location of it is held: people are turned away", Remedy: "open one that is known to be right", Fix: FixOpen})
	case len(e.Locations) == 1:
		add(Flaw{Kind: OneLocation, Means: "there is one location alone: when its server is away, so are the files", Remedy: "add another one that is kept the same"})
	}
	for _, l := range e.Locations {
		f := Flaw{Location: l.Target().String()}
		switch {
		case l.State == Failing && open > 0:
			f.Kind, f.Means, f.Remedy = FailingOne, "people are led past it: "+l.Why, "bring it back, or remove it from the signpost"
			if l.Health == ShareMissing || l.Health == FolderMissing {
				f.Fix = FixRemovePlace
			}
		case strings.HasPrefix(l.SetWhy, DifferencesFound):
			f.Kind, f.Means, f.Remedy = Differs, "it does not hold what the others hold: "+l.SetWhy, "see in its verification what differs, mend that, and verify it again"
			f.Fix = FixVerify
		case open > 0 && len(e.Locations) > 1 && (l.SetWhy == WaitsForVerification || l.SetWhy == OpenedUnverified):
			f.Kind, f.Means, f.Remedy, f.Fix = NotVerified, "nobody knows whether it holds what the others hold", "verify it", FixVerify
		default:
			continue
		}
		add(f)
	}
}

// Why a location is held, or what to know of one that is open.
const (
	WaitsForVerification = "not verified yet"
	OpenedUnverified     = "not verified"
	DifferencesFound     = "verification found "
)
