package offload

import (
	"testing"
	"time"
)

func TestPrefetchedIsUsed(t *testing.T) {
	at := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	p := Prefetched{Path: "a.tif", Bytes: 9, At: at}
	for i, c := range []struct {
		file File
		news bool
		used time.Time
	}{
		{File{Stub: true, Used: at}, false, time.Time{}},
		{File{Used: at.Add(time.Minute)}, true, time.Time{}}, // it has come
		{File{Used: at.Add(time.Minute)}, false, time.Time{}},
		{File{Used: at.Add(time.Hour)}, true, at.Add(time.Hour)},
		{File{Used: at.Add(2 * time.Hour)}, false, at.Add(time.Hour)},
	} {
		if news := p.Look(c.file); news != c.news || !p.Used.Equal(c.used) {
			t.Errorf("look %d: %v, used %v", i, news, p.Used)
		}
	}
}

func TestWastedPrefetch(t *testing.T) {
	now := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	old, young := now.Add(-8*24*time.Hour), now.Add(-6*24*time.Hour)
	for what, c := range map[string]struct {
		figures PrefetchFigures
		want    bool
	}{
		"nothing":     {PrefetchFigures{}, false},
		"few files":   {PrefetchFigures{Files: 19, First: old}, false},
		"since a day": {PrefetchFigures{Files: 1000, First: young}, false},
		"a fifth":     {PrefetchFigures{Files: 1000, Used: 200, First: old}, false},
		"less":        {PrefetchFigures{Files: 1000, Used: 199, First: old}, true},
	} {
		if got := c.figures.Wasted(now); got != c.want {
			t.Errorf("%s: %v", what, got)
		}
	}
}
