package records_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/records"
)

// Orphans are found among rows and in packs.
func testOrphans(t *testing.T, db *records.DB) {
	const r = replica.ID(4712)
	s := db.Replication()
	save := func(kind replica.Kind, keys ...string) {
		t.Helper()
		var list []replica.Record
		for i, key := range keys {
			list = append(list, replica.Record{Key: key, Content: replica.Content{Kind: kind, Name: key, Version: replica.Vector{{Replica: r, Count: 1}}}, Seen: replica.Seen{ID: uint64(100 + i)}})
		}
		if err := s.Save(t.Context(), replica.Change{Replica: r, Records: list}); err != nil {
			t.Fatal(err)
		}
	}
	check := func(want ...string) {
		t.Helper()
		if got, err := s.Orphans(t.Context(), r, 100); err != nil || !slices.Equal(got, want) {
			t.Errorf("orphans are %q, want %q; %v", got, want, err)
		}
	}
	save(replica.Folder, "beds", "beds/row", "shed")
	save(replica.File, "top.txt", "beds/row/rose.txt")
	var packed []string
	for i := range 6 {
		packed = append(packed, fmt.Sprintf("shed/tool %d.txt", i))
	}
	save(replica.File, packed...)
	check()
	save(replica.None, "shed", "beds/row")
	check(append([]string{"beds/row/rose.txt"}, packed...)...)
	if got, err := s.Orphans(t.Context(), r, 3); err != nil || len(got) != 3 {
		t.Errorf("of at most three orphans there are %q, %v", got, err)
	}
	// Folders are found by their numbers, too, as rows and in packs.
	save(replica.Folder, "a", "b", "c", "d", "e")
	if found, err := s.ByFile(t.Context(), r, 101); err != nil || !slices.ContainsFunc(found, func(rec replica.Record) bool { return rec.Key == "b" && rec.Kind == replica.Folder }) {
		t.Errorf("by its number %+v is found, %v", found, err)
	}
}

// What is postponed is left alone for as long as is said, unless it is put there again.
func testPostponed(t *testing.T, db *records.DB) {
	lane := replica.Lane{From: 4713, To: 4714}
	s := db.Replication()
	queue := func() {
		t.Helper()
		if err := s.Save(t.Context(), replica.Change{Replica: lane.From, Records: []replica.Record{{Key: "rose.txt"}}, Queue: []replica.Lane{lane}}); err != nil {
			t.Fatal(err)
		}
	}
	waits := func() []replica.Ticket {
		t.Helper()
		list, err := s.Backlog(t.Context(), lane, 10)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	queue()
	first := waits()
	for _, c := range []struct {
		pause time.Duration
		waits int
	}{{0, 1}, {time.Hour, 0}} {
		if err := s.Postpone(t.Context(), lane, waits(), c.pause); err != nil {
			t.Fatal(err)
		}
		if got := waits(); len(got) != c.waits {
			t.Errorf("postponed for %v, %d tickets are due", c.pause, len(got))
		}
	}
	queue()
	if got := waits(); len(got) != 1 || got[0].Seq == first[0].Seq {
		t.Errorf("put there again, due are %+v", got)
	}
}
