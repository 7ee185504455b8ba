package paths

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"testing"
)

func walk(names ...string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for _, name := range names {
			var err error
			if name == "broken" {
				err = errors.New("broken")
			}
			if !yield(name, err) {
				return
			}
		}
	}
}

func ExamplePairs() {
	for p, err := range Pairs(walk(".", "a", "a/x", "a b"), walk(".", "a", "a/y"), func(s string) string { return s }) {
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(p.Path, p.First != nil, p.Second != nil)
	}
	// Output:
	// . true true
	// a true true
	// a/x true false
	// a/y false true
	// a b true false
}

func TestOrder(t *testing.T) {
	want := []string{".", "a", "a/b", "a/b/c", "a/b c", "a b", "a-b/x", "b"}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, Order)
	if strings.Join(got, " ") != strings.Join(want, " ") {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestPairsEndWithAnError(t *testing.T) {
	for _, sides := range [][2]iter.Seq2[string, error]{{walk("a", "broken", "c"), walk("a", "b")}, {walk("a", "b"), walk("a", "broken")}} {
		var last error
		n := 0
		for _, err := range Pairs(sides[0], sides[1], func(s string) string { return s }) {
			n++
			last = err
		}
		if last == nil || n != 2 {
			t.Errorf("%d pairs, then %v", n, last)
		}
	}
}
