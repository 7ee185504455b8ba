package namespace

import (
	"strings"
	"testing"

	"bridgespan/core/fault"
)

func signpost(path string, to ...string) Entry {
	e := Entry{Path: path, Kind: Signpost}
	for i, t := range to {
		target, _ := ParseTarget("", t)
		e.Locations = append(e.Locations, Location{ID: int64(i + 1), Server: target.Server, Share: target.Share, Sub: target.Sub, Set: Open, State: Open, Rank: Normal, Weight: 1})
	}
	return e
}

func leads(path string, to ...string) DocumentEntry {
	e := DocumentEntry{Path: path}
	for _, t := range to {
		e.Locations = append(e.Locations, DocumentLocation{To: t})
	}
	return e
}

func TestDifference(t *testing.T) {
	held := signpost("a", "one/x", "two/x")
	held.Locations[1].Set, held.Locations[1].SetWhy = Held, "stocktaking"
	for name, c := range map[string]struct {
		have []Entry
		want []DocumentEntry
		text string
	}{
		"nothing":                  {nil, nil, ""},
		"the same":                 {[]Entry{{Path: "f", Kind: Folder}, signpost("f/a", "one/x")}, []DocumentEntry{leads("f/a", "One/X")}, ""},
		"add":                      {nil, []DocumentEntry{leads("f"), leads("f/a", "one/x", "two/x")}, "add the folder f|add the signpost f/a, which leads to one/x, two/x (held until verified)"},
		"remove, deepest first":    {[]Entry{{Path: "f", Kind: Folder}, {Path: "f/g", Kind: Folder}, signpost("f/g/a", "one/x")}, nil, "remove the signpost f/g/a, which leads to one/x|remove the folder f/g|remove the folder f"},
		"move":                     {[]Entry{{Path: "f", Kind: Folder}, signpost("f/a", "one/x", "two/x")}, []DocumentEntry{leads("g/b", "two/x", "one/x")}, "move f/a to g/b|remove the folder f"},
		"move and change":          {[]Entry{signpost("a", "one/x")}, []DocumentEntry{{Path: "b", Note: "new", Locations: []DocumentLocation{{To: "one/x"}}}}, `move a to b|change b: note "new" instead of ""`},
		"not a move: it stays too": {[]Entry{signpost("a", "one/x")}, []DocumentEntry{leads("a", "one/x"), leads("b", "one/x")}, "add the signpost b, which leads to one/x"},
		"not a move: which one":    {[]Entry{signpost("a", "one/x"), signpost("b", "one/x")}, []DocumentEntry{leads("c", "one/x")}, "remove the signpost a, which leads to one/x|remove the signpost b, which leads to one/x|add the signpost c, which leads to one/x"},
		"another kind":             {[]Entry{signpost("a", "one/x")}, []DocumentEntry{leads("a"), leads("a/b", "two/y")}, "remove the signpost a, which leads to one/x|add the folder a|add the signpost a/b, which leads to two/y"},
		"locations":                {[]Entry{signpost("a", "one/x", "two/x")}, []DocumentEntry{leads("a", "one/x", "three/x")}, "change a: remove two/x; add three/x, held until verified"},
		"in another case":          {[]Entry{signpost("a", "one/x")}, []DocumentEntry{leads("A", "one/x")}, "change A: write it A"},
		"left held":                {[]Entry{held}, []DocumentEntry{leads("a", "one/x", "two/x")}, ""},
		"opened":                   {[]Entry{held}, []DocumentEntry{{Path: "a", Locations: []DocumentLocation{{To: "one/x"}, {To: "two/x", State: Open}}}}, "change a: two/x open"},
		"held for another reason":  {[]Entry{held}, []DocumentEntry{{Path: "a", Locations: []DocumentLocation{{To: "one/x"}, {To: "two/x", State: Held, Why: "moving"}}}}, "change a: two/x held: moving"},
		"rank, weight and sites":   {[]Entry{signpost("a", "one/x")}, []DocumentEntry{{Path: "a", TTL: 9, Locations: []DocumentLocation{{To: "one/x", Rank: Last, Weight: 4, OnlyFor: []string{"Near"}}}}}, "change a: ttl 9 s instead of 0 s; one/x rank last instead of normal, weight 4 instead of 1, for people at Near"},
	} {
		d := Document{Namespace: "n", Entries: c.want}
		if err := d.Check(); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var got []string
		for _, s := range Difference(c.have, d) {
			got = append(got, s.Text)
		}
		if strings.Join(got, "|") != c.text {
			t.Errorf("%s:\n%s, want\n%s", name, strings.Join(got, "|"), c.text)
		}
		// What is exported and wanted again changes nothing.
		same := Export(Document{Namespace: "n"}, c.have, func(Location) bool { return false })
		if err := same.Check(); err != nil {
			t.Errorf("%s: exported: %v", name, err)
		}
		if steps := Difference(c.have, same); len(steps) != 0 {
			t.Errorf("%s: exported and applied again: %+v", name, steps)
		}
	}
}

func TestMalformedDocuments(t *testing.T) {
	for field, d := range map[string]Document{
		"namespace":                     {Namespace: "A B"},
		"returns":                       {Namespace: "n", Returns: "never"},
		"entries[0].path":               {Namespace: "n", Entries: []DocumentEntry{{Path: "/"}}},
		"entries[1].path":               {Namespace: "n", Entries: []DocumentEntry{leads("a"), leads("A")}},
		"entries[2].path":               {Namespace: "n", Entries: []DocumentEntry{leads("a", "one/x"), leads("b"), leads("a/b", "one/y")}},
		"entries[0].ttl":                {Namespace: "n", Entries: []DocumentEntry{{Path: "a", TTL: 5}}},
		"entries[0].note":               {Namespace: "n", Entries: []DocumentEntry{{Path: "a", Note: strings.Repeat("x", 1001)}}},
		"entries[0].locations[0].to":    {Namespace: "n", Entries: []DocumentEntry{leads("a", "one")}},
		"entries[0].locations[1].to":    {Namespace: "n", Entries: []DocumentEntry{leads("a", "one/x", "one/x/sub")}},
		"entries[0].locations[0].rank":  {Namespace: "n", Entries: []DocumentEntry{{Path: "a", Locations: []DocumentLocation{{To: "one/x", Rank: "best"}}}}},
		"entries[0].locations[0].why":   {Namespace: "n", Entries: []DocumentEntry{{Path: "a", Locations: []DocumentLocation{{To: "one/x", Why: "so"}}}}},
		"entries[0].locations[0].state": {Namespace: "n", Entries: []DocumentEntry{{Path: "a", Locations: []DocumentLocation{{To: "one/x", State: Failing}}}}},
	} {
		err := d.Check()
		if fault.KindOf(err) != fault.Invalid || !strings.HasPrefix(err.Error(), field+": ") {
			t.Errorf("%s: %v", field, err)
		}
	}
}

func TestLetters(t *testing.T) {
	with := func(path, letter string) DocumentEntry {
		return DocumentEntry{Path: path, Letter: letter, Locations: []DocumentLocation{{To: "one/" + path}}}
	}
	have := func(path, letter string) Entry {
		return Entry{Path: path, Kind: Signpost, Letter: letter, Locations: []Location{{Server: "one", Share: path, Set: Open, Rank: Normal, Weight: 1}}}
	}
	is := []Entry{have("a", "H"), have("b", "I"), have("c", "")}
	for _, c := range []struct {
		want  []DocumentEntry
		taken string
		steps int
	}{
		{[]DocumentEntry{with("a", ""), with("b", ""), with("c", "")}, "", 0},
		{[]DocumentEntry{with("a", "I"), with("b", "H"), with("c", "")}, "a b", 2},
		{[]DocumentEntry{with("a", ""), with("b", ""), with("c", "H")}, "a", 2},
		{[]DocumentEntry{with("a", "H"), with("b", "I"), with("c", "Z")}, "", 1},
	} {
		d := Document{Namespace: "n", Entries: c.want}
		if err := d.Check(); err != nil {
			t.Fatal(err)
		}
		var taken []string
		for _, e := range LettersTaken(is, d) {
			taken = append(taken, e.Path)
		}
		if steps := Difference(is, d); strings.Join(taken, " ") != c.taken || len(steps) != c.steps {
			t.Errorf("%+v: taken from %v, steps %+v", c.want, taken, steps)
		}
	}
	for _, bad := range [][]DocumentEntry{{with("a", "D")}, {with("a", "HH")}, {with("a", "h")}, {with("a", "H"), with("b", "H")}, {{Path: "a", Letter: "H"}}} {
		d := Document{Namespace: "n", Entries: bad}
		if err := d.Check(); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}
