package front

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/namespace"
)

// at is a location at a site; people reach its server by its own name.
func at(server, site string, state namespace.State) namespace.Location {
	return namespace.Location{Server: server, Share: "s", Site: site, State: state, Rank: namespace.Normal, Weight: 1, Listens: namespace.Listener{Server: server, People: server}}
}

func signpost(path string, locations ...namespace.Location) namespace.Entry {
	return namespace.Entry{Path: path, Kind: namespace.Signpost, Locations: locations}
}

var network = namespace.NewNetwork([]namespace.Leg{{From: "low", To: "high", Cost: 10, Mbit: 100}, {From: "high", To: "isle", Cost: 90, Mbit: 2}})

// The order of a front is that of its site; where nothing can be written comes later, failing ones
// come last or not at all, and those that are held or that clients cannot be led to never.
func TestOrder(t *testing.T) {
	open, failing := namespace.Open, namespace.Failing
	readOnly := at("low-ro", "low", open)
	readOnly.Health = namespace.ReadOnly
	mover := at("low-mover", "low", open)
	mover.Listens.People, mover.Listens.Unled = "", "no file service runs there"
	others := at("low-others", "low", open)
	others.OnlyFor = []string{"isle"}
	for name, c := range map[string]struct {
		settings  Settings
		locations []namespace.Location
		want      string
	}{
		"the nearest first":        {Settings{Site: "high"}, []namespace.Location{at("low", "low", open), at("isle", "isle", open), at("high", "high", open)}, "high low isle"},
		"as seen from elsewhere":   {Settings{Site: "isle"}, []namespace.Location{at("low", "low", open), at("isle", "isle", open), at("high", "high", open)}, "isle high low"},
		"held ones are left out":   {Settings{Site: "low"}, []namespace.Location{at("low", "low", namespace.Held), at("high", "high", open)}, "high"},
		"failing ones come last":   {Settings{Site: "low"}, []namespace.Location{at("low", "low", failing), at("isle", "isle", open)}, "isle low"},
		"or not at all":            {Settings{Site: "low", LeaveOutFailing: true}, []namespace.Location{at("low", "low", failing), at("isle", "isle", open)}, "isle"},
		"unless all fail":          {Settings{Site: "low", LeaveOutFailing: true}, []namespace.Location{at("isle", "isle", failing), at("low", "low", failing)}, "low isle"},
		"writable before the near": {Settings{Site: "low"}, []namespace.Location{readOnly, at("isle", "isle", open)}, "isle low-ro"},
		"no file service":          {Settings{Site: "low"}, []namespace.Location{mover, at("isle", "isle", open)}, "isle"},
		"for people elsewhere":     {Settings{Site: "low"}, []namespace.Location{others}, ""},
	} {
		var got []string
		for _, d := range Order(c.locations, network, c.settings) {
			if d.Usable {
				got = append(got, d.Server)
			}
			if d.Reason == "" {
				t.Errorf("%s: %s has no reason", name, d.Server)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
}

func TestEntries(t *testing.T) {
	deep := at("one", "low", namespace.Open)
	deep.Sub = "a/b"
	comma := at("one", "low", namespace.Open)
	comma.Share = "a,b"
	tree := namespace.NewTree("n", []namespace.Entry{{Path: "f", Kind: namespace.Folder}, signpost("f/deep", deep), signpost("held", at("one", "low", namespace.Held)), signpost("comma", comma), {Path: "f/g", Kind: namespace.Folder}, signpost("none")})
	entries, left := Entries(tree, network, Settings{Site: "low"})
	if got := fmt.Sprint(entries); got != `[{f []} {f/deep [one\s\a\b]} {f/g []}]` {
		t.Errorf("entries %s", got)
	}
	var paths []string
	for _, l := range left {
		paths = append(paths, l.Path)
		if l.Why == "" {
			t.Errorf("%s is left out for no reason", l.Path)
		}
	}
	if strings.Join(paths, " ") != "/n/comma /n/held /n/none" {
		t.Errorf("left out are %v", paths)
	}
	if entries, _ := Entries(tree, network, Settings{Site: "low", Branch: "f"}); fmt.Sprint(entries) != `[{deep [one\s\a\b]} {g []}]` {
		t.Errorf("a branch: %v", entries)
	}
	for _, branch := range []string{"nowhere", "held"} {
		if entries, _ := Entries(tree, network, Settings{Branch: branch}); len(entries) > 0 {
			t.Errorf("%s: %v", branch, entries)
		}
	}
}

// Changes can be done one after the other, whatever the two states are, and lead from one to the other.
func TestChanges(t *testing.T) {
	random := rand.New(rand.NewPCG(3, uint64(time.Now().UnixNano())))
	draw := func() (list []Entry) {
		kinds := map[string]bool{} // whether it is a folder
		for range random.IntN(12) {
			path := ""
			for depth := range 1 + random.IntN(3) {
				name := string(rune('a' + random.IntN(3)))
				if depth > 0 {
					if folder, known := kinds[path]; known && !folder {
						break
					}
					if !kinds[path] {
						kinds[path] = true
						list = append(list, Entry{Path: path})
					}
					path += "/"
				}
				path += name
			}
			if _, known := kinds[path]; !known {
				kinds[path] = false
				list = append(list, Entry{path, []string{fmt.Sprint("s", random.IntN(3), `\x`)}})
			}
		}
		return list
	}
	for range 3000 {
		have, want := draw(), draw()
		is := map[string]Entry{}
		for _, e := range have {
			is[e.Path] = e
		}
		for _, c := range Changes(have, want) {
			if why := apply(is, c); why != "" {
				t.Fatalf("from %v to %v: %+v: %s", have, want, c, why)
			}
		}
		if len(is) != len(want) {
			t.Fatalf("from %v to %v comes %v", have, want, is)
		}
		for _, e := range want {
			if got := is[e.Path]; !slices.Equal(got.To, e.To) {
				t.Fatalf("from %v to %v: %s is %v", have, want, e.Path, got)
			}
		}
	}
	if list := Changes([]Entry{{Path: "a"}}, []Entry{{Path: "a"}}); len(list) != 0 {
		t.Errorf("nothing changes: %v", list)
	}
}

// apply does a change as a file system would, and says why it cannot.
func apply(is map[string]Entry, c Change) string {
	was, there := is[c.Path]
	if i := strings.LastIndex(c.Path, "/"); i >= 0 {
		if parent, ok := is[c.Path[:i]]; !ok || parent.Link() {
			return "its folder is not there"
		}
	}
	if c.Gone {
		for other := range is {
			if strings.HasPrefix(other, c.Path+"/") {
				return "it is not empty"
			}
		}
		if delete(is, c.Path); !there {
			return "it is not there"
		}
		return ""
	}
	if there && was.Link() != c.Link() {
		return "something else is there"
	}
	is[c.Path] = c.Entry
	return ""
}

func TestCheckHost(t *testing.T) {
	for name, right := range map[string]bool{"fern": true, "fern.example.org": true, "fern.example.org.": true, "127.0.0.11": true, "a_b": true, "": false, "-a": false, "a b": false, "a..b": false, "::1": false, `a\b`: false, "a,b": false, strings.Repeat("a.", 130): false, strings.Repeat("a", 64): false} {
		if err := CheckHost("name", name); (err == nil) != right {
			t.Errorf("%q: %v", name, err)
		}
	}
}

func ExampleChanges() {
	have := []Entry{{Path: "herbarium", To: []string{`fern\herbarium`}}}
	want := []Entry{{Path: "collections"}, {Path: "collections/herbarium", To: []string{`yarrow\herbarium`, `fern\herbarium`}}}
	for _, c := range Changes(have, want) {
		fmt.Println(c.Path, c.To, c.Gone)
	}
	// Output:
	// collections [] false
	// collections/herbarium [yarrow\herbarium fern\herbarium] false
	// herbarium [] true
}
