package replica

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
)

func vector(t testing.TB, text string) Vector {
	t.Helper()
	v, err := ParseVector(text)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func ExampleVector() {
	v := Vector{}.Advance(1).Advance(1)
	w := Vector{}.Advance(2)
	fmt.Println(v, "and", w, "are", v.Compare(w))
	fmt.Println(v.Join(w), "is", v.Join(w).Compare(w), w)
	// Output:
	// 1:2 and 2:1 are concurrent
	// 1:2 2:1 is after 2:1
}

func TestVectors(t *testing.T) {
	for _, c := range []struct {
		v, w string
		want Order
		join string
	}{
		{"", "", Equal, ""},
		{"1:1", "", After, "1:1"},
		{"", "7:1", Before, "7:1"},
		{"1:1", "1:2", Before, "1:2"},
		{"1:1 2:1", "1:1", After, "1:1 2:1"},
		{"1:2", "2:1", Concurrent, "1:2 2:1"},
		{"1:2 3:1", "1:1 2:4 3:1", Concurrent, "1:2 2:4 3:1"},
	} {
		v, w := vector(t, c.v), vector(t, c.w)
		if got := v.Compare(w); got != c.want {
			t.Errorf("%q is %v %q, want %v", c.v, got, c.w, c.want)
		}
		if got := v.Join(w).String(); got != c.join {
			t.Errorf("%q with %q: %q", c.v, c.w, got)
		}
		if v.Advance(2).Compare(v) != After || v.String() != c.v {
			t.Errorf("%q advances to %q", c.v, v.Advance(2))
		}
	}
	for _, bad := range []string{"1", "1:0", "2:1 1:1", "1:1 1:1", "a:1", "1:1  2:1", " 1:1", "1:-1"} {
		if v, err := ParseVector(bad); err == nil {
			t.Errorf("%q is read as %q", bad, v)
		}
	}
}

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// file is a record of a file whose content is a letter, changed at a minute past noon.
func file(t testing.TB, version string, letter byte, minute int, by ID) Record {
	at := noon.Add(time.Duration(minute) * time.Minute)
	return Record{Key: "a", Content: Content{Version: vector(t, version), Kind: File, Name: "a", Size: 1, Digest: chunk.Digest{letter}, Modified: at, Changed: at, By: by}}
}

func TestDecide(t *testing.T) {
	gone := func(version string, minute int, by ID) Record {
		return Record{Key: "a", Content: Content{Version: vector(t, version), Name: "a", Changed: noon.Add(time.Duration(minute) * time.Minute), By: by}}
	}
	folder := func(version string) Record {
		return Record{Key: "a", Content: Content{Version: vector(t, version), Kind: Folder, Name: "a", Changed: noon}}
	}
	f := func(version string, letter byte, minute int, by ID) Record {
		return file(t, version, letter, minute, by)
	}
	for name, c := range map[string]struct {
		from, to        Record
		want            Step
		conflict, spare bool
		version         string
	}{
		"a new file":                      {f("1:1", 'x', 0, 1), Record{}, Take, false, false, "1:1"},
		"the same":                        {f("1:1", 'x', 0, 1), f("1:1", 'x', 0, 1), Nothing, false, false, "1:1"},
		"an edit":                         {f("1:2", 'y', 0, 1), f("1:1", 'x', 0, 1), Take, false, false, "1:2"},
		"an old version":                  {f("1:1", 'x', 0, 1), f("1:2", 'y', 0, 1), Nothing, false, false, "1:2"},
		"a removal":                       {gone("1:2", 5, 1), f("1:1", 'x', 0, 1), Take, false, true, "1:2"},
		"a removal here":                  {f("1:1", 'x', 0, 1), gone("1:1 2:1", 5, 2), Nothing, false, false, "1:1 2:1"},
		"made again":                      {f("1:3", 'x', 0, 1), gone("1:2", 5, 1), Take, false, false, "1:3"},
		"two edits, the later comes":      {f("1:2", 'y', 9, 1), f("1:1 2:1", 'z', 3, 2), Take, true, true, "1:2 2:1"},
		"two edits, the later is here":    {f("1:2", 'y', 3, 1), f("1:1 2:1", 'z', 9, 2), Keep, true, false, "1:1 2:1"},
		"two edits in one moment":         {f("1:2", 'y', 3, 1), f("1:1 2:1", 'z', 3, 2), Take, true, true, "1:2 2:1"},
		"two edits, the same":             {f("1:2", 'y', 3, 1), f("1:1 2:1", 'y', 3, 2), Adopt, false, false, "1:2 2:1"},
		"two edits, at other times":       {f("1:2", 'y', 9, 1), f("1:1 2:1", 'y', 3, 2), Take, true, false, "1:2 2:1"},
		"an edit beats a removal here":    {f("1:2", 'y', 3, 1), gone("1:1 2:1", 9, 2), Take, true, false, "1:2 2:1"},
		"an edit here beats a removal":    {gone("1:2", 9, 1), f("1:1 2:1", 'y', 3, 2), Keep, true, false, "1:1 2:1"},
		"a folder beats a file":           {folder("1:1"), f("2:1", 'y', 9, 2), Take, true, true, "1:1 2:1"},
		"a file does not beat a folder":   {f("2:1", 'y', 9, 2), folder("1:1"), Keep, true, false, "1:1"},
		"a file that became a folder":     {folder("1:2"), f("1:1", 'y', 0, 1), Take, false, true, "1:2"},
		"removed at both":                 {gone("1:2", 3, 1), gone("1:1 2:1", 9, 2), Adopt, false, false, "1:2 2:1"},
		"first fill: the same":            {f("1:1", 'x', 0, 1), f("", 'x', 0, 2), Adopt, false, false, "1:1"},
		"first fill: the same, other day": {f("1:1", 'x', 0, 1), f("", 'x', 9, 2), Take, false, false, "1:1"},
		"first fill: another":             {f("1:1", 'x', 0, 1), f("", 'y', 9, 2), Take, false, true, "1:1"},
		"first fill: extra":               {Record{}, f("", 'y', 9, 2), Take, false, true, ""},
		"first fill: a folder":            {folder("1:1"), folder(""), Adopt, false, false, "1:1"},
		"first fill: a folder, file here": {folder("1:1"), f("", 'y', 9, 2), Take, false, true, "1:1"},
		"not yet filled":                  {f("", 'y', 9, 2), Record{}, Nothing, false, false, ""},
	} {
		v := Decide(&c.from, &c.to)
		if v.Content != c.want || v.Conflict != c.conflict || v.Spare != c.spare || c.want != Nothing && v.ContentVersion.String() != c.version {
			t.Errorf("%s: %v %q, conflict %v, spare %v", name, v.Content, v.ContentVersion, v.Conflict, v.Spare)
		}
	}
}

func TestDecidePermissions(t *testing.T) {
	with := func(version, who string, minute int, by ID) Record {
		r := file(t, "1:1", 'x', 0, 1)
		d, err := acl.Parse("O:BAG:BAD:(A;;FA;;;" + map[string]string{"a": "BA", "b": "BU", "c": "BG"}[who] + ")")
		if err != nil {
			t.Fatal(err)
		}
		r.Permissions = Permissions{Version: vector(t, version), Descriptor: d, Changed: noon.Add(time.Duration(minute) * time.Minute), By: by}
		return r
	}
	for name, c := range map[string]struct {
		from, to Record
		want     Step
		version  string
	}{
		"the same":       {with("1:1", "a", 0, 1), with("1:1", "a", 0, 1), Nothing, "1:1"},
		"granted":        {with("1:2", "b", 0, 1), with("1:1", "a", 0, 1), Take, "1:2"},
		"both, later":    {with("1:2", "b", 5, 1), with("1:1 2:1", "c", 1, 2), Take, "1:2 2:1"},
		"both, earlier":  {with("1:2", "b", 1, 1), with("1:1 2:1", "c", 5, 2), Keep, "1:1 2:1"},
		"both, the same": {with("1:2", "b", 1, 1), with("1:1 2:1", "b", 5, 2), Adopt, "1:2 2:1"},
	} {
		v := Decide(&c.from, &c.to)
		if v.Content != Nothing || v.Permissions != c.want || v.PermissionsVersion.String() != c.version {
			t.Errorf("%s: %v, %v %q", name, v.Content, v.Permissions, v.PermissionsVersion)
		}
	}
}

// In whatever order conflicts are met, all replicas end with the same.
func TestDecideAgrees(t *testing.T) {
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 1))
		replicas := make([]Record, 2+random.IntN(3))
		for i := range replicas {
			replicas[i].Key = "a"
		}
		take := func(from, to int) bool {
			v := Decide(&replicas[from], &replicas[to])
			switch v.Content {
			case Take:
				replicas[to].Content = replicas[from].Content
				fallthrough
			case Adopt:
				replicas[to].Version = v.ContentVersion
			}
			return v.Content == Take || v.Content == Adopt
		}
		for range 12 {
			i, j := random.IntN(len(replicas)), random.IntN(len(replicas))
			if random.IntN(2) == 0 && i != j {
				take(i, j)
				continue
			}
			version := replicas[i].Version.Advance(ID(i + 1))
			at := noon.Add(time.Duration(random.IntN(4)) * time.Minute) // clocks are wrong
			replicas[i].Content = Content{Version: version, Kind: Kind(random.IntN(3)), Name: "a", Changed: at, By: ID(i + 1)}
			if replicas[i].Kind == File {
				replicas[i].Digest, replicas[i].Size, replicas[i].Modified = chunk.Digest{byte(1 + random.IntN(3))}, 1, at
			}
		}
		for round := 0; ; round++ {
			busy := false
			for i := range replicas {
				for j := range replicas {
					busy = i != j && take(i, j) || busy
				}
			}
			if !busy {
				break
			}
			if round > 20 {
				t.Fatalf("seed %d: no end: %+v", seed, replicas)
			}
		}
		for _, r := range replicas[1:] {
			if !r.Content.Same(&replicas[0].Content) || r.Version.Compare(replicas[0].Version) != Equal {
				t.Fatalf("seed %d: %+v", seed, replicas)
			}
		}
	}
}

func FuzzParseVector(f *testing.F) {
	f.Add("1:5 3:2")
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		if v, err := ParseVector(text); err == nil && v.String() != text {
			t.Errorf("%q is read as %q", text, v)
		}
	})
}
