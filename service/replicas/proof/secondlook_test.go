package proof

import (
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/core/verify"
	"bridgespan/model"
)

// Only what is otherwise than it was seen is said to have changed since.
func TestChangedSince(t *testing.T) {
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	file := func(size int64, modified time.Time) replica.Record {
		return replica.Record{Content: replica.Content{Kind: replica.File}, Seen: replica.Seen{Size: size, Modified: modified}}
	}
	folder := replica.Record{Content: replica.Content{Kind: replica.Folder}}
	for name, c := range map[string]struct {
		seen replica.Record
		now  *verify.Item
		want bool
	}{
		"nothing, as before":    {replica.Record{}, nil, false},
		"new":                   {replica.Record{}, &verify.Item{}, true},
		"removed":               {file(3, at), nil, true},
		"as it was":             {file(3, at), &verify.Item{Size: 3, Modified: at.Add(400 * time.Nanosecond)}, false},
		"longer":                {file(3, at), &verify.Item{Size: 4, Modified: at}, true},
		"later":                 {file(3, at), &verify.Item{Size: 3, Modified: at.Add(time.Second)}, true},
		"a folder, as before":   {folder, &verify.Item{Folder: true, Modified: at}, false},
		"a file that is folder": {file(3, at), &verify.Item{Folder: true}, true},
		"a folder that is file": {folder, &verify.Item{Size: 3}, true},
	} {
		if got := changedSince(c.seen, c.now); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// A look counts when it began after the moment, not when it merely ended then.
func TestLookedSince(t *testing.T) {
	since := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	at := func(d time.Duration) *time.Time { t := since.Add(d); return &t }
	for name, c := range map[string]struct {
		r    model.Replica
		want bool
	}{
		"never looked at":       {model.Replica{ID: 7}, false},
		"ended before":          {model.Replica{ID: 7, Looked: at(-time.Second), LookMs: 10}, false},
		"began before":          {model.Replica{ID: 7, Looked: at(time.Second), LookMs: 2000}, false},
		"began and ended after": {model.Replica{ID: 7, Looked: at(2 * time.Second), LookMs: 1000}, true},
		"another one":           {model.Replica{ID: 8, Looked: at(2 * time.Second)}, false},
	} {
		if got := lookedSince(model.ReplicaSet{Replicas: []model.Replica{c.r}}, 7, since); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
