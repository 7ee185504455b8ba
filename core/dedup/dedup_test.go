package dedup

import (
	"bytes"
	"compress/flate"
	"fmt"
	"math"
	"math/rand/v2"
	"path"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/filter"
)

var now = time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)

// ExampleEstimator counts two files of which one is a copy.
func ExampleEstimator() {
	cutter, _ := NewCutter(Documents)
	reader := NewReader(cutter, OfAll, 0, func(chunk []byte) int { return len(chunk) })
	policy := Policy{Profile: Documents, Compression: OfAll}
	e, _ := NewEstimator(policy, 64<<20, now)
	for _, name := range []string{"scans/rose.tif", "scans/rose (copy).tif"} {
		content := noise(1, 1<<20)
		s, _ := reader.Read(bytes.NewReader(content), nil)
		e.Count(&File{Path: name, Inside: name, Size: int64(len(content)), Modified: now.AddDate(0, -1, 0), Summary: s})
	}
	_ = e.Settle()
	f := e.Totals()
	fmt.Println(f.InPolicy.Bytes, f.Unique.Bytes, f.Exact)
	// Output: 2097152 1048576 true
}

// deflated is how many bytes a chunk takes once compressed, in one way.
func deflated(chunk []byte) int {
	var b bytes.Buffer
	w, _ := flate.NewWriter(&b, flate.BestSpeed)
	_, _ = w.Write(chunk)
	_ = w.Close()
	return b.Len()
}

func noise(seed uint64, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), byte(seed >> 16), 1}).Read(b)
	return b
}

// volume is files that are estimated.
type volume struct {
	t      testing.TB
	policy Policy
	budget int64
	reader *Reader
	files  []*File
}

func newVolume(t testing.TB, p Policy) *volume {
	t.Helper()
	c, err := NewCutter(p.Profile)
	if err != nil {
		t.Fatal(err)
	}
	return &volume{t: t, policy: p, budget: 64 << 20, reader: NewReader(c, p.Compression, 0, deflated)}
}

// add adds a file that was changed so many days ago.
func (v *volume) add(name string, content []byte, days int) *File {
	v.t.Helper()
	s, err := v.reader.Read(bytes.NewReader(content), nil)
	if err != nil {
		v.t.Fatal(err)
	}
	_, inside, _ := strings.Cut(name, "/")
	f := &File{Path: name, Inside: inside, Size: int64(len(content)), Allocated: int64(len(content)), Modified: now.AddDate(0, 0, -days), Owner: "linnea", Summary: s}
	v.files = append(v.files, f)
	return f
}

// estimate counts the files as a caller does.
func (v *volume) estimate() (*Estimator, Totals) {
	v.t.Helper()
	e, err := NewEstimator(v.policy, v.budget, now)
	if err != nil {
		v.t.Fatal(err)
	}
	for _, f := range v.files {
		e.Count(f)
	}
	totals := settled(v.t, e)
	for _, f := range v.files {
		e.Share(f)
	}
	return e, totals
}

// settled ends the counting, and tells what came of it.
func settled(t testing.TB, e *Estimator) Totals {
	t.Helper()
	if err := e.Settle(); err != nil {
		t.Fatal(err)
	}
	return e.Totals()
}

func (v *volume) wholeFiles(e *Estimator) (int64, []Twins) {
	slices.SortFunc(v.files, func(a, b *File) int { return bytes.Compare(a.Summary.Digest[:], b.Summary.Digest[:]) })
	w := e.NewWholeFiles()
	for _, f := range v.files {
		w.Add(f)
	}
	return w.Result()
}

// What is known by the making of it.
func TestKnownVolumes(t *testing.T) {
	base := noise(1, 3<<20)
	text := []byte(strings.Repeat("Rosa canina, in flower on the north bed, seen by two\n", 40_000))
	for name, c := range map[string]struct {
		profile       Profile
		contents      [][]byte
		least, most   int64 // unique bytes
		packs         bool  // compression saves most of them
		wholeFiles    int64
		leastWhenEach int64
	}{
		"one":             {profile: Documents, contents: [][]byte{base}, least: 3 << 20, most: 3 << 20},
		"three copies":    {profile: Documents, contents: [][]byte{base, base, base}, least: 3 << 20, most: 3 << 20, wholeFiles: 6 << 20},
		"bytes put in":    {profile: Documents, contents: [][]byte{base, slices.Concat(base[:1<<20], []byte("a line more"), base[1<<20:])}, least: 3<<20 + 11, most: 3<<20 + 300<<10},
		"a part of it":    {profile: Documents, contents: [][]byte{base, base[1<<20 : 2<<20]}, least: 3 << 20, most: 3<<20 + 300<<10},
		"backups":         {profile: Backups, contents: [][]byte{slices.Concat(base, noise(2, 1<<20)), slices.Concat(noise(2, 1<<20), base)}, least: 4 << 20, most: 4<<20 + 1<<20},
		"blocks":          {profile: DiskImages, contents: [][]byte{base, slices.Concat(noise(3, 32<<10), base)}, least: 3<<20 + 32<<10, most: 3<<20 + 32<<10},
		"blocks, shifted": {profile: DiskImages, contents: [][]byte{base, slices.Concat([]byte("x"), base)}, least: 6<<20 + 1, most: 6<<20 + 1},
		"text":            {profile: Documents, contents: [][]byte{text}, least: 1, most: int64(len(text)), packs: true},
		"nothing":         {profile: Documents, contents: [][]byte{nil}},
	} {
		v := newVolume(t, Policy{Profile: c.profile, Compression: OfAll})
		var bytes int64
		for i, content := range c.contents {
			v.add(fmt.Sprintf("volume/%d.dat", i), content, i)
			bytes += int64(len(content))
		}
		e, f := v.estimate()
		if f.Bytes != bytes || f.InPolicy.Bytes != bytes || !f.Exact || f.Unique.Bytes < c.least || f.Unique.Bytes > c.most || !f.Unique.IsExact() {
			t.Errorf("%s: %+v", name, f)
		}
		if packs := f.Packed.Bytes < f.Unique.Bytes/2; packs != c.packs {
			t.Errorf("%s: %d of %d bytes once compressed", name, f.Packed.Bytes, f.Unique.Bytes)
		}
		if f.Saving.Bytes != bytes-f.Packed.Bytes-f.Metadata {
			t.Errorf("%s: a saving of %d is not what is left of %d after %d and %d", name, f.Saving.Bytes, bytes, f.Packed.Bytes, f.Metadata)
		}
		if saving, _ := v.wholeFiles(e); saving != c.wholeFiles {
			t.Errorf("%s: whole files save %d, want %d", name, saving, c.wholeFiles)
		}
	}
}

func TestHolesAndLinks(t *testing.T) {
	v := newVolume(t, Policy{Profile: DiskImages, Compression: OfAll})
	content := slices.Concat(noise(1, 1<<20), make([]byte, 3<<20))
	v.add("images/sparse.img", content, 1).Allocated = 1 << 20
	v.add("images/full.img", content, 1)
	v.add("images/other name.img", content, 1).Link = true
	_, f := v.estimate()
	if f.Holes != 3<<20 || f.InPolicy.Bytes != 5<<20 || f.Allocated != 5<<20 || f.Bytes != 12<<20 || f.Unique.Bytes != 1<<20+32<<10 {
		t.Errorf("%+v", f)
	}
	if want := []Left{{leftLink, 1, 4 << 20}}; !slices.Equal(f.Left, want) {
		t.Errorf("left are %+v", f.Left)
	}
}

func TestPolicy(t *testing.T) {
	v := newVolume(t, Policy{Profile: Documents, Compression: OfAll, Rules: filter.Rules{MinDays: 3, Smallest: 1000, LeaveOut: []string{"*.db", "tmp/"}}})
	v.add("share/old.txt", noise(1, 100_000), 10)
	v.add("share/same.txt", noise(1, 100_000), 10)
	v.add("share/young.txt", noise(1, 100_000), 1)
	v.add("share/small.txt", noise(2, 10), 10)
	v.add("share/a.db", noise(3, 5000), 10)
	v.add("share/tmp/b.txt", noise(4, 6000), 10)
	v.add("share/held.txt", noise(5, 7000), 10).Unread = "in use"
	v.add("share/none.txt", nil, 10)
	e, f := v.estimate()
	want := []Left{{leftYoung, 1, 100_000}, {leftRules, 2, 11_000}, {"in use", 1, 7000}, {leftSmall, 1, 10}, {leftEmpty, 1, 0}}
	if !slices.Equal(f.Left, want) || f.InPolicy != (Left{"in policy", 2, 200_000}) || f.Unique.Bytes != 100_000 || f.Files != 8 {
		t.Errorf("%+v", f)
	}
	curve := e.Curve()
	for _, c := range []struct {
		days   int
		files  int64
		unique int64
	}{{0, 3, 100_000}, {1, 3, 100_000}, {2, 2, 100_000}, {7, 2, 100_000}, {14, 0, 0}} {
		i := slices.IndexFunc(curve, func(p AgePoint) bool { return p.Days == c.days })
		p := curve[i]
		if p.Files != c.files || p.Bytes != c.files*100_000 || p.Bytes-p.Saving.Bytes < c.unique || p.Bytes-p.Saving.Bytes > c.unique+2000 {
			t.Errorf("from %d days on: %+v", c.days, p)
		}
	}
	none := newVolume(t, Policy{Profile: Documents, Rules: filter.Rules{LeaveOut: []string{"*"}}})
	none.add("share/a.txt", noise(1, 1000), 1)
	if _, f := none.estimate(); f.InPolicy.Files != 0 || f.Saving != Exact(0) {
		t.Errorf("of nothing: %+v", f)
	}
}

// What the parts contribute is what the whole saves.
func TestBreakdown(t *testing.T) {
	v := newVolume(t, Policy{Profile: Documents, Compression: OfAll})
	shared := noise(1, 1<<20)
	v.add("fern/herbarium/a.tif", shared, 400)
	v.add("fern/herbarium/deep/er/b.tif", shared, 10)
	edited := slices.Concat(shared[:700<<10], noise(9, 3000), shared[700<<10:])
	v.add("fern/seedbank/c.bin", edited, 100)
	v.add("fern/seedbank/d.txt", bytes.Repeat([]byte("seed lot 17 germinates\n"), 30_000), 5000)
	e, f := v.estimate()
	b := e.Breakdown()
	sum := func(parts []Part) (saving, bytes int64) {
		for _, p := range parts {
			saving, bytes = saving+p.Saving, bytes+p.Bytes
		}
		return saving, bytes
	}
	for name, parts := range map[string][]Part{"types": b.Types, "ages": b.Ages, "sizes": b.Sizes, "owners": b.Owners, "folders": {b.Folders.Part}} {
		saving, total := sum(parts)
		if total != f.InPolicy.Bytes || math.Abs(float64(saving-f.Saving.Bytes)) > float64(f.InPolicy.Bytes)/100 {
			t.Errorf("%s save %d of %d, the whole %d of %d", name, saving, total, f.Saving.Bytes, f.InPolicy.Bytes)
		}
	}
	var lines []string
	var show func(Node, string)
	show = func(n Node, above string) {
		name := path.Join(above, n.Name)
		lines = append(lines, fmt.Sprint(name, " ", n.Files))
		for _, c := range n.Below {
			show(c, name)
		}
	}
	show(b.Folders, "")
	want := []string{"/ 4", "/fern 4", "/fern/herbarium 2", "/fern/herbarium/deep 1", "/fern/herbarium/deep/er 1", "/fern/seedbank 2"}
	if !slices.Equal(lines, want) {
		t.Errorf("folders are %q", lines)
	}
	if len(b.Near) != 2 || b.Near[0].Part < 0.7 || b.Near[0].Part > 0.99 || b.Near[0].Common < 700<<10 || !strings.HasSuffix(b.Near[0].A+b.Near[0].B, "c.bin") && !strings.HasPrefix(b.Near[0].A, "fern/seedbank/c.bin") {
		t.Errorf("much in common have %+v", b.Near)
	}
	if len(b.Popular) == 0 || b.Popular[0].Times < 3 || len(b.Popular[0].Paths) == 0 {
		t.Errorf("chunks that occur often: %+v", b.Popular)
	}
	if saving, sets := v.wholeFiles(e); saving != 1<<20 || len(sets) != 1 || !slices.Equal(sets[0].Paths, []string{"fern/herbarium/a.tif", "fern/herbarium/deep/er/b.tif"}) {
		t.Errorf("equal files: %d, %+v", saving, sets)
	}
}

func TestSuggest(t *testing.T) {
	got := Suggest([]Part{{Name: ".tif", Bytes: 600, Saving: 300}, {Name: ".jpg", Bytes: 300, Saving: 1}, {Name: ".db", Bytes: 50, Saving: 200}, {Name: ".zip", Bytes: 10}, {Name: ".mp4", Bytes: 40, Saving: 1}})
	if len(got) != 1 || got[0].What != "compressed media" || !slices.Equal(got[0].Rules, []string{"*.jpg", "*.mp4"}) || got[0].Bytes != 340 || math.Abs(got[0].Reading-34) > 0.01 || math.Abs(got[0].Costs-0.398) > 0.01 {
		t.Errorf("%+v", got)
	}
}

func TestSummaryForm(t *testing.T) {
	c, _ := NewCutter(Documents)
	r := NewReader(c, OfSample, 0, deflated)
	s, err := r.Read(bytes.NewReader(slices.Concat(noise(1, 2<<20), make([]byte, 1<<20))), nil)
	if err != nil || s.Zeros == 0 || s.Chunks != int64(len(s.Marks)) {
		t.Fatalf("%v, %v", err, s.Chunks)
	}
	b, _ := s.AppendBinary(nil)
	var back Summary
	if err := back.UnmarshalBinary(b); err != nil {
		t.Fatal(err)
	}
	if back.Digest = s.Digest; !reflect.DeepEqual(back, s) {
		t.Error("it comes back otherwise")
	}
	for n := range len(b) {
		if n > 60 && n < len(b)-60 && n%97 > 0 {
			continue
		}
		if err := back.UnmarshalBinary(b[:n]); err == nil {
			t.Errorf("%d of %d bytes are taken", n, len(b))
		}
	}
}

func FuzzSummary(f *testing.F) {
	f.Add([]byte{form, 0, 1, 0, 1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 5, 3})
	f.Fuzz(func(t *testing.T, b []byte) {
		var s Summary
		if s.UnmarshalBinary(b) != nil {
			return
		}
		again, _ := s.AppendBinary(nil)
		var back Summary
		if err := back.UnmarshalBinary(again); err != nil || len(back.Marks) != len(s.Marks) || back.Level != s.Level {
			t.Errorf("%v", err)
		}
	})
}

// What is kept together is kept once.
func TestPool(t *testing.T) {
	v := newVolume(t, Policy{Profile: Documents, Compression: OfAll})
	scan, other := noise(1, 1<<20), noise(2, 500_000)
	files := [][]*File{{v.add("fern/a/1", scan, 1), v.add("fern/a/2", scan, 1)}, {v.add("heather/b/1", scan, 1)}, {v.add("sedge/c/1", other, 1)}}
	for name, means := range map[string]Means{"much memory": {Budget: 64 << 20}, "little": {Budget: LeastBudget}, "sorted": {Budget: LeastBudget, Scratch: newDisk().create}} {
		p, err := NewPool(v.policy, 3, means, now)
		if err != nil {
			t.Fatal(err)
		}
		for group, list := range files {
			for _, f := range list {
				if err := p.Count(group, f); err != nil {
					t.Fatal(err)
				}
			}
		}
		if err := p.sum(); err != nil {
			t.Fatal(err)
		}
		near := func(what string, got, want int64) {
			if got < want || got > want+want/100 {
				t.Errorf("%s: %s: %d, want %d and what a store needs beside", name, what, got, want)
			}
		}
		near("a", p.keep("a", 0).Stored.Bytes, 1<<20)
		near("a and b", p.keep("ab", 0, 1).Stored.Bytes, 1<<20)
		near("all", p.keep("all", 0, 1, 2).Stored.Bytes, 1<<20+500_000)
		if k := p.keep("ab", 0, 1); k.Files != 3 || k.Bytes != 3<<20 || k.Saving.Bytes != k.Bytes-k.Stored.Bytes {
			t.Errorf("%s: %+v", name, k)
		}
		common := p.commons([]string{"a", "b", "c"})
		if len(common) != 1 || common[0].A != "a" || common[0].B != "b" {
			t.Errorf("%s: in common: %+v", name, common)
		} else {
			near("in common", common[0].Bytes.Bytes, 1<<20)
		}
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	}
	if _, err := NewPool(v.policy, mostGroups+1, Means{Budget: 64 << 20}, now); err == nil {
		t.Error("too many groups are taken")
	}
}
