package changes

import (
	"fmt"
	"strings"
	"testing"
)

func TestWords(t *testing.T) {
	for _, c := range []struct{ what, before, after, want string }{
		{"nothing", `{"a":1,"version":1}`, `{"a":1,"version":2}`, ""},
		{"a text", `{"note":"old"}`, `{"note":"new"}`, `note: "old" → "new"`},
		{"put in and taken out", `{"b":true}`, `{"a":"x"}`, `a: nothing → "x"|b: true → nothing`},
		{"empty is nothing", `{"note":""}`, `{}`, ""},
		{"an object in it", `{"leg":{"cost":1,"mbit":2}}`, `{"leg":{"cost":5,"mbit":2}}`, "leg cost: 1 → 5"},
		{"plain lists", `{"onlyFor":["a"]}`, `{"onlyFor":["a","b"]}`, `onlyFor: ["a"] → ["a","b"]`},
		{"a location that is held", `{"locations":[{"id":1,"server":"oak","share":"s","sub":"x","state":"open"}]}`, `{"locations":[{"id":1,"server":"oak","share":"s","sub":"x","state":"held","since":"now"}]}`, `oak/s/x state: "open" → "held"`},
		{"locations that come and go", `{"locations":[{"server":"oak","share":"s"}]}`, `{"locations":[{"server":"elm","share":"s"}]}`, "locations: elm/s added|locations: oak/s removed"},
		{"the first of a list", `{}`, `{"locations":[{"server":"elm","share":"s"}]}`, "locations: elm/s added"},
		{"another kind of thing", `{"a":[1]}`, `{"a":{"b":1}}`, `a: [1] → {"b":1}`},
		{"no state", ``, `{"a":1}`, ""},
		{"no object", `[1]`, `{"a":1}`, ""},
		{"a long one", `{"note":""}`, `{"note":"` + strings.Repeat("ä", 300) + `"}`, `note: nothing → "` + strings.Repeat("ä", longest-1) + "…"},
	} {
		if got := strings.Join(Words([]byte(c.before), []byte(c.after)), "|"); got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
	many := "{"
	for i := range 60 {
		many += fmt.Sprintf(`"f%02d":1,`, i)
	}
	if got := Words([]byte(`{}`), []byte(many+`"z":1}`)); len(got) != mostWords+1 || got[mostWords] != "and 11 more" {
		t.Errorf("%d lines, the last %q", len(got), got[len(got)-1])
	}
}
