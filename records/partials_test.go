package records_test

import (
	"slices"
	"testing"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/records"
)

// What has come of files is kept for each replica and path, as it was noted last.
func testPartials(t *testing.T, db *records.DB) {
	ctx, s := t.Context(), db.Replication()
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	want := []chunk.Partial{
		{Key: "films/a", Staged: ".bspan/intake/u1/0/u2", Bytes: 1 << 40, Digest: chunk.Digest{1, 2, 3}, Kept: at},
		{Key: "films/\xff", Staged: "\xff", Bytes: 7, Kept: at},
	}
	for _, p := range []chunk.Partial{{Key: "films/a", Staged: "elsewhere", Bytes: 5, Kept: at.Add(-time.Hour)}, want[0], want[1], {Key: "gone", Kept: at}} {
		if err := s.KeepPartial(ctx, 81, p); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.KeepPartial(ctx, 82, want[1]); err != nil {
		t.Fatal(err)
	}
	if err := s.ForgetPartial(ctx, 81, "gone"); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Partials(ctx, 81); err != nil || !slices.Equal(got, want) {
		t.Errorf("kept is %+v, %v; want %+v", got, err, want)
	}
	if got, err := s.Partials(ctx, 82); err != nil || !slices.Equal(got, want[1:]) {
		t.Errorf("of the other replica is kept %+v, %v", got, err)
	}
}
