package offload

import "time"

// Prefetched is a file whose content an edge was brought before anybody there asked for it.
type Prefetched struct {
	Path  string
	Bytes int64
	At    time.Time // when it was on its way
	Seen  time.Time // its last use when it was first seen there; zero before
	Used  time.Time // when somebody used it after that; zero while nobody has
}

// Look notes whether the file was used since. It reports whether that is news.
func (p *Prefetched) Look(f File) bool {
	switch {
	case f.Stub || !p.Used.IsZero():
		return false
	case p.Seen.IsZero():
		p.Seen = f.Used
		return true
	case f.Used.After(p.Seen):
		p.Used = f.Used
		return true
	}
	return false
}

// PrefetchKept is for how long it is kept what was prefetched.
const PrefetchKept = 30 * 24 * time.Hour

// PrefetchFigures add up what was prefetched.
type PrefetchFigures struct {
	Files, Bytes int64
	Used         int64     // files that somebody used
	First        time.Time // when the first of them came
}

// Bounds of [PrefetchFigures.Wasted].
const (
	wastedShare = 5 // less than one of so many was used
	wastedFiles = 20
	wastedAfter = 7 * 24 * time.Hour
)

// Wasted reports whether few of the files were used, after a while.
func (f PrefetchFigures) Wasted(now time.Time) bool {
	return f.Files >= wastedFiles && wastedShare*f.Used < f.Files && now.Sub(f.First) >= wastedAfter
}
