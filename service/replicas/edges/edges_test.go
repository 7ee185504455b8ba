package edges

import (
	"testing"
	"time"

	"bridgespan/core/offload"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/tree"
)

func TestPolicyOf(t *testing.T) {
	p := PolicyOf(&model.EdgePolicy{Fill: model.FillNames, FreePercent: 20, UnusedDays: 3, KeepNewest: 7, Never: []string{"*.accdb", "ledgers/"}})
	if p.Free != 20 || p.Unused != 72*time.Hour || p.Newest != 7 {
		t.Errorf("the policy is %+v", p)
	}
	for name, never := range map[string]bool{"a.accdb": true, "deep/b.accdb": true, "ledgers/2026/c.csv": true, "d.csv": false, "my-ledgers/e.csv": false} {
		if p.Never(name) != never {
			t.Errorf("%s: never is %v", name, !never)
		}
	}
	if p := PolicyOf(nil); p.Never != nil || p.Free != 0 {
		t.Errorf("without a policy: %+v", p)
	}
}

func TestPrefetches(t *testing.T) {
	monday, sunday := time.Date(2026, 3, 2, 10, 0, 0, 0, time.Local), time.Date(2026, 3, 1, 10, 0, 0, 0, time.Local)
	always, working := &model.EdgePrefetch{Folders: []string{"drawings/", "*.dwg"}}, &model.EdgePrefetch{Folders: []string{"*"}, Hours: "off; mon-fri 7-19 full"}
	for what, c := range map[string]struct {
		of   *model.EdgePrefetch
		path string
		at   time.Time
		want bool
	}{
		"nothing":              {nil, "drawings/a.tif", monday, false},
		"in a folder":          {always, "drawings/2026/a.tif", sunday, true},
		"of a kind":            {always, "beds/a.dwg", sunday, true},
		"something else":       {always, "beds/a.tif", sunday, false},
		"all, in these hours":  {working, "beds/a.tif", monday, true},
		"all, in other hours":  {working, "beds/a.tif", sunday, false},
		"rules that are wrong": {&model.EdgePrefetch{Folders: []string{"*"}, Hours: "at tea time"}, "a", monday, false},
	} {
		if got := Prefetches(&model.EdgePolicy{Fill: model.FillStubs, Prefetch: c.of}, c.path, c.at); got != c.want {
			t.Errorf("%s: %v", what, got)
		}
	}
	if Prefetches(nil, "a", monday) {
		t.Error("an edge without a policy prefetches")
	}
}

// Few prefetched files that were used are told with their cost, and what to do about it.
func TestPrefetchUsage(t *testing.T) {
	now := time.Date(2026, 3, 2, 10, 0, 0, 0, time.UTC)
	set, r := &model.ReplicaSet{Name: "scans"}, &model.Replica{Name: "sedge", Edge: &model.EdgePolicy{Prefetch: &model.EdgePrefetch{}}}
	prices := plan.Prices{Currency: "EUR", Out: 0.1}
	if u := prefetchUsage(set, r, offload.PrefetchFigures{}, prices, now); u != nil {
		t.Errorf("of nothing: %+v", u)
	}
	wasted := offload.PrefetchFigures{Files: 100, Bytes: 20e9, Used: 3, First: now.AddDate(0, 0, -9)}
	if u := prefetchUsage(set, r, wasted, prices, now); u == nil || u.Files != 100 || u.Used != 3 || u.Cost != 2 || u.Advice == "" {
		t.Errorf("of what is wasted: %+v", u)
	}
	wasted.Used = 30
	if u := prefetchUsage(set, r, wasted, prices, now); u == nil || u.Advice != "" {
		t.Errorf("of what is used: %+v", u)
	}
}

func TestCheckPath(t *testing.T) {
	for asked, want := range map[string]string{"": ".", "/": ".", "/a/b/": "a/b", "a": "a"} {
		if got, err := checkPath("path", asked); err != nil || got != want {
			t.Errorf("%q: %q, %v", asked, got, err)
		}
	}
	for _, bad := range []string{"..", "a/../../b", ".bspan/attic/x", "a\x00b"} {
		if got, err := checkPath("path", bad); err == nil {
			t.Errorf("%q is taken as %q", bad, got)
		}
	}
}

// A file is used when it is read or changed, whichever was later.
func TestFileOf(t *testing.T) {
	changed, read := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	for what, c := range map[string]struct {
		accessed, used time.Time
	}{"never told": {time.Time{}, changed}, "read before the change": {changed.Add(-time.Hour), changed}, "read since": {read, read}} {
		f := fileOf(tree.Named{Path: "a", Entry: tree.Entry{Size: 9, Allocated: 4096, Modified: changed, Accessed: c.accessed, Residency: tree.Stub}})
		if !f.Used.Equal(c.used) || !f.Stub || f.Path != "a" || f.Allocated != 4096 {
			t.Errorf("%s: %+v", what, f)
		}
	}
}

// A run makes stubs of what may become one, and fills what is one.
func TestMoves(t *testing.T) {
	policy := PolicyOf(&model.EdgePolicy{Never: []string{"kept/"}})
	for _, c := range []struct {
		file       offload.File
		off, fetch bool
	}{
		{offload.File{Path: "a", Size: offload.Least}, true, false},
		{offload.File{Path: "small", Size: offload.Least - 1}, false, false},
		{offload.File{Path: "kept/a", Size: offload.Least}, false, false},
		{offload.File{Path: "kept/b", Size: offload.Least, Stub: true}, false, true},
		{offload.File{Path: "s", Size: offload.Least, Stub: true}, false, true},
	} {
		if off, fetch := moves(c.file, &policy, true), moves(c.file, &policy, false); off != c.off || fetch != c.fetch {
			t.Errorf("%s: offloaded %v, fetched %v", c.file.Path, off, fetch)
		}
	}
}
