package records_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
)

// The ends of the lane of the ledgers.
const ledgerFrom, ledgerTo replica.ID = 51, 52

// ledger does with a store what scans and lanes do, at random, and keeps what should
// come of it in memory.
type ledger struct {
	*testing.T
	db      *records.DB
	s       *records.Replication
	random  *rand.Rand
	at      map[replica.ID]map[string]replica.Record
	waiting map[string]int // how many paths wait with a key, beside itself
	rights  []acl.Descriptor
	ids     uint64
}

// testPacks compares what a store tells with what it was told.
func testPacks(t *testing.T, db *records.DB) {
	for seed := range uint64(2) {
		l := &ledger{T: t, db: db, random: rand.New(rand.NewPCG(seed, 1)), waiting: map[string]int{}}
		l.at = map[replica.ID]map[string]replica.Record{ledgerFrom + replica.ID(seed)*10: {}, ledgerTo + replica.ID(seed)*10: {}}
		l.s = db.Replication()
		for _, text := range []string{"O:BAG:BAD:(A;;FA;;;BA)", "O:BAG:BAD:AI(A;ID;FA;;;BA)"} {
			d, err := acl.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			l.rights = append(l.rights, d)
		}
		for step := range 60 {
			l.step()
			if step%6 == 5 {
				l.check(fmt.Sprintf("seed %d, step %d", seed, step))
			}
			if t.Failed() {
				return
			}
		}
	}
}

func (l *ledger) ends() (from, to replica.ID) {
	for id := range l.at {
		if from == 0 || id < from {
			from = id
		}
	}
	return from, from + 1
}

var ledgerFolders = []string{".", "beds", "beds/row", "beds/row/deep", "shed"}

// step saves a change: many paths of a folder that may be new, a few, or one that is begun.
func (l *ledger) step() {
	from, to := l.ends()
	r := []replica.ID{from, to}[l.random.IntN(2)]
	folder := ledgerFolders[l.random.IntN(len(ledgerFolders))]
	c := replica.Change{Replica: r}
	known := l.at[r]
	pending := false
	switch kind := l.random.IntN(10); {
	case kind < 3: // as much as is in more than one pack
		first := l.random.IntN(900)
		for i := range 20 + l.random.IntN(500) {
			rec := l.record(r, folder, first+i)
			if i%70 == 30 {
				rec.Pending = &replica.Pending{Content: replica.Content{Name: rec.Name}, Attic: ".bspan/attic/x"}
			}
			c.Records = append(c.Records, rec)
		}
	case kind < 8:
		first := l.random.IntN(900)
		for range 1 + l.random.IntN(12) { // of two of one path the later one counts
			c.Records = append(c.Records, l.record(r, folder, first+l.random.IntN(40)))
		}
	default:
		rec, is := known[path.Join(folder, fmt.Sprintf("file %03d", l.random.IntN(900)))]
		if !is {
			rec = replica.Record{Key: path.Join(folder, "file 000")}
		}
		next := l.record(r, folder, 0)
		l.ids++
		next.Version = replica.Vector{{Replica: 3, Count: int64(l.ids)}}
		rec.Pending = &replica.Pending{Content: next.Content, Permissions: next.Permissions, Staged: ".bspan/intake/x"}
		c.Records, c.Begun, pending = []replica.Record{rec}, is && l.random.IntN(2) == 0, true
	}
	if !pending && l.random.IntN(3) > 0 {
		c.Queue = []replica.Lane{{From: from, To: to}}
		if folder != "." && l.random.IntN(2) == 0 {
			c.Whole = folder
		}
	}
	if err := l.s.Save(l.Context(), c); err != nil {
		l.Fatal(err)
	}
	for _, rec := range c.Records {
		known[rec.Key] = rec
		if len(c.Queue) > 0 && c.Whole == "" {
			l.waiting[rec.Key] = max(l.waiting[rec.Key], 0)
		}
	}
	if c.Whole != "" {
		l.waiting[c.Whole] = max(l.waiting[c.Whole], len(c.Records))
	}
	if l.random.IntN(8) > 0 {
		return
	}
	// Another start of the service; what has come to its end is forgotten with the next change.
	if err := l.s.Save(l.Context(), replica.Change{Replica: 1, Records: []replica.Record{{Key: "other"}}}); err != nil {
		l.Fatal(err)
	}
	l.s = l.db.Replication()
}

func (l *ledger) record(r replica.ID, folder string, i int) replica.Record {
	name := fmt.Sprintf("File %03d", i)
	rec := replica.Record{Key: path.Join(folder, strings.ToLower(name))}
	if known, is := l.at[r][rec.Key]; is && l.random.IntN(3) == 0 { // only who may do what has changed
		known.Pending, known.Permissions.Descriptor = nil, l.rights[l.random.IntN(2)]
		return known
	}
	moment := func() time.Time { return time.Date(2026, 3, 1, l.random.IntN(2), 0, 0, 100, time.UTC) }
	vector := func() replica.Vector {
		if l.random.IntN(4) == 0 {
			return nil
		}
		return replica.Vector{{Replica: 1, Count: 1 + int64(l.random.IntN(2))}}
	}
	if l.random.IntN(10) == 0 { // nothing is there any more
		rec.Content = replica.Content{Name: name, Version: vector()}
		return rec
	}
	rec.Content = replica.Content{Kind: replica.File, Name: name, Version: vector(), Size: int64(l.random.IntN(3)), Modified: moment(), Changed: moment(), By: 1}
	if l.random.IntN(2) == 0 {
		rec.Digest = chunk.Digest{byte(i), 1}
	}
	rec.Permissions = replica.Permissions{Version: vector(), Descriptor: l.rights[l.random.IntN(2)], Changed: moment(), By: 2}
	l.ids++
	rec.Seen = replica.Seen{Size: rec.Size, Modified: moment(), ID: l.ids / 2, Descriptor: l.rights[l.random.IntN(2)], Attributes: 1}
	return rec
}

// check compares all that can be asked.
func (l *ledger) check(when string) {
	from, to := l.ends()
	for _, r := range []replica.ID{from, to} {
		l.checkPaths(when, r)
		l.checkFinds(when, r)
		l.checkHeld(when, r)
	}
	l.checkBacklog(when, replica.Lane{From: from, To: to})
}

// all are the records of a replica that are as is wanted, in the order of their paths.
func (l *ledger) all(r replica.ID, wanted func(replica.Record) bool) (list []replica.Record) {
	for _, rec := range l.at[r] {
		if wanted(rec) {
			list = append(list, rec)
		}
	}
	slices.SortFunc(list, byKey)
	return list
}

func byKey(a, b replica.Record) int { return strings.Compare(a.Key, b.Key) }

func (l *ledger) same(what string, got []replica.Record, err error, want []replica.Record) {
	l.Helper()
	slices.SortFunc(got, byKey)
	if err != nil || len(got) != len(want) {
		l.Errorf("%s: %d records, %v; want %d", what, len(got), err, len(want))
		return
	}
	for i := range want {
		if !reflect.DeepEqual(got[i], want[i]) {
			l.Errorf("%s:\nfound %+v\nwant  %+v", what, got[i], want[i])
			return
		}
	}
}

func (l *ledger) checkPaths(when string, r replica.ID) {
	ctx := l.Context()
	for _, folder := range ledgerFolders {
		got, err := l.s.Children(ctx, r, folder)
		if !slices.IsSortedFunc(got, byKey) {
			l.Errorf("%s: what is in %s is not in order", when, folder)
		}
		l.same(fmt.Sprintf("%s, in %s of %d", when, folder, r), got, err, l.all(r, func(rec replica.Record) bool { return path.Dir(rec.Key) == folder }))
	}
	var keys []string
	var want []replica.Record
	for range 30 {
		key := path.Join(ledgerFolders[l.random.IntN(len(ledgerFolders))], fmt.Sprintf("file %03d", l.random.IntN(1400)))
		if slices.Contains(keys, key) {
			continue
		}
		rec := l.at[r][key]
		rec.Key = key
		keys, want = append(keys, key), append(want, rec)
	}
	got, err := l.s.Get(ctx, r, keys...)
	for i := range got {
		if got[i].Key != keys[i] {
			l.Errorf("%s: asked for %s, told of %s", when, keys[i], got[i].Key)
		}
	}
	if rec, err := l.db.ReplicaRecord(ctx, r, keys[0]); err != nil || !reflect.DeepEqual(rec.Content, want[0].Content) {
		l.Errorf("%s: %s is %+v, %v; want %+v", when, keys[0], rec.Content, err, want[0].Content)
	}
	slices.SortFunc(want, byKey)
	l.same(fmt.Sprintf("%s, paths of %d", when, r), got, err, want)
}

func (l *ledger) checkFinds(when string, r replica.ID) {
	ctx := l.Context()
	var ids []uint64
	for range 20 {
		ids = append(ids, 1+l.random.Uint64N(l.ids/2+3))
	}
	got, err := l.s.ByFile(ctx, r, ids...)
	l.same(fmt.Sprintf("%s, files of %d with some numbers", when, r), got, err,
		l.all(r, func(rec replica.Record) bool { return rec.Kind == replica.File && slices.Contains(ids, rec.Seen.ID) }))
	// Of those that are alike some are told, and no other.
	at := time.Date(2026, 3, 1, 1, 0, 0, 100, time.UTC)
	all := l.all(r, func(rec replica.Record) bool {
		return rec.Kind == replica.File && rec.Size == 1 && rec.Modified.Equal(at) && rec.Digest.Known()
	})
	got, err = l.s.Alike(ctx, r, 1, at)
	if err != nil || len(got) != min(len(all), 8) {
		l.Errorf("%s: %d files of %d are alike, %v; of %d", when, len(got), r, err, len(all))
	}
	for _, rec := range got {
		if !slices.ContainsFunc(all, func(want replica.Record) bool { return reflect.DeepEqual(rec, want) }) {
			l.Errorf("%s: alike is %+v", when, rec)
		}
	}
	got, err = l.s.Unfinished(ctx, r)
	l.same(fmt.Sprintf("%s, unfinished at %d", when, r), got, err, l.all(r, func(rec replica.Record) bool { return rec.Pending != nil }))
}

func (l *ledger) checkHeld(when string, r replica.ID) {
	var got, want []string
	say := func(key string, folder bool, size int64, modified time.Time) error {
		got = append(got, fmt.Sprint(key, folder, size, modified))
		return nil
	}
	if err := l.db.EachHeld(l.Context(), r, say); err != nil {
		l.Fatal(err)
	}
	for _, rec := range l.all(r, func(rec replica.Record) bool { return rec.Kind != replica.None }) {
		want = append(want, fmt.Sprint(rec.Key, false, rec.Size, rec.Modified))
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		l.Errorf("%s: %d are held at %d, want %d", when, len(got), r, len(want))
	}
}

// checkBacklog counts by itself what waits: what is right in a folder that waits as a
// whole waits with it, but what has a ticket of its own.
func (l *ledger) checkBacklog(when string, lane replica.Lane) {
	keys := map[string]bool{}
	for key, whole := range l.waiting {
		keys[key] = true
		if whole == 0 {
			continue
		}
		for _, r := range []replica.ID{lane.From, lane.To} {
			for child := range l.at[r] {
				if path.Dir(child) == key {
					keys[child] = true
				}
			}
		}
	}
	var want model.Backlog
	for key := range keys {
		from, to := l.at[lane.From][key], l.at[lane.To][key]
		content, permissions := from.Version.String() != to.Version.String(), from.Permissions.Version.String() != to.Permissions.Version.String()
		if content {
			want.Bytes += from.Size
		}
		if content || permissions || to.Prior() {
			want.Files++
		}
	}
	got, err := l.db.Backlog(l.Context(), lane)
	if err != nil || got.Files != want.Files || got.Bytes != want.Bytes || (got.Oldest == nil) != (want.Files == 0) {
		l.Errorf("%s: %d paths of %d bytes wait, %v; want %d of %d", when, got.Files, got.Bytes, err, want.Files, want.Bytes)
	}
}

// What a sender has in packs goes into the backlog of a new lane, and what the receiver
// held before.
func testQueuePacks(t *testing.T, db *records.DB) {
	set := keptSet(t, db, "packed", model.ReplicaSet{}, nil)
	from, to := replica.ID(set.Replicas[0].ID), replica.ID(set.Replicas[1].ID)
	s := db.Replication()
	for r, version := range map[replica.ID]replica.Vector{from: {{Replica: from, Count: 1}}, to: nil} {
		c := replica.Change{Replica: r}
		for i := range 700 {
			rec := replica.Record{Key: fmt.Sprintf("%d/file %d", r, i), Content: replica.Content{Kind: replica.File, Name: "f", Version: version}}
			if r == to && i%2 == 0 { // it belongs to the set
				rec.Version = replica.Vector{{Replica: to, Count: 1}}
			}
			c.Records = append(c.Records, rec)
		}
		if err := s.Save(t.Context(), c); err != nil {
			t.Fatal(err)
		}
	}
	queueAnew(t, db, set)
	count := func(folder replica.ID) int {
		tickets, err := s.BacklogIn(t.Context(), replica.Lane{From: from, To: to}, fmt.Sprint(folder), 5000)
		if err != nil {
			t.Fatal(err)
		}
		return len(tickets)
	}
	if sent, prior := count(from), count(to); sent != 700 || prior != 350 {
		t.Errorf("of the sender's 700 wait %d, of the receiver's 350 %d", sent, prior)
	}
	// What is forgotten of a replica goes in small steps afterwards, from packs, too.
	set.Replicas = set.Replicas[:1]
	if err := db.Change(t.Context(), func(tx *records.Tx) error {
		return tx.StoreMembers(t.Context(), &set, []model.Replica{{ID: int64(from)}, {ID: int64(to)}})
	}); err != nil {
		t.Fatal(err)
	}
	if p, err := db.Prune(t.Context(), records.Retention{}, time.Now().UTC()); err != nil || p.Replicas != 1 {
		t.Fatalf("pruned %+v, %v", p, err)
	}
	if p, err := db.Prune(t.Context(), records.Retention{}, time.Now().UTC()); err != nil || p.Replicas != 0 {
		t.Errorf("once more: %+v, %v", p, err)
	}
	for r, want := range map[replica.ID]int{from: 700, to: 0} {
		if left, err := db.Replication().Children(context.WithoutCancel(t.Context()), r, fmt.Sprint(r)); err != nil || len(left) != want {
			t.Errorf("of replica %d are left %d records, %v; want %d", r, len(left), err, want)
		}
	}
}

// testManyPacks keeps so many packs at once that several statements add them, and finds
// what is in each by its folder and by its number.
func testManyPacks(t *testing.T, db *records.DB) {
	const folders, each, at = 150, 5, replica.ID(81)
	ctx := t.Context()
	s := db.Replication()
	number := func(i, k int) uint64 { return uint64(1_000_000 + 10*i + k) }
	var all []replica.Record
	for i := range folders {
		for k := range each {
			all = append(all, replica.Record{Key: fmt.Sprintf("many %03d/file %d", i, k), Content: replica.Content{Version: replica.Vector{{Replica: at, Count: 1}}, Kind: replica.File, Name: fmt.Sprintf("File %d", k), Size: int64(i)},
				Seen: replica.Seen{ID: number(i, k)}})
		}
	}
	if got, err := s.ByFile(ctx, at, number(0, 0)); err != nil || len(got) != 0 { // from now on it is known where what is
		t.Fatal(got, err)
	}
	if err := s.Save(ctx, replica.Change{Replica: at, Records: all}); err != nil {
		t.Fatal(err)
	}
	for name, s := range map[string]*records.Replication{"the store that kept them": s, "another one": db.Replication()} {
		for i := range folders {
			got, err := s.Children(ctx, at, fmt.Sprintf("many %03d", i))
			if want := all[each*i : each*(i+1)]; err != nil || !reflect.DeepEqual(got, want) {
				t.Fatalf("%s has in folder %d\n%+v, want\n%+v, %v", name, i, got, want, err)
			}
			found, err := s.ByFile(ctx, at, number(i, i%each))
			if err != nil || len(found) != 1 || found[0].Key != all[each*i+i%each].Key {
				t.Fatalf("%s finds by its number in folder %d: %+v, %v", name, i, found, err)
			}
		}
	}
}
