package dedup

import (
	"reflect"
	"testing"
	"time"
)

// What was found holds until it is said to, and not a moment longer.
func TestUntil(t *testing.T) {
	files := []*File{
		{Path: "bed/old.tif", Inside: "old.tif", Modified: now.AddDate(-9, 0, 0)},
		{Path: "bed/month.tif", Inside: "month.tif", Modified: now.Add(-30*24*time.Hour + time.Hour)},
		{Path: "bed/week.tif", Inside: "week.tif", Modified: now.Add(-6*24*time.Hour - time.Minute)},
		{Path: "bed/ahead.tif", Inside: "ahead.tif", Modified: now.Add(3 * time.Hour)},
	}
	for i, f := range files {
		f.Size = 1000
		f.Summary = Summary{Digest: [16]byte{byte(i)}, Chunks: 1, Marks: []Mark{{Print: Print{byte(i), 1}, Length: 1000, Packed: 500}}}
	}
	find := func(at time.Time, days int, some []*File) Found {
		t.Helper()
		p := Policy{Profile: Documents, Compression: OfAll}
		p.Rules.MinDays = days
		l := &listed{}
		for _, f := range some {
			l.records = append(l.records, Record{Path: f.Inside, Size: f.Size, Modified: f.Modified, Summary: f.Summary})
		}
		found, err := Analyse(t.Context(), l, []string{"bed"}, []string{"fern"}, p, Means{Budget: LeastBudget}, at)
		if err != nil {
			t.Fatal(err)
		}
		return found
	}
	for name, c := range map[string]struct {
		files []*File
		days  int
		want  time.Duration // from now; 0 for ever
	}{
		"for ever":          {files[:1], 0, 0},
		"until a month":     {files[:2], 0, time.Hour},
		"until a week":      {files[2:3], 0, 24*time.Hour - time.Minute},
		"until it is there": {files[3:], 0, 3 * time.Hour},
		"of them all":       {files, 0, time.Hour},
		"by the policy":     {files[:1], 9*365 + 4, 2 * 24 * time.Hour},
	} {
		found := find(now, c.days, c.files)
		if c.want == 0 {
			if later, ok := found.At(now.AddDate(10, 0, 0)); !ok || !found.Until.IsZero() || later.Totals.Now != now.AddDate(10, 0, 0) {
				t.Errorf("%s: %v", name, found.Until)
			}
			continue
		}
		if found.Until != now.Add(c.want) {
			t.Errorf("%s: until %v, want %v", name, found.Until.Sub(now), c.want)
			continue
		}
		before := found.Until.Add(-time.Second)
		held, ok := found.At(before)
		if again := find(before, c.days, c.files); !ok || !reflect.DeepEqual(held, again) {
			t.Errorf("%s: just before it is\n%+v\nnot\n%+v", name, again, held)
		}
		if _, ok := found.At(found.Until); ok {
			t.Errorf("%s: it holds when it does not any more", name)
		}
		after, held2 := find(found.Until, c.days, c.files), found
		after.Until, after.Totals.Now, held2.Until, held2.Totals.Now = time.Time{}, now, time.Time{}, now
		if reflect.DeepEqual(after, held2) {
			t.Errorf("%s: nothing is otherwise by then", name)
		}
	}
	if _, ok := find(now, 0, files).At(now.Add(-time.Second)); ok {
		t.Error("it holds before it was found")
	}
}
