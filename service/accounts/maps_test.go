package accounts

import (
	"slices"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/model"
)

func TestTidyMap(t *testing.T) {
	for name, c := range map[string]struct {
		m     model.AccountMap
		rules []string
		field string
	}{
		"written in one form": {model.AccountMap{Name: "trees", Rules: []string{` oak\* =elm\*`, `GROVE\ada=elm\ada`}}, []string{`oak\* = elm\*`, `GROVE\ada = elm\ada`}, ""},
		"no name":             {model.AccountMap{Rules: []string{`oak\* = elm\*`}}, nil, "name"},
		"a name with a slash": {model.AccountMap{Name: "a/b", Rules: []string{`oak\* = elm\*`}}, nil, "name"},
		"no rules":            {model.AccountMap{Name: "trees"}, nil, "rules"},
		"a rule that is none": {model.AccountMap{Name: "trees", Rules: []string{`oak\* = elm\*`, "oak"}}, nil, "rules[1]"},
		"a long note":         {model.AccountMap{Name: "trees", Note: strings.Repeat("n", 1001), Rules: []string{`oak\* = elm\*`}}, nil, "note"},
	} {
		err := tidyMap(&c.m)
		if c.field == "" {
			if err != nil || !slices.Equal(c.m.Rules, c.rules) {
				t.Errorf("%s: %v, %v", name, c.m.Rules, err)
			}
			continue
		}
		if f, ok := err.(*fault.Error); !ok || f.Field != c.field {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Pairs come in the order of names, whatever their numbers.
func TestPairsAreSorted(t *testing.T) {
	a, b, c := account.MustSID("S-1-5-21-1-1-1-9"), account.MustSID("S-1-5-21-1-1-1-5"), account.MustSID("S-1-5-21-1-1-1-7")
	p := &Paired{Pairing: account.Pairing{Pairs: map[account.SID]account.SID{a: b, b: c, c: a}}, ofOne: map[account.SID]string{a: `oak\ada`, b: `oak\cy`, c: `oak\ben`}}
	var firsts []account.SID
	for _, pair := range p.sorted() {
		firsts = append(firsts, pair[0])
		if p.Pairs[pair[0]] != pair[1] {
			t.Errorf("%v is no pair", pair)
		}
	}
	if !slices.Equal(firsts, []account.SID{a, c, b}) {
		t.Errorf("the order is %v", firsts)
	}
}

// Members of a group that nobody can tell are not taken for none.
func TestMembersAt(t *testing.T) {
	s, at, _ := known()
	m := s.membersAt(at)
	defer m.close()
	if list, known, err := m.of(t.Context(), account.MustSID("S-1-5-21-9-9-9-1")); known || err != nil || len(list) != 0 {
		t.Errorf("%v, %v, %v", list, known, err)
	}
}
