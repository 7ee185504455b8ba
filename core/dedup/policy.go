package dedup

import (
	"time"

	"bridgespan/core/filter"
)

// Policy says what is deduplicated, and how.
type Policy struct {
	Profile Profile
	// Rules say which files: old enough, large enough, and not left out.
	Rules filter.Rules
	// Compression says how it was measured.
	Compression Compression
}

// File is a file as an estimator counts it.
type File struct {
	place     int    // of those that the volume is made of
	Path      string // with the place that it is in, which is its first element
	Inside    string // from the top of that place
	Size      int64  // logical bytes
	Allocated int64  // bytes that it occupies; 0 where unknown
	Modified  time.Time
	Owner     string
	// Link is true when it is another name of a file that is counted already.
	Link bool
	// Unread says why it was not read; "" when it was, and Summary tells of it.
	Unread  string
	Summary Summary
}

// holes are the bytes of a sparse file that take no space now, and would take none
// in a store.
func (f *File) holes() int64 {
	if f.Allocated <= 0 || f.Allocated >= f.Size {
		return 0
	}
	return min(f.Summary.Zeros, f.Size-f.Allocated)
}

// content is how many bytes a file has that take space.
func (f *File) content() int64 { return f.Size - f.holes() }

// NotYet is why a file that was just found is unread.
const NotYet = "not read yet"

// StubOnly is why a file is unread of which only a stub is there: reading it would fetch it.
const StubOnly = "only a stub is here"

// Why files are not deduplicated, beside what left them out.
const (
	leftLink  = "another name of a file that is counted"
	leftEmpty = "empty"
	leftYoung = "changed too recently"
	leftSmall = "too small"
	leftRules = "left out"
)

// Left are files that are not deduplicated.
type Left struct {
	Why   string `json:"why"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// rules judge files.
type rules struct {
	filter   *filter.Filter // without the least age, and the least size
	smallest int64
	oldest   time.Time // files must have been changed before
}

func newRules(r filter.Rules, now time.Time) (rules, error) {
	judged := rules{smallest: r.Smallest, oldest: daysAgo(now, r.MinDays)}
	r.MinDays, r.Smallest = 0, 0
	var err error
	judged.filter, err = filter.New(r)
	return judged, err
}

// left is why a file is not deduplicated; "" when it is. Its age is not asked.
func (r *rules) left(f *File, now time.Time) string {
	switch {
	case f.Link:
		return leftLink
	case f.Size == 0:
		return leftEmpty
	case r.filter.File(f.Inside, f.Size, f.Modified, now) != "":
		return leftRules
	case f.Size < r.smallest:
		return leftSmall
	}
	return f.Unread
}
