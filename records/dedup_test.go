package records_test

import (
	"encoding/binary"
	"reflect"
	"slices"
	"testing"
	"time"

	"bridgespan/core/dedup"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/standin/standintest"
)

// Records of a volume come back as they were kept, those of large files too.
func TestDedupRecords(t *testing.T) {
	ctx := t.Context()
	db := open(t, standintest.Database(t).DSN("bridgespan"))
	if _, err := db.Migrate(ctx, "test"); err != nil {
		t.Fatal(err)
	}
	var volume int64
	err := db.Change(ctx, func(tx *records.Tx) (err error) {
		volume, err = tx.AddDedupVolume(ctx, model.DedupVolume{Name: "Larkfield", Profile: "documents", Created: time.Now().UTC()})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	d := db.Dedup(volume)
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	marks := func(n int) (list []dedup.Mark) {
		for i := range n {
			m := dedup.Mark{Length: uint32(i + 1), Packed: 1}
			binary.BigEndian.PutUint64(m.Print[:], uint64(i))
			list = append(list, m)
		}
		return list
	}
	large := dedup.Record{Path: "images/large.img", Size: 5 << 30, Modified: at, ID: 7, Owner: "S-1-5-32-544", Summary: dedup.Summary{Digest: [16]byte{1}, Chunks: 120_001, Marks: marks(120_001)}}
	small := dedup.Record{Path: "images/small.txt", Size: 10, Modified: at.Add(time.Hour), ID: 7, Summary: dedup.Summary{Digest: [16]byte{2}, Chunks: 1, Marks: marks(1)}}
	held := dedup.Record{Path: "images/held.db", Size: 10, Modified: at.Add(2 * time.Hour), Unread: "in use"}
	if err := d.Save(ctx, []dedup.Record{{Path: "images", Folder: true}, large, small, held}); err != nil {
		t.Fatal(err)
	}
	files := func() (list []dedup.Record) {
		t.Helper()
		if err := d.Each(ctx, func(r dedup.Record) error { list = append(list, r); return nil }); err != nil {
			t.Fatal(err)
		}
		return list
	}
	if got := files(); len(got) != 3 || got[0].Unread != "in use" || !reflect.DeepEqual(got[1], large) || !reflect.DeepEqual(got[2], small) {
		t.Fatalf("%d files, otherwise than they were", len(got))
	}
	if list, err := d.Unread(ctx, nil, 10); err != nil || len(list) != 1 || list[0].Path != held.Path {
		t.Errorf("unread are %v, %v", list, err)
	}
	if list, err := d.Doubles(ctx); err != nil || len(list) != 2 {
		t.Errorf("doubles are %v, %v", list, err)
	}
	// Equal files come together, those without equals not at all.
	twin := small
	twin.Path = "images/twin.txt"
	if err := d.Save(ctx, []dedup.Record{twin}); err != nil {
		t.Fatal(err)
	}
	var equals []string
	err = d.Equals(ctx, func(r dedup.Record) error { equals = append(equals, r.Path); return nil })
	if err != nil || !slices.Equal(equals, []string{small.Path, twin.Path}) {
		t.Errorf("equal are %v, %v", equals, err)
	}
	if err := d.Forget(ctx, 0, "images", []string{"twin.txt"}); err != nil {
		t.Fatal(err)
	}
	// Smaller by now: what is left of its parts is not taken for its own.
	large.Summary.Marks, large.Summary.Chunks = marks(2), 2
	if err := d.Save(ctx, []dedup.Record{large}); err != nil {
		t.Fatal(err)
	}
	if got := files(); !reflect.DeepEqual(got[1], large) {
		t.Errorf("it has %d marks", len(got[1].Summary.Marks))
	}
	// What is kept as a sample is read again where all is to be counted, unless no more
	// of it ever is.
	thin, huge := large, large
	thin.Path, thin.Summary.Level, huge.Path, huge.Summary.Level, huge.Summary.Marks = "images/thin.img", 3, "images/huge.img", 1, marks(dedup.MostMarks/2-2000)
	if err := d.Save(ctx, []dedup.Record{thin, huge}); err != nil {
		t.Fatal(err)
	}
	if n, err := d.Files(ctx); err != nil || n != 5 {
		t.Errorf("%d files, %v", n, err)
	}
	if err := db.Change(ctx, func(tx *records.Tx) error { return tx.ReadWhole(ctx, volume) }); err != nil {
		t.Fatal(err)
	}
	if list, err := d.Unread(ctx, nil, 10); err != nil || len(list) != 2 || list[1].Path != thin.Path {
		t.Errorf("to be read again are %v, %v", list, err)
	}
	if err := d.Forget(ctx, 0, "images", []string{"thin.img", "huge.img"}); err != nil {
		t.Fatal(err)
	}
	// A folder agrees with a listing once nothing in it is unread.
	sum := [16]byte{9}
	if err := d.KeepSum(ctx, 0, "images", sum); err != nil {
		t.Fatal(err)
	}
	if got, err := db.Dedup(volume).Sum(ctx, 0, "images"); err != nil || got != [16]byte{} {
		t.Errorf("with something unread: %v, %v", got, err)
	}
	if err := d.Forget(ctx, 0, "images", []string{"held.db"}); err != nil {
		t.Fatal(err)
	}
	if got, err := db.Dedup(volume).Sum(ctx, 0, "images"); err != nil || got != sum {
		t.Errorf("the sum is %v, %v", got, err)
	}
	// What was counted holds until something changes, by whomever.
	counted := func() int64 {
		t.Helper()
		v, err := db.DedupVolumeNumbered(ctx, volume)
		if err != nil {
			t.Fatal(err)
		}
		return v.Counted
	}
	keep := func() {
		t.Helper()
		err := db.Change(ctx, func(tx *records.Tx) error {
			return tx.KeepEstimate(ctx, volume, model.EstimatePoint{Run: 7, At: at})
		})
		if err != nil || counted() != 7 {
			t.Fatalf("counted by run %d, %v", counted(), err)
		}
	}
	for what, change := range map[string]func() error{
		"a file saved":     func() error { return db.Dedup(volume).Save(ctx, []dedup.Record{small}) },
		"a file forgotten": func() error { return db.Dedup(volume).Forget(ctx, 0, "images", []string{"nothing"}) },
		"another profile": func() error {
			return db.Change(ctx, func(tx *records.Tx) error { return tx.ReadOtherwise(ctx, model.DedupVolume{ID: volume}) })
		},
		"a sample dissolved": func() error {
			thin := small
			thin.Summary.Level = 1
			if err := db.Dedup(volume).Save(ctx, []dedup.Record{thin}); err != nil {
				return err
			}
			keep()
			return db.Change(ctx, func(tx *records.Tx) error { return tx.ReadWhole(ctx, volume) })
		},
	} {
		keep()
		if err := change(); err != nil || counted() != 0 {
			t.Errorf("%s: counted by run %d still, %v", what, counted(), err)
		}
	}
	keep()
	if err := db.Change(ctx, func(tx *records.Tx) error { return tx.ReadWhole(ctx, volume) }); err != nil || counted() != 7 {
		t.Errorf("nothing was dissolved: counted by run %d, %v", counted(), err)
	}
	if err := d.Forget(ctx, 0, ".", []string{"images"}); err != nil || len(files()) != 0 {
		t.Errorf("with its folder, all goes: %v", err)
	}
}
