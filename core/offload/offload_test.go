package offload

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// file is a file of some MiB that was used and changed some days before noon.
func file(path string, mb int64, used, changed int) File {
	day := 24 * time.Hour
	return File{Path: path, Size: mb << 20, Allocated: mb << 20, Used: noon.Add(-time.Duration(used) * day), Modified: noon.Add(-time.Duration(changed) * day)}
}

func stub(path string, mb int64, changed int) File {
	f := file(path, mb, changed, changed)
	f.Stub, f.Allocated = true, 0
	return f
}

func surveyed(p Policy, files []File) *Survey {
	s := &Survey{}
	for _, f := range files {
		s.Add(&p, f)
	}
	return s
}

func ExampleSurvey_Decide() {
	files := []File{file("old.tif", 40, 90, 90), file("read-again.tif", 40, 1, 90), file("new.tif", 40, 0, 0)}
	policy := Policy{Free: 30}
	volume := Volume{Total: 200 << 20, Free: 40 << 20} // 60 MiB are to be free
	decision := surveyed(policy, files).Decide(policy, volume, noon)
	for _, f := range files {
		if decision.Offloads(f) {
			fmt.Println(f.Path)
		}
	}
	// Output: old.tif
}

func TestDecide(t *testing.T) {
	files := []File{file("a", 10, 50, 60), file("b", 10, 40, 40), file("c", 10, 30, 35), file("d", 10, 1, 90), {Path: "tiny", Size: 100, Allocated: 4096, Used: noon.AddDate(-1, 0, 0), Modified: noon.AddDate(-1, 0, 0)}, stub("s", 10, 99)}
	room := func(free int64) Volume { return Volume{Total: 100 << 20, Free: free << 20} }
	for name, c := range map[string]struct {
		policy Policy
		volume Volume
		want   string
		short  int64
	}{
		"nothing is set":                   {Policy{}, room(0), "", 0},
		"above the line":                   {Policy{Free: 20}, room(20), "", 0},
		"the longest unused first":         {Policy{Free: 20}, room(5), "a b", 0},
		"one is enough":                    {Policy{Free: 20}, room(11), "a", 0},
		"unused for a month":               {Policy{Unused: 35 * 24 * time.Hour}, room(90), "a b", 0},
		"both":                             {Policy{Free: 20, Unused: 45 * 24 * time.Hour}, room(0), "a b", 0},
		"some are never":                   {Policy{Free: 20, Never: func(p string) bool { return p == "a" }}, room(5), "b c", 0},
		"the newest stay":                  {Policy{Unused: time.Hour, Newest: 25 << 20}, room(90), "d", 0},
		"all of them are among the newest": {Policy{Unused: time.Hour, Newest: 1 << 40}, room(90), "", 0},
		"not enough":                       {Policy{Free: 50}, room(0), "a b c d", 10 << 20},
	} {
		s := surveyed(c.policy, files)
		d := s.Decide(c.policy, c.volume, noon)
		var got []string
		for _, f := range files {
			if d.Offloads(f) {
				got = append(got, f.Path)
			}
		}
		slices.Sort(got)
		if strings.Join(got, " ") != c.want || d.Short != c.short {
			t.Errorf("%s: %q, short of %d; want %q, %d", name, got, d.Short, c.want, c.short)
		}
	}
}

func TestFills(t *testing.T) {
	files := []File{file("here", 10, 5, 5), stub("new", 10, 2), stub("older", 10, 20), stub("oldest", 10, 90)}
	for name, c := range map[string]struct {
		free int64
		line int
		want string
	}{
		"room for all":   {90, 10, "new older oldest"},
		"room for two":   {40, 10, "new older"},
		"room for one":   {26, 10, "new"},
		"at the line":    {10, 10, ""},
		"below the line": {5, 10, ""},
	} {
		p := Policy{Free: c.line}
		d := surveyed(p, files).Fills(p, Volume{Total: 100 << 20, Free: c.free << 20})
		var got []string
		for _, f := range files {
			if d.Fetches(f) {
				got = append(got, f.Path)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// Of files that were all used and changed at one time, as many are taken as are needed.
func TestOneTime(t *testing.T) {
	var files []File
	for i := range 50 {
		files = append(files, file(fmt.Sprint(i), 1, 3, 3))
	}
	p, v := Policy{Free: 20, Newest: 45 << 20}, Volume{Total: 100 << 20, Free: 10 << 20}
	d := surveyed(p, files).Decide(p, v, noon)
	goes := 0
	for i, f := range files {
		if d.Offloads(f) {
			goes++
			files[i] = stub(f.Path, 1, 3)
		}
	}
	if goes != 5 { // ten are lacking to the line, and the newest 45 stay
		t.Errorf("%d become stubs", goes)
	}
	p.Newest = 0
	comes, v := 0, Volume{Total: 100 << 20, Free: 28 << 20}
	d = surveyed(p, files).Fills(p, v)
	for _, f := range files {
		if d.Fetches(f) {
			comes++
		}
	}
	if comes != 3 { // above the line and the reserve
		t.Errorf("%d are filled", comes)
	}
}

// A timeline stays small, and keeps the order.
func TestTimeline(t *testing.T) {
	var l timeline
	for i := range 200_000 {
		l.add(noon.Add(-time.Duration(i)*time.Minute), 1)
	}
	if len(l.slots) > slotsMost {
		t.Errorf("%d slots", len(l.slots))
	}
	s, lacking := l.before(50_000)
	taken := 0
	for i := range 200_000 {
		if s.takes(noon.Add(-time.Duration(i)*time.Minute), 1) {
			taken++
			if i < 149_000 {
				t.Fatalf("file %d is taken, and older ones are not", i)
			}
		}
	}
	if taken != 50_000 || lacking != 0 {
		t.Errorf("%d taken, %d lacking", taken, lacking)
	}
}

// What is filled in advance is not offloaded at once again.
func TestFillsStay(t *testing.T) {
	var files []File
	for i := range 50 {
		files = append(files, stub(fmt.Sprint(i), 1, i))
	}
	p, v := Policy{Free: 20}, Volume{Total: 50 << 20, Free: 50 << 20}
	d := surveyed(p, files).Fills(p, v)
	filled := 0
	for i, f := range files {
		if d.Fetches(f) {
			files[i] = file(f.Path, 1, i, i)
			v.Free -= 1 << 20
			filled++
		}
	}
	after := surveyed(p, files).Decide(p, v, noon)
	if filled < 30 || !after.Idle() {
		t.Errorf("%d filled, and then files are offloaded: %+v", filled, after)
	}
}

// BenchmarkDecide decides over a million files.
func BenchmarkDecide(b *testing.B) {
	files := make([]File, 1_000_000)
	for i := range files {
		files[i] = file("some/folder/with/a/file.tif", 1, i%3000, i%4000)
	}
	p, v := Policy{Free: 20, Newest: 1 << 38}, Volume{Total: 1_500_000 << 20, Free: 100 << 20}
	for b.Loop() {
		d := surveyed(p, files).Decide(p, v, noon)
		n := 0
		for _, f := range files {
			if d.Offloads(f) {
				n++
			}
		}
		if n == 0 {
			b.Fatal("nothing is offloaded")
		}
	}
}
