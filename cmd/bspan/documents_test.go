package main

import (
	"strings"
	"testing"
)

func TestParseDocument(t *testing.T) {
	d, err := parseDocument("f.yaml", []byte("namespace: trust\nttl: 60\nentries:\n  - path: a/b\n    locations:\n      - to: fern/x\n        onlyFor: [Highmoor]\n"))
	if err != nil || d.Namespace != "trust" || d.TTL != 60 || d.Entries[0].Locations[0].OnlyFor[0] != "Highmoor" {
		t.Errorf("%+v, %v", d, err)
	}
	for text, want := range map[string]string{
		"":                                   "f.yaml is empty",
		"namespace: a\nentires: []\n":        `f.yaml: line 2: there is no field "entires" here`,
		"namespace: a\nentries:\n  - pth: b": `line 3: there is no field "pth" here`,
		"namespace: [":                       "line 1",
		"namespace: a\nttl: soon\n":          "line 2",
		"namespace: a\n---\nnamespace: b\n":  "more than one document",
	} {
		if _, err := parseDocument("f.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// However broken a document is, it is refused in words.
func FuzzParseDocument(f *testing.F) {
	f.Add([]byte("namespace: trust\nentries:\n  - path: a\n    locations: [{to: fern/x}]\n"))
	f.Add([]byte("a: &a [*a]\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if d, err := parseDocument("f", text); err == nil {
			_ = d.Check()
		}
	})
}
