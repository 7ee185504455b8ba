package dedup

import (
	"cmp"
	"encoding/hex"
	"slices"
)

func hexOf(p Print) string { return hex.EncodeToString(p[:]) }

// Twins are files with one content.
type Twins struct {
	Files  int64    `json:"files"`
	Size   int64    `json:"size" doc:"Bytes of each"`
	Spares int64    `json:"spares" doc:"Bytes of all but one of them"`
	Paths  []string `json:"paths" doc:"Some of them"`
}

// WholeFiles counts what would be saved by storing equal files once, and nothing
// else. Files come to Add in the order of their digests.
type WholeFiles struct {
	estimator *Estimator
	saving    int64
	now       Twins
	digest    [16]byte
	sets      []Twins // the largest; not always in order
}

// Bounds of the sets of equal files that are shown.
const (
	shownTwins     = 50
	shownTwinPaths = 8
)

// NewWholeFiles counts under the policy of an estimator.
func (e *Estimator) NewWholeFiles() *WholeFiles { return &WholeFiles{estimator: e} }

// Add counts a file; of its summary, the digest alone is needed.
func (w *WholeFiles) Add(f *File) {
	e := w.estimator
	if e.rules.left(f, e.now) != "" || f.Modified.After(e.rules.oldest) {
		return
	}
	if w.now.Files == 0 || f.Summary.Digest != w.digest {
		w.end()
		w.digest, w.now = f.Summary.Digest, Twins{Size: f.Size}
	}
	w.now.Files++
	if w.now.Files > 1 {
		w.saving += f.content()
	}
	if len(w.now.Paths) < shownTwinPaths {
		w.now.Paths = append(w.now.Paths, f.Path)
	}
}

// end keeps a set that is complete.
func (w *WholeFiles) end() {
	if w.now.Files < 2 {
		return
	}
	w.now.Spares = (w.now.Files - 1) * w.now.Size
	slices.Sort(w.now.Paths)
	if w.sets = append(w.sets, w.now); len(w.sets) >= 4*shownTwins {
		w.largest()
	}
}

func (w *WholeFiles) largest() {
	slices.SortFunc(w.sets, func(a, b Twins) int {
		return cmp.Or(cmp.Compare(b.Spares, a.Spares), cmp.Compare(a.Paths[0], b.Paths[0]))
	})
	w.sets = w.sets[:min(len(w.sets), shownTwins)]
}

// Result is what is saved, and the sets of equal files that spare most.
func (w *WholeFiles) Result() (saving int64, sets []Twins) {
	w.end()
	w.now = Twins{}
	w.largest()
	return w.saving, append([]Twins{}, w.sets...)
}
