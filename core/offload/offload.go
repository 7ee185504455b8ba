// Package offload decides which files of an edge become stubs, and which stubs are filled.
//
// A [Survey] is told of every file once and keeps how many bytes were last used in each hour, so that its memory does not
// grow with the number of files. [Survey.Decide] makes of it, of the policy and of the room on the volume a [Decision]: times
// that divide what stays from what goes. The decision is asked about each file when the edge is walked once more.
package offload

import (
	"maps"
	"slices"
	"time"
)

// Policy says what an edge keeps whole. The zero value offloads nothing.
type Policy struct {
	// Free is how much of the volume is to stay free, in percent; 0 is no line.
	Free int
	// Unused is for how long a file must not have been used to be offloaded; 0 offloads none for that.
	Unused time.Duration
	// Newest is how many bytes of the files that were changed last are never offloaded.
	Newest int64
	// Never says of files that they are never offloaded; nil says so of none.
	Never func(path string) bool
}

// Least is how many bytes a file has at least to be offloaded: smaller ones free next to nothing.
const Least = 8 << 10

// File is a file of an edge.
type File struct {
	Path      string
	Allocated int64 // bytes that it occupies
	Size      int64
	Modified  time.Time
	Used      time.Time // last read or changed
	Stub      bool
}

// Volume is the room under an edge, in bytes.
type Volume struct{ Total, Free int64 }

// Line is how many bytes are to be free.
func (p *Policy) Line(v Volume) int64 { return v.Total / 100 * int64(p.Free) }

// hour is a time as surveys count it.
type hour int64

func hourOf(t time.Time) hour { return hour(t.Unix() / 3600) }

func (h hour) time() time.Time { return time.Unix(int64(h)*3600, 0).UTC() }

// Figures count files.
type Figures struct {
	Files int64
	Bytes int64 // that they occupy, or would if they were whole
}

func (f *Figures) add(files, bytes int64) { f.Files, f.Bytes = f.Files+files, f.Bytes+bytes }

// Survey is what is known of the files of an edge. The zero value knows of none.
type Survey struct {
	Whole, Stubs, Kept Figures // Kept are those whole ones that are never offloaded

	used     map[hour]Figures // of whole files that may be offloaded, by their last use
	modified map[hour]Figures // of all files, by their last change
}

// Add adds a file.
func (s *Survey) Add(p *Policy, f File) {
	if s.used == nil {
		s.used, s.modified = map[hour]Figures{}, map[hour]Figures{}
	}
	if f.Stub {
		s.Stubs.add(1, f.Size)
		count(s.modified, f.Modified, f.Size)
		return
	}
	s.Whole.add(1, f.Allocated)
	count(s.modified, f.Modified, f.Allocated)
	if p.keeps(f) {
		s.Kept.add(1, f.Allocated)
		return
	}
	count(s.used, f.Used, f.Allocated)
}

func count(hours map[hour]Figures, at time.Time, bytes int64) {
	f := hours[hourOf(at)]
	f.add(1, bytes)
	hours[hourOf(at)] = f
}

// keeps reports whether a file is never offloaded, however old it is.
func (p *Policy) keeps(f File) bool {
	return f.Size < Least || p.Never != nil && p.Never(f.Path)
}

// Decision divides files by times.
type Decision struct {
	// Before are last uses: files that were used before are offloaded. Zero offloads none.
	Before time.Time
	// Newest are changes: files that were changed since are never offloaded. Zero keeps none for that.
	Newest time.Time
	// Fill are changes: stubs of files that were changed since are filled. Zero fills none.
	Fill time.Time
	// Short is how many bytes are lacking to the line even when everything is offloaded that may be.
	Short int64

	policy Policy
}

// Decide decides which whole files are offloaded.
func (s *Survey) Decide(p Policy, v Volume, now time.Time) Decision {
	d := Decision{policy: p, Newest: since(s.modified, p.Newest)}
	if p.Unused > 0 {
		d.Before = now.Add(-p.Unused)
	}
	need := p.Line(v) - v.Free
	if need <= 0 {
		return d
	}
	for _, h := range slices.Sorted(maps.Keys(s.used)) {
		if need <= 0 {
			break
		}
		need -= s.used[h].Bytes
		if end := (h + 1).time(); end.After(d.Before) {
			d.Before = end
		}
	}
	d.Short = max(need, 0)
	return d
}

// since is the time since when the last changes make so many bytes.
func since(hours map[hour]Figures, bytes int64) time.Time {
	if bytes <= 0 {
		return time.Time{}
	}
	list := slices.Sorted(maps.Keys(hours))
	for _, h := range slices.Backward(list) {
		if bytes -= hours[h].Bytes; bytes < 0 {
			return (h + 1).time()
		}
	}
	return time.Unix(0, 0)
}

// Fills decides which stubs are filled in advance: those of the files that were changed last, as many as fit above the
// line and leave some room for what people write.
func (s *Survey) Fills(p Policy, v Volume) Decision {
	d := Decision{policy: p}
	room := v.Free - p.Line(v) - v.Total/reserve
	if room <= 0 || s.Stubs.Files == 0 {
		return d
	}
	d.Fill = since(s.modified, s.Whole.Bytes+room)
	return d
}

// reserve is the part of a volume that is not filled in advance.
const reserve = 20

// Offloads reports whether a file is offloaded.
func (d *Decision) Offloads(f File) bool {
	return !f.Stub && !d.policy.keeps(f) && f.Used.Before(d.Before) && (d.Newest.IsZero() || f.Modified.Before(d.Newest))
}

// Fetches reports whether a stub is filled.
func (d *Decision) Fetches(f File) bool {
	return f.Stub && !d.Fill.IsZero() && !f.Modified.Before(d.Fill)
}
