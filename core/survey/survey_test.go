package survey

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

var now = time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)

func ExampleCounter() {
	c := NewCounter(now)
	c.Add(Item{Path: "Loans", Folder: true})
	c.Add(Item{Path: "Loans/plate 1.tif", Size: 3 << 20, Modified: now.AddDate(0, 0, -3)})
	c.Add(Item{Path: "Loans/con.txt", Size: 10, Modified: now.AddDate(-2, 0, 0)})
	f := c.Figures()
	fmt.Println(f.Files, f.Folders, f.Bytes, f.Types[0].Name, f.Tops[0].Name, f.Names[0].Kind)
	// Output: 2 1 3145738 .tif Loans device-name
}

// A survey in parts, merged and kept as JSON on the way, counts the same as one in one go.
func TestMerge(t *testing.T) {
	var items []Item
	for i := range 5000 {
		items = append(items, Item{Path: fmt.Sprintf("top%d/sub/file %d.t%d", i%150, i, i%90), Size: int64(i*i%100000 + i%3), Allocated: 4096, Modified: now.Add(-time.Duration(i*i) * time.Minute), Folder: i%50 == 0})
	}
	whole, parts := NewCounter(now), NewCounter(now)
	for _, i := range items {
		whole.Add(i)
	}
	for chunk := range slices.Chunk(items, 700) {
		part := NewCounter(now)
		for _, i := range chunk {
			part.Add(i)
		}
		parts.Merge(part)
		text, err := json.Marshal(parts)
		if err != nil {
			t.Fatal(err)
		}
		parts = &Counter{}
		if err := json.Unmarshal(text, parts); err != nil {
			t.Fatal(err)
		}
	}
	if a, b := whole.Figures(), parts.Figures(); !reflect.DeepEqual(a, b) {
		t.Errorf("in one go\n%+v\nin parts\n%+v", a, b)
	}
	f := whole.Figures()
	var files, bytes int64
	for _, c := range f.Types {
		files, bytes = files+c.Files, bytes+c.Bytes
	}
	if files != f.Files || bytes != f.Bytes || len(f.Types) != shownTypes+1 || f.Types[shownTypes].Name != rest {
		t.Errorf("types add up to %d files of %d", files, f.Files)
	}
	if len(f.Largest) != mostNamed || !slices.IsSortedFunc(f.Largest, func(a, b Named) int { return int(b.Size - a.Size) }) {
		t.Errorf("largest %+v", f.Largest)
	}
}

func TestClasses(t *testing.T) {
	for days, want := range map[float64]string{-5: "today", 0.5: "today", 1: "this week", 29: "this month", 364: "this year", 366: "1–3 years", 9000: "older"} {
		if got := ages[ageClass(time.Duration(days*24*float64(time.Hour)))].name; got != want {
			t.Errorf("%v days are %s, want %s", days, got, want)
		}
	}
	for size, want := range map[int64]string{0: "empty", 1: "under 4 KiB", 4095: "under 4 KiB", 4096: "4–64 KiB", 1 << 20: "1–16 MiB", 1 << 40: "larger"} {
		if got := sizes[sizeClass(size)].name; got != want {
			t.Errorf("%d bytes are %s, want %s", size, got, want)
		}
	}
	for name, want := range map[string]string{"a/b.TIF": ".tif", "README": "none", ".hidden": "none", "x.y z": "none", "a.tar.gz": ".gz", "v1.2": ".2"} {
		if got := Ending(name); got != want {
			t.Errorf("%s ends in %s, want %s", name, got, want)
		}
	}
}

func TestNameTroubles(t *testing.T) {
	for name, want := range map[string]string{
		"fine.txt": "[]", "a/what?.txt": "[refused-character]", "dot.": "[trailing-dot-or-space]", "NUL.txt": "[device-name]", "null.txt": "[]", " lead": "[leading-space]",
		"Cafe\u0301": "[decomposed]", "Café": "[]", "tab\there": "[control-character]", strings.Repeat("x", 256): "[name-over-255]",
		strings.Repeat("deep/", 60) + "x": "[path-over-260]", strings.Repeat("deep/", 90) + "x": "[path-over-400 path-over-260]", strings.Repeat("é", 200) + "/x": "[]",
	} {
		if got := fmt.Sprint(troubles(name)); got != want {
			t.Errorf("%.20q is %s, want %s", name, got, want)
		}
	}
}

func TestCompare(t *testing.T) {
	a, b := NewCounter(now.AddDate(0, 0, -5)), NewCounter(now)
	for i := range 10 {
		a.Add(Item{Path: fmt.Sprintf("x/%d.txt", i), Size: 100})
		b.Add(Item{Path: fmt.Sprintf("x/%d.txt", i), Size: 150, Modified: now.AddDate(0, 0, -1)})
	}
	b.Add(Item{Path: "y/new.tif", Size: 1000, Modified: now.Add(-time.Hour)})
	b.Add(Item{Path: "y/old.tif", Modified: now.AddDate(0, 0, -6)})
	b.Add(Item{Path: "y/older.tif", Modified: now.AddDate(-2, 0, 0)})
	c := Compare(a.Figures(), b.Figures())
	if c.Files != 3 || c.Changed.Files != 11 || c.Days != 5 || c.Bytes != 1500 || c.BytesPerDay != 300 || c.ChangedPerDay != 500 || len(c.Tops) != 2 || c.Tops[0].Name != "y" || c.Types[1].Bytes != 500 {
		t.Errorf("%+v", c)
	}
	if same := Compare(a.Figures(), a.Figures()); same.Bytes != 0 || len(same.Types) != 0 {
		t.Errorf("no change is %+v", same)
	}
}

// Of a share in which there is nothing the lists are empty, and none is missing.
func TestNothingIsNoGap(t *testing.T) {
	text, err := json.Marshal(NewCounter(now).Figures())
	if err != nil || strings.Contains(string(text), "null") {
		t.Errorf("%s, %v", text, err)
	}
}

// What changes in a day is counted since an earlier survey that is not too near, or for a week.
func TestPerDay(t *testing.T) {
	at := time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)
	c := NewCounter(at)
	for day := range 14 {
		c.Add(Item{Path: fmt.Sprint("plant", day), Size: 1000, Modified: at.Add(-time.Duration(day)*24*time.Hour - time.Hour)})
	}
	hours := func(n time.Duration) time.Time { return at.Add(-n * time.Hour) }
	for what, r := range map[string]struct {
		earlier []time.Time
		want    Rate
	}{
		"no other":            {nil, Rate{1000, hours(7 * 24), false}},
		"too near":            {[]time.Time{hours(2)}, Rate{1000, hours(7 * 24), false}},
		"the day before":      {[]time.Time{hours(24), hours(48)}, Rate{1000, hours(24), true}},
		"near, and far":       {[]time.Time{hours(1), hours(10 * 24)}, Rate{1000, hours(10 * 24), true}},
		"of a time to come":   {[]time.Time{at.Add(time.Hour)}, Rate{1000, hours(7 * 24), false}},
		"before all of these": {[]time.Time{hours(28 * 24)}, Rate{500, hours(28 * 24), true}},
	} {
		if got := c.Figures().PerDay(r.earlier...); got != r.want {
			t.Errorf("%s: %+v", what, got)
		}
	}
}
