package offload

import "time"

// Prefetched is a file that an edge received whole although its policy allows a stub.
type Prefetched struct {
	Path  string
	Bytes int64
	At    time.Time // of its transfer
	Seen  time.Time // its last use when a scan first saw it; zero before
	Used  time.Time // its first use after that; zero before
}

// Look updates the file from what a scan saw. It reports whether anything changed.
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

// PrefetchKept is how long prefetched files are recorded.
const PrefetchKept = 30 * 24 * time.Hour

// PrefetchFigures adds up prefetched files.
type PrefetchFigures struct {
	Files, Bytes int64
	Used         int64     // files that were used
	First        time.Time // transfer of the first
}

// Bounds of [PrefetchFigures.Wasted].
const (
	wastedShare = 5 // less than a fifth
	wastedFiles = 20
	wastedAfter = 7 * 24 * time.Hour
)

// Wasted reports whether less than a fifth of at least 20 files was used within at least a week.
func (f PrefetchFigures) Wasted(now time.Time) bool {
	return f.Files >= wastedFiles && wastedShare*f.Used < f.Files && now.Sub(f.First) >= wastedAfter
}
