package namespace

import (
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/fault"
)

// Document is a whole namespace in the form in which it is exported and applied.
type Document struct {
	Namespace string          `json:"namespace" yaml:"namespace" doc:"Name of the namespace"`
	Note      string          `json:"note,omitempty" yaml:"note,omitempty" doc:"For administrators"`
	TTL       int             `json:"ttl,omitempty" yaml:"ttl,omitempty" minimum:"0" maximum:"86400" doc:"For how many seconds directions may be kept; 300 when absent"`
	Returns   string          `json:"returns,omitempty" yaml:"returns,omitempty" enum:"at-once,later" doc:"When people come back to a preferred location that is well again; at-once when absent"`
	Hiding    bool            `json:"hiding,omitempty" yaml:"hiding,omitempty" doc:"Whether people see only the entries that they may open"`
	Entries   []DocumentEntry `json:"entries" yaml:"entries" doc:"All entries; folders above them need not be listed"`
}

// DocumentEntry is an entry: a signpost with locations, or a folder without.
type DocumentEntry struct {
	Path      string             `json:"path" yaml:"path" doc:"Path inside the namespace, without a leading slash"`
	Note      string             `json:"note,omitempty" yaml:"note,omitempty" doc:"For administrators"`
	TTL       int                `json:"ttl,omitempty" yaml:"ttl,omitempty" minimum:"0" maximum:"86400" doc:"For how many seconds directions of a signpost may be kept; absent: as the namespace says"`
	Letter    string             `json:"letter,omitempty" yaml:"letter,omitempty" pattern:"^[E-Z]$" doc:"Drive letter of a signpost; absent leaves it as it is"`
	Locations []DocumentLocation `json:"locations,omitempty" yaml:"locations,omitempty" doc:"Where a signpost leads; none makes a folder"`
}

// DocumentLocation is a location of a signpost.
type DocumentLocation struct {
	To      string   `json:"to" yaml:"to" doc:"SERVER/SHARE or SERVER/SHARE/FOLDER"`
	State   State    `json:"state,omitempty" yaml:"state,omitempty" enum:"open,held" doc:"open leads people there now, verified or not; held keeps them away; absent leaves it as it is, and a further new one waits until it is verified"`
	Why     string   `json:"why,omitempty" yaml:"why,omitempty" doc:"Why it is held"`
	Rank    Rank     `json:"rank,omitempty" yaml:"rank,omitempty" enum:"first,normal,last" doc:"Order among locations that are equally near; normal when absent"`
	Weight  int      `json:"weight,omitempty" yaml:"weight,omitempty" minimum:"0" maximum:"1000" doc:"Share of the people among locations that stand equal; 1 when absent"`
	OnlyFor []string `json:"onlyFor,omitempty" yaml:"onlyFor,omitempty" doc:"Sites whose people are led here; absent for those of every site"`
}

// Check checks a document by itself, and puts in what is absent. Faults are at
// the fields of the document, such as entries[3].locations[0].to.
func (d *Document) Check() error {
	if err := CheckName("namespace", d.Namespace); err != nil {
		return err
	}
	if d.Returns != "" && d.Returns != "at-once" && d.Returns != "later" {
		return fault.Field("returns", "use at-once or later", "%q is not a way to come back", d.Returns)
	}
	seen, letters := map[string]int{}, map[string]int{}
	for i := range d.Entries {
		e, field := &d.Entries[i], fmt.Sprintf("entries[%d]", i)
		if err := e.check(field); err != nil {
			return err
		}
		if first, twice := seen[Key(e.Path)]; twice {
			return fault.Field(field+".path", "leave one of them out", "%s is the same name as entries[%d]", e.Path, first)
		}
		seen[Key(e.Path)] = i
		if e.Letter == "" {
			continue
		}
		if len(e.Letter) != 1 || e.Letter < "E" || e.Letter > "Z" || len(e.Locations) == 0 {
			return fault.Field(field+".letter", "use a capital from E to Z, for a signpost", "%q cannot be the drive letter of %s", e.Letter, e.Path)
		}
		if first, twice := letters[e.Letter]; twice {
			return fault.Field(field+".letter", "choose another letter", "%s: is the letter of entries[%d] as well", e.Letter, first)
		}
		letters[e.Letter] = i
	}
	for i, e := range d.Entries {
		for _, parent := range Parents(e.Path) {
			if above, there := seen[Key(parent)]; there && len(d.Entries[above].Locations) > 0 {
				return fault.Field(fmt.Sprintf("entries[%d].path", i), "choose a path outside of it", "%s lies below the signpost %s: what is below one are the files of its locations", e.Path, parent)
			}
		}
	}
	return nil
}

func (e *DocumentEntry) check(field string) error {
	e.Path = strings.Trim(e.Path, "/")
	if e.Path == "" {
		return fault.Field(field+".path", "name an entry below the namespace", "an entry needs a path")
	}
	if err := CheckPath(field+".path", e.Path); err != nil {
		return err
	}
	if len(e.Note) > 1000 {
		return fault.Field(field+".note", "shorten it", "the note has %d bytes, at most 1000 are allowed", len(e.Note))
	}
	if e.TTL != 0 && len(e.Locations) == 0 {
		return fault.Field(field+".ttl", "leave it out", "a folder gives no directions")
	}
	for i := range e.Locations {
		l, at := &e.Locations[i], fmt.Sprintf("%s.locations[%d]", field, i)
		target, err := ParseTarget(at+".to", l.To)
		if err != nil {
			return err
		}
		l.To = target.String()
		if l.Rank == "" {
			l.Rank = Normal
		}
		l.Weight = max(l.Weight, 1)
		switch {
		case !slices.Contains(rankOrder, l.Rank):
			return fault.Field(at+".rank", "use first, normal or last", "%q is not a rank", l.Rank)
		case l.State != "" && l.State != Open && l.State != Held:
			return fault.Field(at+".state", "use open or held, or leave it out", "%q is not a state that can be set", l.State)
		case l.Why != "" && l.State != Held:
			return fault.Field(at+".why", "leave it out, or set state: held", "only a location that is held needs a reason")
		case len(l.Why) > 255:
			return fault.Field(at+".why", "shorten it", "the reason has %d bytes, at most 255 are allowed", len(l.Why))
		}
		for k, other := range e.Locations[:i] {
			if first, err := ParseTarget("", other.To); err == nil && first.Overlaps(target) {
				return fault.Field(at+".to", "leave one of them out", "%s and locations[%d] lie one inside the other", l.To, k)
			}
		}
	}
	return nil
}

// target is where the location leads; the document was checked.
func (l DocumentLocation) target() Target {
	t, _ := ParseTarget("", l.To)
	return t
}

// Export makes the document of entries. What only waits for its verification
// is left to that: its state is absent.
func Export(d Document, entries []Entry, waiting func(Location) bool) Document {
	d.Entries = make([]DocumentEntry, 0, len(entries))
	for _, e := range entries {
		out := DocumentEntry{Path: e.Path, Note: e.Note, TTL: e.TTL, Letter: e.Letter}
		for _, l := range e.Locations {
			to := DocumentLocation{To: l.Target().String(), Rank: l.Rank, Weight: max(l.Weight, 1), OnlyFor: l.OnlyFor}
			if l.Set == Held && !waiting(l) {
				to.State, to.Why = Held, l.SetWhy
			}
			out.Locations = append(out.Locations, to)
		}
		d.Entries = append(d.Entries, out)
	}
	return d
}

// Brief leaves out what is as it would be anyway, for people to read.
func (d Document) Brief() Document {
	if d.Returns == "at-once" {
		d.Returns = ""
	}
	d.Entries = slices.Clone(d.Entries)
	for i := range d.Entries {
		d.Entries[i].Locations = slices.Clone(d.Entries[i].Locations)
		for k := range d.Entries[i].Locations {
			l := &d.Entries[i].Locations[k]
			if l.Rank == Normal {
				l.Rank = ""
			}
			if l.Weight == 1 {
				l.Weight = 0
			}
		}
	}
	return d
}
