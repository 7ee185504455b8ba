package namespace

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/fault"
)

func ExampleOrder() {
	network := NewNetwork([]Leg{{From: "Larkfield", To: "Highmoor", Cost: 40}, {From: "Larkfield", To: "Tern Island", Cost: 120}})
	locations := []Location{
		{ID: 1, Server: "sedge", Share: "education", Site: "Tern Island", State: Held, Why: "not verified yet", Rank: Normal},
		{ID: 2, Server: "heather", Share: "education", Site: "Highmoor", State: Open, Rank: Normal},
		{ID: 3, Server: "fern", Share: "education", Site: "Larkfield", State: Open, Rank: Normal},
	}
	for _, d := range Order(locations, Traveller{Site: "Tern Island"}, network) {
		fmt.Println(d.Target(), "-", d.Reason)
	}
	// Output:
	// fern/education - Larkfield, behind leg cost 120
	// heather/education - Highmoor, behind leg cost 160
	// sedge/education - held: not verified yet
}

func TestOrder(t *testing.T) {
	network := NewNetwork([]Leg{{From: "A", To: "B", Cost: 10}})
	at := func(id int64, site string, state State, rank Rank) Location {
		return Location{ID: id, Server: fmt.Sprint("s", id), Share: "x", Site: site, State: state, Rank: rank}
	}
	for _, test := range []struct {
		name      string
		who       Traveller
		locations []Location
		want      string
		reasons   string
	}{
		{"nothing", Traveller{}, nil, "", ""},
		{"open before failing before held", Traveller{Site: "A"}, []Location{at(1, "A", Held, Normal), at(2, "A", Failing, Normal), at(3, "B", Open, Last)}, "3 2 1",
			"B, behind leg cost 10, rank last|failing: does not answer|held: by hand"},
		{"near before rank", Traveller{Site: "A"}, []Location{at(1, "B", Open, First), at(2, "A", Open, Last)}, "2 1", "same site, rank last|B, behind leg cost 10, rank first"},
		{"rank among equals", Traveller{Site: "A"}, []Location{at(1, "A", Open, Normal), at(2, "A", Open, First)}, "2 1", "same site, rank first|same site"},
		{"unknown way last", Traveller{Site: "A"}, []Location{at(1, "C", Open, First), at(2, "B", Open, Normal)}, "2 1", "B, behind leg cost 10|C, to which no leg leads from A, rank first"},
		{"no site", Traveller{}, []Location{at(1, "A", Open, Last), at(2, "B", Open, Normal)}, "2 1",
			"open; no site given, so by rank alone|open; no site given, so by rank alone, rank last"},
		{"for others", Traveller{Site: "A"}, []Location{{ID: 1, Server: "s1", Share: "x", Site: "A", State: Open, Rank: Normal, OnlyFor: []string{"B", "C"}}, at(2, "B", Held, Normal)}, "2 1", "held: by hand|only for people at B, C"},
		{"for them", Traveller{Site: "b"}, []Location{{ID: 1, Server: "s1", Share: "x", Site: "A", State: Open, Rank: Normal, OnlyFor: []string{"B"}}}, "1", "A, to which no leg leads from b"},
		{"nobody in particular", Traveller{Site: "A"}, []Location{at(1, "A", Open, Normal), {ID: 2, Server: "s2", Share: "x", Site: "A", State: Open, Rank: Normal, Weight: 9}}, "2 1", "same site|same site, equal with the one before"},
		{"what to know", Traveller{Site: "A"}, []Location{{ID: 1, Server: "s1", Share: "x", Site: "A", State: Open, Rank: Normal, Why: "not verified", Health: ReadOnly}}, "1", "same site; not verified; read-only: nothing can be written there"},
		{"a site of its own", Traveller{Site: "C"}, []Location{at(1, "C", Open, Normal)}, "1", "same site"},
		{"equals", Traveller{Site: "A"}, []Location{at(1, "A", Open, Normal), at(2, "A", Open, Normal)}, "1 2", "same site|same site, equal with the one before"},
	} {
		t.Run(test.name, func(t *testing.T) {
			var ids, reasons []string
			for _, d := range Order(test.locations, test.who, network) {
				ids = append(ids, fmt.Sprint(d.ID))
				reasons = append(reasons, d.Reason)
				if d.Usable != (d.State == Open && !d.ForOthers) {
					t.Errorf("%d usable %v in state %s", d.ID, d.Usable, d.State)
				}
			}
			if got := strings.Join(ids, " "); got != test.want {
				t.Errorf("order %s, want %s", got, test.want)
			}
			if got := strings.Join(reasons, "|"); got != test.reasons {
				t.Errorf("reasons %q, want %q", got, test.reasons)
			}
		})
	}
}

// People are spread over equal locations, each keeps theirs, and losing a
// location moves nobody who was elsewhere.
func TestStableChoice(t *testing.T) {
	locations := []Location{{ID: 1, Server: "a", Share: "x", State: Open, Rank: Normal}, {ID: 2, Server: "b", Share: "x", State: Open, Rank: Normal}, {ID: 3, Server: "c", Share: "x", State: Open, Rank: Normal}}
	count := map[int64]int{}
	for i := range 300 {
		who := Traveller{Person: fmt.Sprint("person-", i)}
		first := Order(locations, who, nil)[0].ID
		count[first]++
		if again := Order([]Location{locations[2], locations[0], locations[1]}, who, nil)[0].ID; again != first {
			t.Fatalf("%s: %d, then %d", who.Person, first, again)
		}
		if first != 3 && Order(locations[:2], who, nil)[0].ID != first {
			t.Fatalf("%s moved though their location stayed", who.Person)
		}
	}
	for id, n := range count {
		if n < 60 || n > 140 {
			t.Errorf("location %d serves %d of 300", id, n)
		}
	}
}

// Weights say how many people each of equal locations gets.
func TestWeights(t *testing.T) {
	locations := []Location{{ID: 1, Server: "a", Share: "x", State: Open, Rank: Normal, Weight: 1}, {ID: 2, Server: "b", Share: "x", State: Open, Rank: Normal, Weight: 3}}
	light := 0
	for i := range 2000 {
		if Order(locations, Traveller{Person: fmt.Sprint("person-", i)}, nil)[0].ID == 1 {
			light++
		}
	}
	if light < 420 || light > 580 {
		t.Errorf("the location of weight 1 of 4 serves %d of 2000", light)
	}
}

func TestNetworkTakesTheCheapestWay(t *testing.T) {
	n := NewNetwork([]Leg{{From: "A", To: "B", Cost: 100}, {From: "A", To: "C", Cost: 10}, {From: "C", To: "B", Cost: 20}, {From: "A", To: "C", Cost: 50}, {From: "X", To: "Y", Cost: 1}})
	for _, test := range []struct {
		from, to string
		cost     int
		ok       bool
	}{{"A", "B", 30, true}, {"B", "A", 30, true}, {"A", "A", 0, true}, {"A", "X", 0, false}, {"Z", "Z", 0, true}, {"Z", "A", 0, false}} {
		if cost, ok := n.Cost(test.from, test.to); cost != test.cost || ok != test.ok {
			t.Errorf("Cost(%s, %s) = %d, %v", test.from, test.to, cost, ok)
		}
	}
}

func TestResolve(t *testing.T) {
	tree := NewTree("trust", []Entry{{ID: 1, Path: "science", Kind: Folder}, {ID: 2, Path: "science/Herbarium", Kind: Signpost}, {ID: 3, Path: "council", Kind: Signpost}})
	for _, test := range []struct {
		path         string
		signpost     int64
		rest, folder string
		children     int
		ok           bool
	}{
		{"", 0, "", "", 2, true},
		{"science", 0, "", "science", 1, true},
		{"SCIENCE/herbarium", 2, "", "", 0, true},
		{"science/herbarium/2024/scan.tif", 2, "2024/scan.tif", "", 0, true},
		{"nothing", 0, "", "", 0, false},
		{"science/nothing/deep", 0, "", "", 0, false},
	} {
		p, ok := tree.Resolve(test.path)
		if ok != test.ok || p.Rest != test.rest || len(p.Children) != test.children {
			t.Errorf("Resolve(%q) = %+v, %v", test.path, p, ok)
		}
		if p.Signpost != nil && p.Signpost.ID != test.signpost || p.Signpost == nil && test.signpost != 0 {
			t.Errorf("Resolve(%q) leads to %+v, want %d", test.path, p.Signpost, test.signpost)
		}
		if p.Folder != nil && p.Folder.Path != test.folder {
			t.Errorf("Resolve(%q) is folder %q", test.path, p.Folder.Path)
		}
	}
}

// What was found of locations can be put into a tree while others read the old one.
func TestTreeWithOtherLocations(t *testing.T) {
	var entries []Entry
	for i, p := range []string{"a", "A-b", "dept", "dept/Herbarium", "dept/seeds", "z"} {
		e := Entry{ID: int64(i + 1), Path: p, Kind: Signpost, Locations: []Location{{Server: "fern", Health: Well}}}
		if p == "dept" {
			e.Kind, e.Locations = Folder, nil
		}
		entries = append(entries, e)
	}
	old := NewTree("n", entries)
	now := old.With(map[int64][]Location{4: {{Server: "fern", Health: ShareMissing}}, 1: {{Server: "fern", Health: Refused}}, 99: nil})
	for _, c := range []struct {
		tree *Tree
		path string
		want Health
	}{
		{old, "a", Well}, {old, "DEPT/herbarium", Well}, {now, "a", Refused}, {now, "dept/herbarium", ShareMissing}, {now, "A-b", Well}, {now, "dept/seeds", Well}, {now, "z", Well},
	} {
		place, ok := c.tree.Resolve(c.path)
		if !ok || place.Signpost.Locations[0].Health != c.want {
			t.Errorf("%s: %+v, want %s", c.path, place.Signpost, c.want)
		}
		folder, name := "", c.path
		if parent, child, nested := strings.Cut(c.path, "/"); nested {
			folder, name = parent, child
		}
		above, _ := c.tree.Resolve(folder)
		listed := slices.ContainsFunc(above.Children, func(e *Entry) bool {
			return Key(e.Path) == Key(strings.TrimPrefix(folder+"/"+name, "/")) && e == place.Signpost
		})
		if !listed {
			t.Errorf("%s is not what its folder lists: %+v", c.path, above.Children)
		}
	}
}

func TestBadNames(t *testing.T) {
	for _, path := range []string{"", "trust", "/", "/Trust", "/tr ust/x", "/-a", "/trust//x", "/trust/../x", "/trust/./x", "/trust/a\x00b", "/trust/\xff", "/trust/\ufffd", "/trust/a\\b", "/trust/end.", "/trust/ x",
		"/trust/" + strings.Repeat("x", 256), "/trust/" + strings.Repeat("x/", 600), "/" + strings.Repeat("n", 64)} {
		_, _, err := Split("path", path)
		if fault.KindOf(err) != fault.Invalid || !strings.HasPrefix(err.Error(), "path: ") || !strings.Contains(err.Error(), "; ") {
			t.Errorf("Split(%.30q) = %v; want a fault at path with a remedy", path, err)
		}
	}
	for path, want := range map[string][2]string{"/trust": {"trust", ""}, "/trust/": {"trust", ""}, "/a-1/Säule/標本": {"a-1", "Säule/標本"}} {
		name, inside, err := Split("path", path)
		if err != nil || name != want[0] || inside != want[1] {
			t.Errorf("Split(%q) = %q, %q, %v", path, name, inside, err)
		}
	}
}

func TestTargets(t *testing.T) {
	for _, text := range []string{"", "fern", "fern/", "/x", "fern/herbarium/../x", "fern/a?b"} {
		if _, err := ParseTarget("to", text); fault.KindOf(err) != fault.Invalid {
			t.Errorf("ParseTarget(%q) = %v", text, err)
		}
	}
	parse := func(text string) Target {
		target, err := ParseTarget("to", text)
		if err != nil {
			t.Fatal(err)
		}
		return target
	}
	for _, test := range []struct {
		a, b string
		want bool
	}{
		{"fern/x", "fern/x", true}, {"fern/x", "Fern/X/sub", true}, {"fern/x/a", "fern/x/a/b", true},
		{"fern/x/a", "fern/x/ab", false}, {"fern/x", "heather/x", false}, {"fern/x/a", "fern/y/a", false},
	} {
		if got := parse(test.a).Overlaps(parse(test.b)); got != test.want {
			t.Errorf("%s overlaps %s: %v", test.a, test.b, got)
		}
	}
}

func FuzzSplit(f *testing.F) {
	f.Add("/trust/herbarium/2024")
	f.Add("/trust/../x")
	f.Fuzz(func(t *testing.T, path string) {
		name, inside, err := Split("path", path)
		if err != nil {
			return
		}
		if again, rest, err := Split("path", "/"+name+"/"+inside); err != nil || again != name || rest != inside {
			t.Fatalf("%q: %q, %q, %v", path, again, rest, err)
		}
	})
}

// A leg that is told from its other end leads the same ways.
func TestLegsOneWay(t *testing.T) {
	leg := Leg{From: "A", To: "B", Mbit: 100, RTT: 9, Cost: 10, BackMbit: 20, BackCost: 50}
	for _, l := range []Leg{leg, leg.Turned()} {
		n := NewNetwork([]Leg{l, {From: "B", To: "C", Mbit: 1, Cost: 5}})
		for ends, want := range map[[2]string]int{{"A", "B"}: 10, {"B", "A"}: 50, {"A", "C"}: 15, {"C", "A"}: 55, {"C", "B"}: 5} {
			if cost, ok := n.Cost(ends[0], ends[1]); !ok || cost != want {
				t.Errorf("%+v: from %s to %s costs %d, want %d", l, ends[0], ends[1], cost, want)
			}
		}
	}
	if again := leg.Turned().Turned(); again != leg {
		t.Errorf("turned twice: %+v", again)
	}
	if same := (Leg{From: "A", To: "B", Mbit: 7, Cost: 3}).Turned(); same != (Leg{From: "B", To: "A", Mbit: 7, Cost: 3}) {
		t.Errorf("the same both ways, turned: %+v", same)
	}
}

func TestBelow(t *testing.T) {
	for _, c := range []struct {
		folder, inside, below string
		ok                    bool
	}{{"", "a/b", "a/b", true}, {"", "", "", true}, {"a", "a", "", true}, {"a", "A/b", "b", true}, {"a/b", "a/B/c/d", "c/d", true}, {"a", "ab", "", false}, {"a", "b/a", "", false}, {"a/b", "a", "", false}, {"straße", "STRASSE", "", true}, {"aß", "a", "", false}} {
		if below, ok := Below(c.folder, c.inside); below != c.below || ok != c.ok {
			t.Errorf("%q below %q: %q, %v", c.inside, c.folder, below, ok)
		}
	}
}
