package filter

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"

	"bridgespan/core/fault"
)

var now = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func ExampleFilter() {
	f, _ := New(Rules{LeaveOut: []string{"*.tmp", "cache/"}, MinDays: 5})
	for _, name := range []string{"scans/Leaf.TMP", "scans/Cache/1.jpg", "scans/1.jpg"} {
		fmt.Printf("%s: %q\n", name, f.File(name, 1, now.AddDate(0, 0, -2), now))
	}
	// Output:
	// scans/Leaf.TMP: "left out by *.tmp"
	// scans/Cache/1.jpg: "left out by cache/"
	// scans/1.jpg: "changed less than 5 days ago"
}

func TestFilter(t *testing.T) {
	old := now.AddDate(0, 0, -30)
	for name, c := range map[string]struct {
		rules Rules
		in    string // files, and folders that end in a slash
		out   string
	}{
		"everything":          {Rules{}, "a a/b a/ ./", ""},
		"a name":              {Rules{LeaveOut: []string{"*.bak"}}, "a bak x/bak.txt a/", "x.bak X.BAK a/b/x.bak a.bak/ a.bak/in"},
		"a folder's name":     {Rules{LeaveOut: []string{"cache/"}}, "cache x/cache xcache/", "cache/ x/cache/ Cache/x x/CACHE/y/z"},
		"a path":              {Rules{LeaveOut: []string{"/scans/raw"}}, "raw x/scans/raw scans/raws scans/", "scans/raw scans/raw/ scans/RAW/x/y"},
		"a path to folders":   {Rules{LeaveOut: []string{"scans/*/old/"}}, "scans/a/old scans/old/ scans/a/b/old/", "scans/a/old/ scans/a/old/x"},
		"only":                {Rules{Only: []string{"*.jpg", "*.tif"}}, "a.jpg x/b.TIF x/ x.jpg/", "a x.png jpg x.jpg/readme"},
		"depth":               {Rules{MaxDepth: 2}, "a x/b x/", "x/y/ x/y/z"},
		"the top alone":       {Rules{MaxDepth: 1}, "a", "x/ x/b"},
		"composed and not":    {Rules{LeaveOut: []string{"Büro/"}}, "Buro/", "Bu\u0308ro/ BÜRO/x"},
		"one letter or class": {Rules{LeaveOut: []string{"~?[a-c].doc"}}, "~$x.doc", "~$a.doc"},
	} {
		f, err := New(c.rules)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		why := func(name string) string {
			if folder, is := strings.CutSuffix(name, "/"); is {
				return f.Folder(folder)
			}
			return f.File(name, 1, old, now)
		}
		for _, in := range strings.Fields(c.in) {
			if got := why(in); got != "" {
				t.Errorf("%s: %s is out: %s", name, in, got)
			}
		}
		for _, out := range strings.Fields(c.out) {
			if why(out) == "" {
				t.Errorf("%s: %s is in", name, out)
			}
		}
	}
	f, err := New(Rules{Smallest: 10, Largest: 20, MinDays: 5})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		size int64
		days int
		in   bool
	}{{10, 5, true}, {20, 6, true}, {9, 6, false}, {21, 6, false}, {15, 4, false}} {
		if got := f.File("a", c.size, now.AddDate(0, 0, -c.days), now); (got == "") != c.in {
			t.Errorf("%d bytes, %d days: %q", c.size, c.days, got)
		}
	}
}

func TestBadRules(t *testing.T) {
	for field, rules := range map[string]Rules{
		"leaveOut[1]": {LeaveOut: []string{"a", "[a"}},
		"leaveOut[0]": {LeaveOut: []string{"../a"}},
		"leaveOut":    {LeaveOut: make([]string, mostPatterns+1)},
		"only[0]":     {Only: []string{"folder/"}},
		"only[1]":     {Only: []string{"a", "/"}},
		"smallest":    {Smallest: -1},
		"largest":     {Smallest: 10, Largest: 9},
		"minDays":     {MinDays: mostDays + 1},
		"maxDepth":    {MaxDepth: -1},
	} {
		_, err := New(rules)
		var f *fault.Error
		if !errors.As(err, &f) || !strings.Contains(fmt.Sprintf("%+v", f), field) {
			t.Errorf("%s: %+v", field, err)
		}
	}
}

func FuzzFilter(f *testing.F) {
	f.Add("*.tmp", "a/b.tmp")
	f.Add("cache/", "Cache/x")
	f.Fuzz(func(t *testing.T, pattern, name string) {
		filter, err := New(Rules{LeaveOut: []string{pattern}})
		if err != nil {
			return
		}
		// What is left out as a folder is left out with everything in it.
		if filter.Folder(name) != "" && filter.File(name+"/x", 1, now, now) == "" && fs.ValidPath(name) {
			t.Errorf("%q leaves out %q, and not what is in it", pattern, name)
		}
	})
}
