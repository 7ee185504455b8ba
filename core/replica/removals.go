package replica

import (
	"cmp"
	"time"
)

// Removals are files of a replica that are missing there, and were not renamed.
type Removals struct {
	Items        int64 // files, and the folders that they were in
	Files, Bytes int64
	// Of is how many files and folders the replica had with them.
	Of int64
	// Examples are some of the files.
	Examples []string
}

// mostExamples bounds the examples of removals.
const mostExamples = 20

// Add counts a missing file.
func (r *Removals) Add(rec *Record) {
	r.Items, r.Files, r.Bytes = r.Items+1, r.Files+1, r.Bytes+rec.Size
	if len(r.Examples) < mostExamples {
		r.Examples = append(r.Examples, rec.Key)
	}
}

// AddAll counts all of other.
func (r *Removals) AddAll(other Removals) {
	r.Items, r.Files, r.Bytes = r.Items+other.Items, r.Files+other.Files, r.Bytes+other.Bytes
	r.Examples = append(r.Examples, other.Examples[:min(len(other.Examples), mostExamples-len(r.Examples))]...)
}

// Bounds of a [RemovalGuard].
const (
	RemovalWindow = time.Hour
	// LeastRemovals is how many items may always be removed in a window, however few a replica has.
	LeastRemovals = 20
)

// Decision is what somebody decided about pending removals.
type Decision string

const (
	Undecided Decision = ""
	Apply     Decision = "apply"   // they are carried to the other replicas
	Restore   Decision = "restore" // the files come back from the other replicas
)

// RemovalGuard tells whether more than a share of the items of a replica is removed within a window. The zero value lets all pass.
type RemovalGuard struct {
	Percent int // 0 for no bound
	// Least is how many items may always be removed; 0 means LeastRemovals.
	Least  int64
	passed []passed
}

type passed struct {
	at    time.Time
	items int64
}

// Pass counts items whose removal was let through. It keeps one count per minute.
func (g *RemovalGuard) Pass(now time.Time, items int64) {
	if g.Percent == 0 || items <= 0 {
		return
	}
	if n := len(g.passed); n > 0 && now.Sub(g.passed[n-1].at) < time.Minute {
		g.passed[n-1].items += items
		return
	}
	g.passed = append(g.passed, passed{now, items})
}

// Exceeds reports whether so many more missing items are too many, of a replica that has so many beside them.
func (g *RemovalGuard) Exceeds(now time.Time, missing, left int64) bool {
	items := missing
	kept := g.passed[:0]
	for _, p := range g.passed {
		if now.Sub(p.at) < RemovalWindow {
			kept = append(kept, p)
			items += p.items
		}
	}
	g.passed = kept
	return g.Percent > 0 && missing > 0 && items > cmp.Or(g.Least, LeastRemovals) && 100*items > int64(g.Percent)*(items+left)
}
