package survey

import (
	"cmp"
	"slices"
	"time"
)

// Shift is how one class changed.
type Shift struct {
	Name   string `json:"name"`
	Before Tally  `json:"before"`
	After  Tally  `json:"after"`
	Files  int64  `json:"files" doc:"More files than before; fewer when negative"`
	Bytes  int64  `json:"bytes" doc:"More bytes than before; fewer when negative"`
}

// Comparison is how figures changed.
type Comparison struct {
	Days        float64 `json:"days" doc:"Days between the two"`
	Files       int64   `json:"files" doc:"More files than before; fewer when negative"`
	Folders     int64   `json:"folders"`
	Bytes       int64   `json:"bytes"`
	BytesPerDay float64 `json:"bytesPerDay" doc:"Growth per day"`
	FilesPerDay float64 `json:"filesPerDay"`
	// Changed is what was written between the two, new or over old content, as
	// far as the times of the files tell.
	Changed       Tally   `json:"changed" doc:"Files with a time of change after the earlier survey, and their bytes"`
	ChangedPerDay float64 `json:"changedBytesPerDay" doc:"Bytes of changed files per day: what replication would have to look at"`
	Types         []Shift `json:"types"`
	Tops          []Shift `json:"tops"`
}

// Compare says how figures changed between two surveys.
func Compare(before, after Figures) Comparison {
	changed, days := after.ChangedSince(before.Now), after.Now.Sub(before.Now).Hours()/24
	c := Comparison{Days: days, Files: after.Files - before.Files, Folders: after.Folders - before.Folders, Bytes: after.Bytes - before.Bytes, Changed: changed,
		Types: shifts(before.Types, after.Types), Tops: shifts(before.Tops, after.Tops)}
	if days > 0 {
		c.BytesPerDay, c.FilesPerDay, c.ChangedPerDay = float64(c.Bytes)/days, float64(c.Files)/days, float64(changed.Bytes)/days
	}
	return c
}

// Rate is what changes in a day.
type Rate struct {
	Bytes    int64     // of changed files, per day
	Since    time.Time // when changes began to be counted
	Compared bool      // with an earlier survey; else the times of the files tell
}

// Times between two surveys that tell what changes in a day, and for how long changes are counted without an earlier survey.
const (
	leastBetween = 12 * time.Hour
	lookBack     = 7 * 24 * time.Hour
)

// PerDay is what changes in a day. earlier are the times of surveys before this one, the latest first.
func (f Figures) PerDay(earlier ...time.Time) Rate {
	r := Rate{Since: f.Now.Add(-lookBack)}
	for _, t := range earlier {
		if f.Now.Sub(t) >= leastBetween {
			r.Since, r.Compared = t, true
			break
		}
	}
	r.Bytes = int64(float64(f.ChangedSince(r.Since).Bytes) / f.Now.Sub(r.Since).Hours() * 24)
	return r
}

// shifts pairs classes by name, and leaves out those that did not change.
func shifts(before, after []Class) []Shift {
	pairs := map[string]*Shift{}
	at := func(name string) *Shift {
		if pairs[name] == nil {
			pairs[name] = &Shift{Name: name}
		}
		return pairs[name]
	}
	for _, c := range before {
		at(c.Name).Before = Tally{c.Files, c.Bytes}
	}
	for _, c := range after {
		at(c.Name).After = Tally{c.Files, c.Bytes}
	}
	list := []Shift{}
	for _, s := range pairs {
		s.Files, s.Bytes = s.After.Files-s.Before.Files, s.After.Bytes-s.Before.Bytes
		if s.Before != s.After {
			list = append(list, *s)
		}
	}
	slices.SortFunc(list, func(a, b Shift) int {
		return cmp.Or(cmp.Compare(abs(b.Bytes), abs(a.Bytes)), cmp.Compare(abs(b.Files), abs(a.Files)), cmp.Compare(a.Name, b.Name))
	})
	return list
}

func abs(n int64) int64 { return max(n, -n) }
