package naming_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/naming"
	"bridgespan/service/work"
	"bridgespan/standin/database"
	"bridgespan/standin/standintest"
)

// trier accepts every target but those with the share "gone".
type trier struct{}

func (trier) TryLocation(_ context.Context, field string, target namespace.Target) (namespace.Target, error) {
	if target.Share == "gone" {
		return target, fault.Field(field, "choose another", "there is no share %s", target.Share)
	}
	target.Share = strings.ToLower(target.Share) // the server's own spelling
	return target, nil
}

// looks are what LookAt finds, by the share; well unless it says otherwise.
type looks struct{ sync.Map }

func (l *looks) LookAt(_ context.Context, _ string, targets []namespace.Target) []namespace.Look {
	var found []namespace.Look
	for _, t := range targets {
		look := namespace.Look{Health: namespace.Well}
		if h, ok := l.Load(t.Share); ok {
			look = namespace.Look{Health: h.(namespace.Health), Text: h.(namespace.Health).Words()}
		}
		found = append(found, look)
	}
	return found
}

// stand is an estate without servers.
type stand struct {
	trier
	*looks
}

type fixture struct {
	*naming.Service
	looks  *looks
	db     *records.DB
	server *database.Server
	ctx    context.Context
}

// start makes a service over the sites Near and Far with one server each.
func start(t *testing.T) fixture {
	t.Helper()
	db, server := standintest.Records(t)
	ctx := access.WithActor(t.Context(), model.User{Name: "tester", Role: model.Administrator})
	if err := db.Change(ctx, func(tx *records.Tx) error {
		return errors.Join(
			tx.AddSite(ctx, model.Site{Name: "Near"}), tx.AddSite(ctx, model.Site{Name: "Far"}),
			tx.AddLeg(ctx, namespace.Leg{From: "Near", To: "Far", Mbit: 1, Cost: 7}),
			tx.AddServer(ctx, model.Server{Name: "one", Site: "Near", Address: "192.0.2.1", Port: 445, Account: "a"}, []byte("x")),
			tx.AddServer(ctx, model.Server{Name: "two", Site: "Far", Address: "192.0.2.2", Port: 1445, Account: "a"}, []byte("x")))
	}); err != nil {
		t.Fatal(err)
	}
	found := new(looks)
	s := naming.New(db, stand{looks: found}, func() {})
	if err := s.AddNamespace(ctx, model.Namespace{Name: "n"}); err != nil {
		t.Fatal(err)
	}
	return fixture{s, found, db, server, ctx}
}

var someTime = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)

func to(server, share string) naming.NewLocation {
	return naming.NewLocation{Target: namespace.Target{Server: server, Share: share}}
}

func (f fixture) add(t *testing.T, path string, locations ...naming.NewLocation) namespace.Entry {
	t.Helper()
	kind := namespace.Signpost
	if len(locations) == 0 {
		kind = namespace.Folder
	}
	e, err := f.AddEntry(f.ctx, "n", namespace.Entry{Path: path, Kind: kind}, locations)
	if err != nil {
		t.Fatalf("add %s: %v", path, err)
	}
	return e
}

func wantKind(t *testing.T, what string, err error, kind fault.Kind) {
	t.Helper()
	if fault.KindOf(err) != kind {
		t.Errorf("%s: %v, want a fault of kind %d", what, err, kind)
	}
}

func TestNaming(t *testing.T) {
	f := start(t)
	t.Run("Parents", func(t *testing.T) { testParents(t, f) })
	t.Run("Locations", func(t *testing.T) { testLocations(t, f) })
	t.Run("Manner", func(t *testing.T) { testManner(t, f) })
	t.Run("Moves", func(t *testing.T) { testMoves(t, f) })
	t.Run("Health", func(t *testing.T) { testHealth(t, f) })
	t.Run("Documents", func(t *testing.T) { testDocuments(t, f) })
	t.Run("LargeDocument", func(t *testing.T) { testLargeDocument(t, f) })
	t.Run("Returns", func(t *testing.T) { testReturns(t, f) })
	t.Run("NothingHalfDone", func(t *testing.T) { testNothingHalfDone(t, f) })
	t.Run("Race", func(t *testing.T) { testRace(t, f) })
	t.Run("Audit", func(t *testing.T) { testAudit(t, f) })
	t.Run("Touched", func(t *testing.T) { testTouched(t, f) })
	t.Run("Fresh", func(t *testing.T) { testFresh(t, f) })
	t.Run("DatabaseAway", func(t *testing.T) { testDatabaseAway(t, f) })
}

// Missing folders are made, and those that are there keep their spelling.
func testParents(t *testing.T, f fixture) {
	f.add(t, "Science/Plots/soil", to("one", "x"))
	e := f.add(t, "science/PLOTS/water", to("one", "y"))
	if e.Path != "Science/Plots/water" {
		t.Errorf("path %q", e.Path)
	}
	_, err := f.AddEntry(f.ctx, "n", namespace.Entry{Path: "science/plots/SOIL/deeper", Kind: namespace.Folder}, nil)
	wantKind(t, "below a signpost", err, fault.Invalid)
	_, err = f.AddEntry(f.ctx, "n", namespace.Entry{Path: "science", Kind: namespace.Folder}, nil)
	wantKind(t, "a folder in another case", err, fault.Taken)
	_, err = f.AddEntry(f.ctx, "nowhere", namespace.Entry{Path: "a", Kind: namespace.Folder}, nil)
	wantKind(t, "in no namespace", err, fault.NotFound)
}

func testLocations(t *testing.T, f fixture) {
	e := f.add(t, "shared", to("one", "SHARE"))
	if e.Locations[0].Share != "share" || e.Locations[0].State != namespace.Open || e.Locations[0].Listens.HostPort != "192.0.2.1:445" {
		t.Errorf("first location %+v", e.Locations[0])
	}
	if err := f.AddLocation(f.ctx, "n", e.ID, e.Version, to("two", "share")); err != nil {
		t.Fatal(err)
	}
	e, err := f.Entry(f.ctx, "n", e.ID)
	if err != nil || e.Locations[1].State != namespace.Held || e.Locations[1].Why != naming.NotVerified {
		t.Fatalf("second location %+v, %v", e.Locations, err)
	}
	wantKind(t, "the same again", f.AddLocation(f.ctx, "n", e.ID, e.Version, to("TWO", "Share")), fault.Invalid)
	wantKind(t, "an old version", f.AddLocation(f.ctx, "n", e.ID, e.Version-1, to("two", "other")), fault.Stale)
	wantKind(t, "a share that is gone", f.AddLocation(f.ctx, "n", e.ID, e.Version, to("two", "gone")), fault.Invalid)
	wantKind(t, "an unknown location", f.EditLocation(f.ctx, "n", e.ID, e.Version, 999, model.EditLocation{State: namespace.Open}), fault.NotFound)

	edit := func(state namespace.State, why string, rank namespace.Rank) namespace.Location {
		t.Helper()
		if err := f.EditLocation(f.ctx, "n", e.ID, e.Version, e.Locations[1].ID, model.EditLocation{State: state, Why: why, Rank: rank}); err != nil {
			t.Fatal(err)
		}
		if e, err = f.Entry(f.ctx, "n", e.ID); err != nil {
			t.Fatal(err)
		}
		return e.Locations[1]
	}
	if l := edit(namespace.Open, "", ""); l.State != namespace.Open || l.Why != "not verified" {
		t.Errorf("opened unverified: %+v", l)
	}
	if l := edit(namespace.Held, "stocktaking ", namespace.First); l.State != namespace.Held || l.Why != "stocktaking" || l.Rank != namespace.First {
		t.Errorf("held by hand: %+v", l)
	}
	if l := edit(namespace.Open, "", ""); l.State != namespace.Open || l.Why != "" || l.Rank != namespace.First {
		t.Errorf("opened after a hold by hand: %+v", l)
	}
	// Holding what fails keeps it held when it is well again.
	if _, err := f.db.StoreReach(f.ctx, "two", false, "down", someTime); err != nil {
		t.Fatal(err)
	}
	f.Forget()
	if d, err := f.Where(f.ctx, "/n/shared", namespace.Traveller{Site: "Far"}); err != nil || d.Directions[0].Server != "one" || d.Directions[1].State != namespace.Failing {
		t.Errorf("directions past a failing location: %+v, %v", d.Directions, err)
	}
	if l := edit("", "", namespace.Last); l.State != namespace.Failing {
		t.Errorf("a rank given while failing: %+v", l)
	}
	if _, err := f.db.StoreReach(f.ctx, "two", true, "", someTime); err != nil {
		t.Fatal(err)
	}
	if l := edit("", "", namespace.Normal); l.State != namespace.Open {
		t.Errorf("well again: %+v", l)
	}
	if err := f.RemoveLocation(f.ctx, "n", e.ID, e.Version, e.Locations[0].ID); err != nil {
		t.Fatal(err)
	}
	wantKind(t, "the last location", f.RemoveLocation(f.ctx, "n", e.ID, e.Version+1, e.Locations[1].ID), fault.Needed)
}

// An entry of which one location cannot be opened leaves nothing behind, nor
// do the folders above it.
func testNothingHalfDone(t *testing.T, f fixture) {
	before, err := f.Entries(f.ctx, "n", records.All)
	if err != nil {
		t.Fatal(err)
	}
	for name, locations := range map[string][]naming.NewLocation{
		"gone": {to("one", "a"), to("two", "gone")}, "unknown server": {to("one", "b"), to("three", "b")}, "overlap": {to("one", "c"), to("one", "C")},
	} {
		if _, err := f.AddEntry(f.ctx, "n", namespace.Entry{Path: "fresh/folders/" + name, Kind: namespace.Signpost}, locations); err == nil {
			t.Errorf("%s was added", name)
		}
	}
	after, err := f.Entries(f.ctx, "n", records.All)
	if err != nil || fmt.Sprint(after) != fmt.Sprint(before) {
		t.Errorf("left behind: %v, %v", after, err)
	}
}

// Of many who add the same name at once, one does; the parents are made once.
func testRace(t *testing.T, f fixture) {
	var group sync.WaitGroup
	var mu sync.Mutex
	added := 0
	for i := range 8 {
		group.Go(func() {
			_, err := f.AddEntry(f.ctx, "n", namespace.Entry{Path: []string{"race/a/b", "RACE/A/B"}[i%2], Kind: namespace.Folder}, nil)
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				added++
			} else if fault.KindOf(err) != fault.Taken {
				t.Errorf("adding in a race: %v", err)
			}
		})
	}
	group.Wait()
	if added != 1 {
		t.Errorf("%d added the same name", added)
	}
}

func testAudit(t *testing.T, f fixture) {
	e, note := f.add(t, "audited"), "a note"
	if err := f.EditEntry(f.ctx, "n", e.ID, e.Version, model.EditEntry{Note: &note}); err != nil {
		t.Fatal(err)
	}
	if err := f.RemoveEntry(f.ctx, "n", e.ID, e.Version+1); err != nil {
		t.Fatal(err)
	}
	changes, err := f.db.Changes(f.ctx, 0, 3)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"entry.remove", "entry.edit", "entry.add"} {
		if c := changes[i]; c.Action != want || c.Who != "tester" || c.Subject != "/n/audited" || (c.Before == nil) != (want == "entry.add") || (c.After == nil) != (want == "entry.remove") {
			t.Errorf("change %+v, want %s", c, want)
		}
	}
}

// Directions show a change at once.
func testFresh(t *testing.T, f fixture) {
	if _, err := f.Where(f.ctx, "/n/later", namespace.Traveller{}); fault.KindOf(err) != fault.NotFound {
		t.Fatal(err)
	}
	f.add(t, "later", to("two", "z"))
	d, err := f.Where(f.ctx, "/n/later/deep", namespace.Traveller{Site: "near", Person: "ada"})
	if err != nil || d.Rest != "deep" || d.From != "Near" || d.Directions[0].Reason != "Far, behind leg cost 7" || d.TTL != naming.DefaultTTL {
		t.Errorf("directions %+v, %v", d, err)
	}
}

// While the database is away, what was last read still leads people, changes
// are refused clearly, and what was never read cannot be answered.
func testDatabaseAway(t *testing.T, f fixture) {
	before, err := f.Where(f.ctx, "/n/later", namespace.Traveller{Site: "Near"})
	if err != nil {
		t.Fatal(err)
	}
	if err := f.AddNamespace(f.ctx, model.Namespace{Name: "unread"}); err != nil {
		t.Fatal(err)
	}
	f.server.Kill()
	f.Forget() // something is said to have changed
	during, err := f.Where(f.ctx, "/n/later", namespace.Traveller{Site: "Near"})
	if err != nil || during.Directions[0].ID != before.Directions[0].ID {
		t.Errorf("directions without a database: %+v, %v", during, err)
	}
	_, err = f.Where(f.ctx, "/unread", namespace.Traveller{})
	wantKind(t, "a namespace that was never read", err, fault.Unavailable)
	_, err = f.AddEntry(f.ctx, "n", namespace.Entry{Path: "refused", Kind: namespace.Folder}, nil)
	wantKind(t, "a change", err, fault.Unavailable)
	if err := f.server.Restart(); err != nil {
		t.Fatal(err)
	}
	if after, err := f.Where(f.ctx, "/n/later", namespace.Traveller{}); err != nil || !after.ReadAt.After(during.ReadAt) {
		t.Errorf("after the restart: read %v, was %v, %v", after.ReadAt, during.ReadAt, err)
	}
}

// Sites, weights and ttl decide with the rest.
func testManner(t *testing.T, f fixture) {
	second := to("two", "b")
	second.OpenNow, second.Weight, second.OnlyFor = true, 3, []string{"far"}
	e := f.add(t, "manner", to("one", "a"), second)
	if l := e.Locations[1]; l.Weight != 3 || len(l.OnlyFor) != 1 || l.OnlyFor[0] != "Far" || l.Why != "not verified" {
		t.Errorf("added %+v", l)
	}
	near, err := f.Where(f.ctx, "/n/manner", namespace.Traveller{Site: "Near"})
	if err != nil || near.Directions[1].Usable || near.Directions[1].Reason != "only for people at Far" {
		t.Errorf("from Near: %+v, %v", near.Directions, err)
	}
	far, err := f.Where(f.ctx, "/n/manner", namespace.Traveller{Site: "Far"})
	if err != nil || far.Directions[0].Server != "two" || far.Directions[0].Reason != "same site; not verified" || far.TTL != naming.DefaultTTL {
		t.Errorf("from Far: %+v, %v", far.Directions, err)
	}
	wantKind(t, "a site that is not there", f.EditLocation(f.ctx, "n", e.ID, e.Version, e.Locations[1].ID, model.EditLocation{OnlyFor: &[]string{"Moon"}}), fault.Invalid)
	everyone, weight, ttl, long := []string{}, 1, 20, 90000
	if err := f.EditLocation(f.ctx, "n", e.ID, e.Version, e.Locations[1].ID, model.EditLocation{OnlyFor: &everyone, Weight: &weight}); err != nil {
		t.Fatal(err)
	}
	wantKind(t, "a ttl of more than a day", f.EditEntry(f.ctx, "n", e.ID, e.Version+1, model.EditEntry{TTL: &long}), fault.Invalid)
	if err := f.EditEntry(f.ctx, "n", e.ID, e.Version+1, model.EditEntry{TTL: &ttl}); err != nil {
		t.Fatal(err)
	}
	if near, err = f.Where(f.ctx, "/n/manner", namespace.Traveller{Site: "Near"}); err != nil || !near.Directions[1].Usable || near.TTL != 20 {
		t.Errorf("from Near, after: %+v, %v", near, err)
	}
	wantKind(t, "a way to come back that is none", f.AddNamespace(f.ctx, model.Namespace{Name: "m", Returns: "never"}), fault.Invalid)
}

// A branch moves whole, or not at all.
func testMoves(t *testing.T, f fixture) {
	f.add(t, "Moving/Größe/one", to("one", "m1"))
	f.add(t, "Moving/two", to("one", "m2"))
	f.add(t, "movings/beside", to("one", "m3")) // a name that only begins alike
	at := func(path string) namespace.Entry {
		t.Helper()
		e, err := f.db.EntryAt(f.ctx, "n", path)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	move := func(e namespace.Entry, to string) error {
		return f.EditEntry(f.ctx, "n", e.ID, e.Version, model.EditEntry{Path: to})
	}
	branch := at("moving")
	wantKind(t, "into itself", move(branch, "Moving/Größe/deeper"), fault.Invalid)
	wantKind(t, "onto another", move(branch, "movings/BESIDE"), fault.Taken)
	wantKind(t, "below a signpost", move(branch, "movings/beside/x"), fault.Invalid)
	wantKind(t, "a bad name", move(branch, "a//b"), fault.Invalid)
	wantKind(t, "too long", move(branch, strings.Repeat(strings.Repeat("long", 60)+"/", 4)+strings.Repeat("x", 30)), fault.Invalid)
	stale := branch
	stale.Version--
	wantKind(t, "an old version", move(stale, "elsewhere"), fault.Stale)
	if err := move(branch, "new/Place"); err != nil {
		t.Fatal(err)
	}
	if e := at("NEW/place/grösse/ONE"); e.Path != "new/Place/Größe/one" || e.Locations[0].Share != "m1" {
		t.Errorf("moved: %+v", e)
	}
	if e := at("movings/beside"); e.Path != "movings/beside" {
		t.Errorf("what was beside: %+v", e)
	}
	if err := move(at("new/place"), "new/PLACE"); err != nil { // another case
		t.Fatal(err)
	}
	if e := at("new/place/two"); e.Path != "new/PLACE/two" {
		t.Errorf("in another case: %+v", e)
	}
	if d, err := f.Where(f.ctx, "/n/new/PLACE/two", namespace.Traveller{}); err != nil || len(d.Directions) != 1 {
		t.Errorf("directions after it moved: %+v, %v", d, err)
	}
	changes, err := f.db.Changes(f.ctx, 0, 2)
	if err != nil || changes[0].Action != "entry.move" || changes[0].Subject != "/n/new/Place" {
		t.Errorf("%+v, %v", changes, err)
	}
}

// Locations are told apart by how they were found, and directions follow.
func testHealth(t *testing.T, f fixture) {
	second := to("two", "h2")
	second.OpenNow = true
	e := f.add(t, "health/both", to("one", "h1"), second)
	first := func() namespace.Direction {
		t.Helper()
		d, err := f.Where(f.ctx, "/n/health/both", namespace.Traveller{Site: "Near"})
		if err != nil {
			t.Fatal(err)
		}
		return d.Directions[0]
	}
	check := func(want string) {
		t.Helper()
		list, err := f.Check(f.ctx, "n", "health")
		if err != nil || len(list) != 2 || string(list[0].Health) != want || list[0].Path != "/n/health/both" {
			t.Errorf("checked %+v, %v; want %s", list, err, want)
		}
	}
	check("well")
	if d := first(); d.Server != "one" || d.Health != namespace.Well || d.Since == nil {
		t.Errorf("well: %+v", d)
	}
	f.looks.Store("h1", namespace.ShareMissing)
	check("share-missing")
	if d := first(); d.Server != "two" {
		t.Errorf("past a missing share: %+v", d)
	}
	d, err := f.Where(f.ctx, "/n/health/both", namespace.Traveller{Site: "Near"})
	if last := d.Directions[1]; err != nil || last.State != namespace.Failing || !strings.HasPrefix(last.Reason, "failing since ") || !strings.HasSuffix(last.Reason, ": the share is missing") {
		t.Errorf("why: %+v, %v", last, err)
	}
	f.looks.Store("h1", namespace.ReadOnly)
	check("read-only")
	if d := first(); d.Server != "one" || !strings.Contains(d.Reason, "read-only") {
		t.Errorf("read-only: %+v", d)
	}
	f.looks.Store("h1", namespace.Silent) // the server's affair, not the location's
	check("silent")
	if d := first(); d.Health != namespace.ReadOnly {
		t.Errorf("after silence: %+v", d)
	}
	spells, err := f.Health(f.ctx, "n", e.ID)
	var trail []string
	for _, p := range spells {
		if p.Location == "one/h1" {
			trail = append(trail, string(p.Health))
		}
	}
	if err != nil || strings.Join(trail, " ") != "read-only share-missing well" || spells[0].To != nil || spells[len(spells)-1].To == nil && spells[len(spells)-1].Location == "one/h1" {
		t.Errorf("over time: %+v, %v", spells, err)
	}
	_, err = f.Check(f.ctx, "n", "nowhere")
	wantKind(t, "a path that is not there", err, fault.NotFound)
}

// The watch finds out by itself, and one look is not enough.
func TestWatchLocations(t *testing.T) {
	f := start(t)
	f.add(t, "watched", to("one", "w"))
	f.add(t, "neighbour", naming.NewLocation{Target: namespace.Target{Server: "one", Share: "w", Sub: "below"}})
	ctx, cancel := context.WithCancel(f.ctx)
	done := make(chan struct{})
	go func() { f.WatchLocations(ctx, &work.Leases{DB: f.db, Holder: "here"}); close(done) }()
	defer func() { cancel(); <-done }()
	await := func(want namespace.Health) {
		t.Helper()
		for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			if d, err := f.Where(f.ctx, "/n/watched", namespace.Traveller{}); err == nil && d.Directions[0].Health == want {
				return
			}
		}
		t.Fatalf("it is not found %s", want)
	}
	await(namespace.Well)
	f.looks.Store("w", namespace.FolderMissing)
	f.LookSoon(f.ctx, "/n/watched") // otherwise it is due again in a minute
	await(namespace.FolderMissing)
	f.looks.Delete("w")
	await(namespace.Well) // quickly, since it is not well
	// A missing share is missing to all that lies in it: the others are not left
	// until their own time comes.
	f.looks.Store("w", namespace.ShareMissing)
	f.LookSoon(f.ctx, "/n/watched")
	deadline := time.Now().Add(20 * time.Second) // theirs comes after 48 s at the earliest
	for ; time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if d, err := f.Where(f.ctx, "/n/neighbour", namespace.Traveller{}); err == nil && d.Directions[0].Health == namespace.ShareMissing {
			return
		}
	}
	t.Error("what else is in a missing share is not looked at soon")
}

func leads(path string, to ...string) namespace.DocumentEntry {
	e := namespace.DocumentEntry{Path: path}
	for _, t := range to {
		e.Locations = append(e.Locations, namespace.DocumentLocation{To: t})
	}
	return e
}

// steps are what is done, or would be, in words.
func steps(a model.Application) string {
	all := append([]string{}, a.Settings...)
	for _, s := range a.Steps {
		all = append(all, s.Text)
	}
	return strings.Join(all, "|")
}

// A document is applied whole or not at all, and applying it again does nothing.
func testDocuments(t *testing.T, f fixture) {
	d := namespace.Document{Namespace: "docs", Note: "from a file", Entries: []namespace.DocumentEntry{leads("a/one", "one/D1", "two/d1"), leads("b", "two/d2"), {Path: "empty", Note: "to be filled"}}}
	apply := func(d namespace.Document, was string, rehearse bool) (model.Application, error) {
		return f.Apply(f.ctx, d, was, rehearse)
	}
	planned, err := apply(d, "", true)
	if _, missing := f.Namespace(f.ctx, "docs"); err != nil || !planned.Created || fault.KindOf(missing) != fault.NotFound {
		t.Fatalf("rehearsed: %+v, %v, %v", planned, err, missing)
	}
	done, err := apply(d, planned.Fingerprint, false)
	if err != nil || steps(done) != steps(planned) || len(done.Steps) != 3 {
		t.Fatalf("done %s, planned %s, %v", steps(done), steps(planned), err)
	}
	if again, err := apply(d, "", false); err != nil || steps(again) != "" {
		t.Errorf("applied again: %s, %v", steps(again), err)
	}
	exported, err := f.Export(f.ctx, "docs")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := apply(exported, "", false); err != nil || steps(again) != "" || exported.Entries[1].Locations[0].To != "one/d1" {
		t.Errorf("exported and applied: %s, %+v, %v", steps(again), exported, err)
	}
	_, err = apply(d, planned.Fingerprint, false)
	wantKind(t, "an old fingerprint", err, fault.Stale)
	entries := func() []namespace.Entry {
		t.Helper()
		list, err := f.Entries(f.ctx, "docs", records.All)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	one := entries()[1]
	if one.Path != "a/one" || one.Locations[1].Why != naming.NotVerified {
		t.Fatalf("%+v", one)
	}
	// Nothing half-done: the last step cannot be done.
	before := fmt.Sprint(entries())
	bad := d
	bad.Entries = []namespace.DocumentEntry{leads("c", "one/d9"), leads("d", "two/gone")}
	_, err = apply(bad, "", false)
	wantKind(t, "a share that is gone", err, fault.Invalid)
	bad.Entries[1] = namespace.DocumentEntry{Path: "d", Locations: []namespace.DocumentLocation{{To: "two/d8", OnlyFor: []string{"Moon"}}}}
	_, err = apply(bad, "", false)
	wantKind(t, "a site that is not there", err, fault.Invalid)
	if after := fmt.Sprint(entries()); after != before {
		t.Errorf("half-done: %s, was %s", after, before)
	}
	// A move keeps what is known of the locations.
	d.Note, d.Entries = "", []namespace.DocumentEntry{leads("Moved/one", "one/d1", "two/d1")}
	moved, err := apply(d, "", false)
	if err != nil || !strings.Contains(steps(moved), "move a/one to Moved/one") {
		t.Errorf("moved: %s, %v", steps(moved), err)
	}
	if now := entries(); len(now) != 2 || now[1].ID != one.ID || now[1].Locations[1].ID != one.Locations[1].ID {
		t.Errorf("moved: %+v", now)
	}
}

// Whatever was changed, the state after each change can be returned to.
func testReturns(t *testing.T, f fixture) {
	if err := f.AddNamespace(f.ctx, model.Namespace{Name: "past"}); err != nil {
		t.Fatal(err)
	}
	type state struct {
		change int64
		text   string
	}
	var states []state
	// what is compared: everything but which locations wait for a verification
	text := func() string {
		t.Helper()
		d, err := f.Export(f.ctx, "past")
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprintf("%+v", d)
	}
	mark := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		latest, err := f.History(f.ctx, "past", 0, 1)
		if err != nil {
			t.Fatal(err)
		}
		states = append(states, state{latest[0].ID, text()})
	}
	at := func(path string) namespace.Entry {
		t.Helper()
		e, err := f.EntryAt(f.ctx, "past", path)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	note, ttl := "noted", 42
	_, err := f.AddEntry(f.ctx, "past", namespace.Entry{Path: "deep/er/a", Kind: namespace.Signpost}, []naming.NewLocation{to("one", "p1")})
	mark(err)
	e := at("deep/er/a")
	mark(f.AddLocation(f.ctx, "past", e.ID, e.Version, to("two", "p1")))
	// Runs about an entry are no changes of it.
	if err := f.db.Record(f.ctx, model.Change{At: someTime, Who: "tester", Action: "verify.start", Subject: "/past/deep/er/a: one/p1", After: namespace.Entry{Path: "deep/er/a"}}, "run"); err != nil {
		t.Fatal(err)
	}
	e = at("deep/er/a")
	mark(f.EditEntry(f.ctx, "past", e.ID, e.Version, model.EditEntry{Note: &note, TTL: &ttl}))
	e = at("deep/er/a")
	mark(f.EditLocation(f.ctx, "past", e.ID, e.Version, e.Locations[0].ID, model.EditLocation{State: namespace.Held, Why: "stocktaking", Rank: namespace.Last}))
	e = at("deep")
	mark(f.EditEntry(f.ctx, "past", e.ID, e.Version, model.EditEntry{Path: "shallow"}))
	n, err := f.Namespace(f.ctx, "past")
	if err != nil {
		t.Fatal(err)
	}
	n.Note, n.Hiding = "changed", true
	mark(f.EditNamespace(f.ctx, n))
	e = at("shallow/er/a")
	mark(f.RemoveEntry(f.ctx, "past", e.ID, e.Version))
	for i := len(states) - 1; i >= 0; i-- {
		planned, err := f.AsOf(f.ctx, "past", states[i].change)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.Apply(f.ctx, planned, "", false); err != nil {
			t.Fatalf("return to state %d: %v", i, err)
		}
		if got := text(); got != states[i].text {
			t.Errorf("state %d is\n%s, was\n%s", i, got, states[i].text)
		}
	}
	_, err = f.AsOf(f.ctx, "past", 1)
	wantKind(t, "a change of something else", err, fault.NotFound)
}

// testLargeDocument applies more than is done one by one, and gets the same:
// what it exports is what was applied, and a document in two halves too.
func testLargeDocument(t *testing.T, f fixture) {
	d := namespace.Document{Namespace: "large"}
	for i := range 1200 {
		e := leads(fmt.Sprintf("Area%d/sub/place%04d", i/100, i), fmt.Sprintf("one/d1/p%d", i%7))
		if i%100 == 0 {
			e = leads(e.Path, "one/d1", "two/d2")
			e.Locations[1].OnlyFor = []string{"Near"}
		}
		d.Entries = append(d.Entries, e)
	}
	d.Entries[5].Letter, d.Entries[6].Note, d.Entries[7].TTL = "Q", "noted", 60
	d.Entries = append(d.Entries, namespace.DocumentEntry{Path: "Area3", Note: "a folder that others imply"}, namespace.DocumentEntry{Path: "alone"})
	half := d
	half.Entries = d.Entries[:600]
	for what, part := range map[string][]namespace.Document{"at once": {d}, "in two halves": {half, d}} {
		t.Run(what, func(t *testing.T) {
			for _, p := range part {
				p.Namespace = map[string]string{"at once": "large", "in two halves": "halves"}[what]
				if _, err := f.Apply(f.ctx, p, "", false); err != nil {
					t.Fatal(err)
				}
				if again, err := f.Apply(f.ctx, p, "", false); err != nil || len(again.Steps) != 0 {
					t.Errorf("applied again: %d steps, %v", len(again.Steps), err)
				}
			}
			name := map[string]string{"at once": "large", "in two halves": "halves"}[what]
			e, err := f.EntryAt(f.ctx, name, "AREA3/sub/place0300")
			if err != nil || len(e.Locations) != 2 || e.Locations[1].Set != namespace.Held || len(e.Locations[1].OnlyFor) != 1 || e.Version != 1 {
				t.Errorf("one of many: %+v, %v", e, err)
			}
			if e, err := f.EntryAt(f.ctx, name, "Area0/sub/place0005"); err != nil || e.Letter != "Q" {
				t.Errorf("a letter: %+v, %v", e, err)
			}
			changes, err := f.History(f.ctx, name, 0, 5)
			if err != nil || len(changes) != 5 || changes[0].Subject == "" {
				t.Errorf("history %+v, %v", changes, err)
			}
		})
	}
	// One that cannot be leaves nothing of all the others.
	bad := d
	bad.Namespace = "bad"
	bad.Entries = append(slices.Clone(d.Entries), leads("nowhere", "three/none"))
	if _, err := f.Apply(f.ctx, bad, "", false); err == nil {
		t.Error("a document with a server that is not there is applied")
	}
	if _, err := f.Namespace(f.ctx, "bad"); fault.KindOf(err) != fault.NotFound {
		t.Errorf("after a document that cannot be: %v", err)
	}
}
