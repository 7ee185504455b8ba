package paths

import "testing"

func TestRelation(t *testing.T) {
	for _, c := range []struct{ a, b, want string }{
		{"", "", "the same as"}, {"a/b", "a/b", "the same as"}, {"a/b", "a", "inside"}, {"a", "", "inside"},
		{"a", "a/b", "around"}, {"", "a", "around"}, {"ab", "a", ""}, {"a", "ab", ""}, {"a/b", "a/c", ""},
	} {
		if got := Relation(c.a, c.b); got != c.want {
			t.Errorf("%q to %q is %q, want %q", c.a, c.b, got, c.want)
		}
	}
}
