// Package front computes what an SMB front of a namespace holds: a share whose folders are those of
// the namespace, and whose links are its signposts, each with the places that clients try in turn.
package front

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"bridgespan/core/namespace"
)

// Settings are how a front shows its namespace.
type Settings struct {
	Branch          string // path inside the namespace that is its top; "" for all of it
	Site            string // whose people come through it
	LeaveOutFailing bool   // failing locations are left out while another one is open
}

// Entry is what stands at a path of a front: a folder, or a link when there are places to go to.
type Entry struct {
	Path string   `json:"path"`         // below the front's top
	To   []string `json:"to,omitempty"` // SERVER\SHARE or SERVER\SHARE\FOLDER, in the order in which they are tried
}

// Link reports whether it is a link.
func (e Entry) Link() bool { return len(e.To) > 0 }

// LeftOut is a signpost that a front does not show.
type LeftOut struct {
	Path string `json:"path"` // full path
	Why  string `json:"why"`
}

// MostPlaces is how many places a link may lead to. Clients try few, and links have bounds.
const MostPlaces = 16

// Entries are what a front of a namespace holds, folders before what is in them, and what it
// leaves out. It is empty when the branch is not there.
func Entries(t *namespace.Tree, network *namespace.Network, s Settings) (entries []Entry, left []LeftOut) {
	top, ok := t.Resolve(s.Branch)
	if !ok || top.Signpost != nil {
		return nil, nil
	}
	var walk func(children []*namespace.Entry)
	walk = func(children []*namespace.Entry) {
		for _, e := range children {
			at, _ := namespace.Below(top.Folder.Path, e.Path)
			if e.Kind == namespace.Folder {
				entries = append(entries, Entry{Path: at})
				if place, ok := t.Resolve(e.Path); ok {
					walk(place.Children)
				}
				continue
			}
			if to := places(Order(e.Locations, network, s)); len(to) > 0 {
				entries = append(entries, Entry{at, to})
			} else {
				left = append(left, LeftOut{"/" + t.Name + "/" + e.Path, whyLeftOut(Order(e.Locations, network, s))})
			}
		}
	}
	walk(top.Children)
	return entries, left
}

// Order are the directions of a front: as people at its site get them, but that those where
// nothing can be written stand after those where something can, and that failing ones are given
// last, unless they are left out. Usable are those that the front gives.
func Order(locations []namespace.Location, network *namespace.Network, s Settings) []namespace.Direction {
	list := namespace.Order(locations, namespace.Traveller{Site: s.Site}, network)
	open := slices.ContainsFunc(list, func(d namespace.Direction) bool { return d.Usable && d.Listens.People != "" })
	for i := range list {
		d := &list[i]
		switch {
		case d.ForOthers || d.State == namespace.Held:
		case d.Listens.People == "":
			d.Usable, d.Reason = false, "people's machines cannot be led there by SMB: "+cmp.Or(d.Listens.Unled, "no file service")
		case d.State == namespace.Failing && s.LeaveOutFailing && open:
			d.Reason = "left out while another one is open; " + d.Reason
		case d.State == namespace.Failing:
			d.Usable, d.Reason = true, "last, "+d.Reason
		}
	}
	slices.SortStableFunc(list, func(a, b namespace.Direction) int { return standing(&a) - standing(&b) })
	return list
}

func standing(d *namespace.Direction) int {
	switch {
	case !d.Usable:
		return 3
	case d.State == namespace.Failing:
		return 2
	case d.Health == namespace.ReadOnly:
		return 1
	}
	return 0
}

// Place is where a location is, as SMB clients write it: SERVER\SHARE\FOLDER.
func Place(l namespace.Location) string {
	place := l.Listens.People + `\` + l.Share
	if l.Sub != "" {
		place += `\` + strings.ReplaceAll(l.Sub, "/", `\`)
	}
	return place
}

func places(directions []namespace.Direction) (to []string) {
	for _, d := range directions {
		if d.Usable && len(to) < MostPlaces && CheckPlace(Place(d.Location)) == nil {
			to = append(to, Place(d.Location))
		}
	}
	return to
}

func whyLeftOut(directions []namespace.Direction) string {
	if len(directions) == 0 {
		return "it has no location"
	}
	var why []string
	for _, d := range directions {
		reason := d.Reason
		if d.Usable {
			reason = CheckPlace(Place(d.Location)).Error()
		}
		why = append(why, d.Target().String()+": "+reason)
	}
	return strings.Join(why, "; ")
}

// CheckPlace returns an error when a place cannot stand in a link.
func CheckPlace(place string) error {
	parts := strings.Split(place, `\`)
	switch {
	case len(parts) < 2 || slices.Contains(parts, ""):
		return fmt.Errorf("%q is not SERVER\\SHARE", place)
	case strings.ContainsAny(place, ",/\"") || strings.ContainsFunc(place, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return fmt.Errorf("%q holds a comma or another character that links cannot carry", place)
	case len(place) > namespace.MaxPath+2*namespace.MaxElement:
		return fmt.Errorf("the place has %d bytes, which no link can carry", len(place))
	}
	return nil
}

// Change is what is to be done at a path: Gone removes what stands there, else it becomes as Entry says.
type Change struct {
	Entry
	Gone bool `json:"gone,omitempty"`
}

// Changes lead from what a front holds to what it is to hold, in an order in which they can be done:
// what makes room first, then folders before what is in them, and removals last, the deepest first.
func Changes(have, want []Entry) []Change {
	is := make(map[string]Entry, len(have))
	for _, e := range have {
		is[e.Path] = e
	}
	var first, then, last []Change
	keeps := make(map[string]bool, len(want))
	for _, e := range want {
		keeps[e.Path] = true
		was, there := is[e.Path]
		switch {
		case there && was.Link() != e.Link():
			first = append(first, Change{Entry{Path: e.Path}, true})
			then = append(then, Change{e, false})
		case !there || !slices.Equal(was.To, e.To):
			then = append(then, Change{e, false})
		}
	}
	room := map[string]bool{}
	for _, c := range first {
		room[c.Path] = true
	}
	for _, e := range have {
		switch {
		case keeps[e.Path]:
		case below(e.Path, room): // its folder must be empty before it becomes a link
			first = append(first, Change{Entry{Path: e.Path}, true})
		default:
			last = append(last, Change{Entry{Path: e.Path}, true})
		}
	}
	deepestFirst := func(a, b Change) int { return strings.Compare(b.Path, a.Path) }
	slices.SortFunc(first, deepestFirst)
	slices.SortFunc(then, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(last, deepestFirst)
	return slices.Concat(first, then, last)
}

// below reports whether a path is in one of some folders.
func below(p string, folders map[string]bool) bool {
	for p = path.Dir(p); p != "."; p = path.Dir(p) {
		if folders[p] {
			return true
		}
	}
	return false
}
