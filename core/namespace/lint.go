package namespace

import (
	"fmt"
	"path"
	"strings"

	"bridgespan/core/finding"
)

// The codes of what people will stumble over.
const (
	LeadsNowhere = "leads-nowhere"
	AllHeld      = "all-held"
	OneLocation  = "one-location"
	FailingOne   = "failing-location"
	NotVerified  = "not-verified"
	Differs      = "differs"
	Overlapping  = "overlapping"
	SpaceInName  = "space-in-name"
	DeviceName   = "device-name"
	LongPath     = "long-path"
	EmptyFolder  = "empty-folder"
	ForNobody    = "for-nobody"
)

// NeverThere says what nobody needs to look for.
const NeverThere = "Loops cannot be made, as signposts lead to shares alone; names that differ only in case are refused when entries are made."

// longestComfortable is how many characters a path may have for programs that
// still count to 260 with a drive and an end mark.
const longestComfortable = 256

// Lint finds the flaws that a namespace shows by itself: what people will stumble over, in the
// order of the paths, which are their subjects. deepest tells how many characters the longest
// path below a location has, as far as it is known.
func Lint(name string, entries []Entry, deepest func(Location) int) []finding.Finding {
	l := linter{name: name, leads: reaches{at: map[string]reach{}, below: map[string]reach{}}, filled: map[string]bool{}, deepest: deepest, flaws: []finding.Finding{}}
	for _, e := range entries {
		for _, parent := range Parents(e.Path) {
			l.filled[Key(parent)] = true
		}
	}
	for _, e := range entries {
		l.entry(e)
	}
	return l.flaws
}

// linter looks at the entries of a namespace, one after the other.
type linter struct {
	name    string
	leads   reaches
	filled  map[string]bool // the folders in which there is something, by their keys
	deepest func(Location) int
	flaws   []finding.Finding
}

func (l *linter) add(severity finding.Severity, code, path, found, meaning, remedy string, action *finding.Action) {
	l.flaws = append(l.flaws, finding.New(severity, code, path, found, meaning, remedy).With(action))
}

func (l *linter) entry(e Entry) {
	full := "/" + l.name + "/" + e.Path
	if base := path.Base(e.Path); strings.Contains(base, " ") {
		to := path.Join(path.Dir(full), strings.Join(strings.Fields(base), "-"))
		l.add(finding.Warn, SpaceInName, full, "there is a space in the name", "it must be quoted in commands and scripts, and breaks in mail", "use a hyphen instead: "+to, finding.To(finding.MoveEntry, l.name, full, to))
	}
	if base := path.Base(e.Path); deviceName(base) {
		l.add(finding.Warn, DeviceName, full, fmt.Sprintf("%s is the name of a device to Windows", base), "Windows programs cannot open it", "give it another name", nil)
	}
	if e.Kind == Folder {
		if !l.filled[Key(e.Path)] {
			l.add(finding.Warn, EmptyFolder, full, "there is nothing in the folder", "people find an empty place", "add to it, or remove it", finding.To(finding.RemoveEntry, l.name, full))
		}
		return
	}
	led := l.states(full, e.Locations)
	for _, at := range e.Locations {
		l.location(full, at, led, len(e.Locations) > 1)
	}
	for _, at := range e.Locations {
		l.below(full, at)
	}
}

// deviceName reports whether Windows takes a name for one of a device, whatever follows a dot.
func deviceName(name string) bool {
	base, _, _ := strings.Cut(strings.ToUpper(name), ".")
	switch base = strings.TrimSpace(base); base {
	case "CON", "PRN", "AUX", "NUL":
		return true
	}
	port, ok := strings.CutPrefix(base, "COM")
	if !ok {
		port, ok = strings.CutPrefix(base, "LPT")
	}
	return ok && len(port) == 1 && port >= "1" && port <= "9"
}

// states looks at whether people are led anywhere at all, and reports it.
func (l *linter) states(full string, locations []Location) (led bool) {
	in := map[State]int{}
	for _, at := range locations {
		in[at.State]++
	}
	switch {
	case in[Open] == 0 && in[Held] < len(locations):
		l.add(finding.Fail, LeadsNowhere, full, "no location of it can be used", "people are turned away", "bring one of them back, or add another", nil)
	case in[Open] == 0:
		l.add(finding.Fail, AllHeld, full, "every location of it is held", "people are turned away", "open one that is known to be right", finding.To(finding.OpenLocation, l.name, full, locations[0].Target().String()))
	case len(locations) == 1:
		l.add(finding.Warn, OneLocation, full, "there is one location alone", "when its server is away, so are the files", "add another one that is kept the same", nil)
	}
	return in[Open] > 0
}

// location looks at one location of a signpost: led says that people are led to one of them, and
// several that there are others.
func (l *linter) location(full string, at Location, led, several bool) {
	target := at.Target().String()
	switch {
	case at.State == Failing && led:
		var action *finding.Action
		if at.Health == ShareMissing || at.Health == FolderMissing {
			action = finding.To(finding.RemoveLocation, l.name, full, target)
		}
		l.add(finding.Warn, FailingOne, full, target+": "+at.Why, "people are led past it", "bring it back, or remove it from the signpost", action)
	case strings.HasPrefix(at.SetWhy, DifferencesFound):
		l.add(finding.Fail, Differs, full, target+": "+at.SetWhy, "it does not hold what the others hold", "see in its verification what differs, mend that, and verify it again", finding.To(finding.VerifyLocation, l.name, full, target))
	case led && several && (at.SetWhy == WaitsForVerification || at.SetWhy == OpenedUnverified):
		l.add(finding.Warn, NotVerified, full, target+" was not verified", "nobody knows whether it holds what the others hold", "verify it", finding.To(finding.VerifyLocation, l.name, full, target))
	}
}

// below looks at what a location holds: whether others lead there, and how long its paths are.
func (l *linter) below(full string, at Location) {
	target := at.Target().String()
	if other, overlaps := l.leads.add(reach{full, at.Target()}); overlaps {
		l.add(finding.Warn, Overlapping, full, fmt.Sprintf("%s: %s leads to %s as well", target, other.path, other.target), "people find the same files under two names", "remove one of the two, unless both names are wanted", nil)
	}
	if n := l.deepest(at); n > 0 && len([]rune(full))+1+n > longestComfortable {
		l.add(finding.Warn, LongPath, full, fmt.Sprintf("%s: the longest path below it has %d characters with its own", target, len([]rune(full))+1+n), fmt.Sprintf("many programs cannot open more than %d", longestComfortable), "shorten the path of the signpost, or the names below it", nil)
	}
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

// Why a location is held, or what to know of one that is open.
const (
	WaitsForVerification = "not verified yet"
	OpenedUnverified     = "not verified"
	DifferencesFound     = "verification found "
)
