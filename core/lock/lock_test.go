package lock

import (
	"slices"
	"strings"
	"testing"
)

func TestCovers(t *testing.T) {
	for _, c := range []struct {
		root   string
		deep   bool
		key    string
		covers bool
	}{
		{"/a", false, "/a", true}, {"/a", false, "/a/b", false}, {"/a", true, "/a/b/c", true}, {"/a", true, "/ab", false},
		{"/a/b", true, "/a", false}, {"/", true, "/a", true}, {"/", true, "/", true}, {"/", false, "/a", false}, {"/a/", true, "/a", false},
	} {
		if got := (Lock{Key: c.root, Deep: c.deep}).Covers(c.key); got != c.covers {
			t.Errorf("a lock on %s (deep %v) covers %s: %v", c.root, c.deep, c.key, got)
		}
	}
}

func TestConflict(t *testing.T) {
	for _, c := range []struct {
		what         string
		held         Lock
		key          string
		deep, shared bool
		conflict     bool
	}{
		{"the same", Lock{Key: "/a"}, "/a", false, false, true},
		{"beside it", Lock{Key: "/a"}, "/b", true, false, false},
		{"two shared", Lock{Key: "/a", Shared: true}, "/a", false, true, false},
		{"shared, then exclusive", Lock{Key: "/a", Shared: true}, "/a", false, false, true},
		{"exclusive, then shared", Lock{Key: "/a"}, "/a", false, true, true},
		{"below a deep one", Lock{Key: "/a", Deep: true}, "/a/b", false, false, true},
		{"below a shallow one", Lock{Key: "/a"}, "/a/b", false, false, false},
		{"deep above one", Lock{Key: "/a/b"}, "/a", true, false, true},
		{"shallow above one", Lock{Key: "/a/b"}, "/a", false, false, false},
		{"shared and deep above a shared one", Lock{Key: "/a/b", Shared: true}, "/a", true, true, false},
	} {
		if _, got := Conflict([]Lock{c.held}, c.key, c.deep, c.shared); got != c.conflict {
			t.Errorf("%s: conflict %v", c.what, got)
		}
	}
}

func TestBlocking(t *testing.T) {
	exclusive := Lock{Token: "x", Key: "/a/f", Account: "ada"}
	folder := Lock{Token: "d", Key: "/a", Account: "ada", Deep: true}
	one, two := Lock{Token: "1", Key: "/s", Account: "ada", Shared: true}, Lock{Token: "2", Key: "/s", Account: "ben", Shared: true}
	for _, c := range []struct {
		what    string
		held    []Lock
		account string
		tokens  string
		change  Change
		blocked string
	}{
		{"nothing held", nil, "ada", "", Change{Key: "/a/f"}, ""},
		{"without the token", []Lock{exclusive}, "ada", "", Change{Key: "/a/f"}, "x"},
		{"with it", []Lock{exclusive}, "ada", "x", Change{Key: "/a/f"}, ""},
		{"with it, in other case", []Lock{exclusive}, "ADA", "x", Change{Key: "/a/f"}, ""},
		{"somebody else's token", []Lock{exclusive}, "ben", "x", Change{Key: "/a/f"}, "x"},
		{"a wrong token", []Lock{exclusive}, "ada", "y", Change{Key: "/a/f"}, "x"},
		{"removing the folder above", []Lock{exclusive}, "ada", "", Change{Key: "/a", Deep: true}, "x"},
		{"changing the folder above alone", []Lock{exclusive}, "ada", "", Change{Key: "/a"}, ""},
		{"below a deep lock", []Lock{folder}, "ben", "", Change{Key: "/a/new"}, "d"},
		{"one of two shared", []Lock{one, two}, "ada", "1", Change{Key: "/s"}, ""},
		{"none of two shared", []Lock{one, two}, "cara", "1 2", Change{Key: "/s"}, "1"},
		{"somebody else's shared one", []Lock{one, two}, "ada", "2", Change{Key: "/s"}, "1"},
	} {
		got, blocked := Blocking(c.held, c.account, strings.Fields(c.tokens), c.change)
		if blocked != (c.blocked != "") || got.Token != c.blocked {
			t.Errorf("%s: blocked by %q, %v", c.what, got.Token, blocked)
		}
	}
}

// However locks are taken and refused, no two that exclude each other are held.
func TestNoTwoExclude(t *testing.T) {
	keys := []string{"/", "/a", "/a/b", "/a/b/c", "/a/d", "/e"}
	for seed := range uint32(2000) {
		var held []Lock
		state := seed*2654435761 + 1
		next := func(n int) int {
			state = state*1664525 + 1013904223
			return int(state>>16) % n
		}
		for range 8 {
			l := Lock{Key: keys[next(len(keys))], Deep: next(2) == 0, Shared: next(2) == 0}
			if _, conflict := Conflict(held, l.Key, l.Deep, l.Shared); !conflict {
				held = append(held, l)
			}
		}
		for i, a := range held {
			for _, b := range held[i+1:] {
				for _, key := range keys {
					if a.Covers(key) && b.Covers(key) && !(a.Shared && b.Shared) {
						t.Fatalf("seed %d: %+v and %+v both cover %s", seed, a, b, key)
					}
				}
			}
		}
	}
}

func TestAbove(t *testing.T) {
	for key, want := range map[string]string{"/": "/", "/a": "/ /a", "/a/b/c": "/ /a /a/b /a/b/c"} {
		if got := strings.Join(Above(key), " "); got != want {
			t.Errorf("above %s: %s", key, got)
		}
	}
}

func TestParseIf(t *testing.T) {
	const token = "urn:uuid:181d4fae-7d8c-11d0-a765-00a0c91e6bf2"
	for header, want := range map[string]If{
		"": nil,
		"(<" + token + `> ["I am an ETag"]) (["I am another ETag"])`: {{"", []Condition{{Token: token}, {ETag: `"I am an ETag"`}}}, {"", []Condition{{ETag: `"I am another ETag"`}}}},
		"(Not <" + token + "> <DAV:no-lock>)":                        {{"", []Condition{{Not: true, Token: token}, {Token: "DAV:no-lock"}}}},
		"</a> (<" + token + `> [W/"A weak ETag"]) (["strong"])`:      {{"/a", []Condition{{Token: token}, {ETag: `W/"A weak ETag"`}}}, {"/a", []Condition{{ETag: `"strong"`}}}},
		"</a>(<x:y>)</b>(not[\"z\"])":                                {{"/a", []Condition{{Token: "x:y"}}}, {"/b", []Condition{{Not: true, ETag: `"z"`}}}},
	} {
		got, err := ParseIf(header)
		if err != nil || !slices.EqualFunc(got, want, func(a, b List) bool { return a.Resource == b.Resource && slices.Equal(a.Conditions, b.Conditions) }) {
			t.Errorf("%s: %+v, %v", header, got, err)
		}
	}
	for _, bad := range []string{"x", "()", "(", "(<a:b>", "(<>)", "</a>", "</a> x", "(<a:b>) </c> (<d:e>)", "([x])", `(["x)`, "(Not)", "(Not Not <a:b>)", "(<a:b>))", strings.Repeat("(<a:b>)", 1001)} {
		if got, err := ParseIf(bad); err == nil {
			t.Errorf("%.40s is taken for %+v", bad, got)
		}
	}
}

func TestHolds(t *testing.T) {
	states := map[string]State{"": {`"e1"`, []string{"t1"}}, "/other": {ETag: `"e2"`}, "/none": {}}
	stateOf := func(resource string) (State, error) { return states[resource], nil }
	for header, want := range map[string]bool{
		"": true, "(<t1>)": true, "(<t2>)": false, "(Not <t2>)": true, "(Not <t1>)": false, `(["e1"])`: true, `(["e2"])`: false, `(<t1> ["e1"])`: true, `(<t1> ["e2"])`: false,
		`(<t2>) (["e1"])`: true, `(<t1> ["wrong"]) (Not <DAV:no-lock> ["e1"])`: true, `(<t1> ["wrong"]) (Not <DAV:no-lock> ["wrong"])`: false,
		`</other> (["e2"])`: true, `</other> (<t1>)`: false, `</none> (["e2"])`: false, `</none> (Not ["e2"])`: true, `</other> (<t1>) </none> (Not <t1>)`: true,
	} {
		h, err := ParseIf(header)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := h.Holds(stateOf); err != nil || got != want {
			t.Errorf("%s holds: %v, %v", header, got, err)
		}
	}
}

func FuzzParseIf(f *testing.F) {
	f.Add(`</a> (<urn:x> ["e"]) (Not <DAV:no-lock>)`)
	f.Fuzz(func(t *testing.T, header string) {
		h, err := ParseIf(header)
		if err != nil {
			return
		}
		if len(h.Resources()) != len(h) || len(h.Tokens()) > mostConditions {
			t.Errorf("%q gives %d resources, %d tokens", header, len(h.Resources()), len(h.Tokens()))
		}
		for _, l := range h {
			if len(l.Conditions) == 0 {
				t.Errorf("%q has an empty list", header)
			}
		}
	})
}
