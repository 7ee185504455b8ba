package account

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"bridgespan/core/fault"
)

// Rule says which accounts of two places are those of the same people: one of
// each, or with the name "*" at both all that are called the same.
type Rule struct {
	One, Other PlacedName
}

// PlacedName is an account as a rule names it.
type PlacedName struct {
	Place string // name of the server, as Bridge Span calls it, or of the domain
	Name  string // without the place; "*" for all
}

func (p PlacedName) String() string { return p.Place + `\` + p.Name }

func (r Rule) String() string { return r.One.String() + " = " + r.Other.String() }

// All are the accounts of a place, whatever they are called.
const All = "*"

// ParseRule reads a rule such as `fern\curators = heather\keepers` or
// `fern\* = heather\*`. field is where it was written, for the fault.
func ParseRule(field, text string) (Rule, error) {
	one, other, ok := strings.Cut(text, "=")
	r := Rule{placedName(one), placedName(other)}
	switch {
	case !ok || r.One.Name == "" || r.Other.Name == "":
		return r, fault.Field(field, `write it as fern\curators = heather\keepers, or fern\* = heather\* for all that are called the same`, `"%s" is no rule about accounts of two servers`, text)
	case EqualNames(r.One.Place, r.Other.Place):
		return r, fault.Field(field, "name two servers", `"%s" is about accounts of one server`, text)
	case (r.One.Name == All) != (r.Other.Name == All):
		return r, fault.Field(field, `write \* on both sides, or one account on each`, `"%s" makes several accounts one`, text)
	}
	return r, nil
}

func placedName(text string) PlacedName {
	place, name, _ := strings.Cut(strings.TrimSpace(text), `\`)
	if place == "" {
		return PlacedName{}
	}
	return PlacedName{place, strings.TrimSpace(name)}
}

// Home is a server or a domain with its own accounts, by name.
type Home struct {
	Name     string
	Accounts map[string]SID
}

func (p *Home) find(name string) (SID, bool) {
	if sid, ok := p.Accounts[name]; ok {
		return sid, true
	}
	for other, sid := range p.Accounts {
		if EqualNames(other, name) {
			return sid, true
		}
	}
	return SID{}, false
}

// Pairing is which accounts of two places are those of the same people, each at
// most once.
type Pairing struct {
	Pairs map[SID]SID // from the first place to the second
	// Lacking are the accounts that rules name and that are not there.
	Lacking []string
	// Clashing are rules that say of an account what another one denies: the
	// earlier one counts.
	Clashing []string
}

// Pair finds out what rules say of two servers: of the accounts of each itself and
// of its domain. A rule is read both ways; one about single accounts goes before
// those about all, whatever their order.
func Pair(rules []Rule, first, second []Home) Pairing {
	p := Pairing{Pairs: map[SID]SID{}}
	taken := map[SID]bool{}
	single := func(r Rule) int {
		if r.One.Name == All {
			return 1
		}
		return 0
	}
	for _, r := range slices.SortedStableFunc(slices.Values(rules), func(a, b Rule) int { return cmp.Compare(single(a), single(b)) }) {
		one, other := homeOf(first, r.One), homeOf(second, r.Other)
		if one == nil || other == nil {
			r.One, r.Other = r.Other, r.One
			one, other = homeOf(first, r.One), homeOf(second, r.Other)
		}
		if one == nil || other == nil {
			continue
		}
		if r.One.Name == All {
			p.sameNames(one, other, taken)
			continue
		}
		a, here := one.find(r.One.Name)
		b, there := other.find(r.Other.Name)
		switch {
		case !here:
			p.Lacking = append(p.Lacking, r.One.String())
		case !there:
			p.Lacking = append(p.Lacking, r.Other.String())
		case a == b, p.Pairs[a] == b:
		case !p.Pairs[a].IsZero() || taken[b]:
			p.Clashing = append(p.Clashing, r.String())
		default:
			p.Pairs[a], taken[b] = b, true
		}
	}
	return p
}

func homeOf(homes []Home, name PlacedName) *Home {
	i := slices.IndexFunc(homes, func(h Home) bool { return EqualNames(h.Name, name.Place) })
	if i < 0 {
		return nil
	}
	return &homes[i]
}

// sameNames pairs the accounts that are called the same and have no pair yet.
func (p *Pairing) sameNames(first, second *Home, taken map[SID]bool) {
	for _, name := range slices.Sorted(maps.Keys(first.Accounts)) {
		a := first.Accounts[name]
		b, there := second.find(name)
		if there && a != b && p.Pairs[a].IsZero() && !taken[b] {
			p.Pairs[a], taken[b] = b, true
		}
	}
}

// Swap turns accounts of the first place into their pairs and the other way
// round; others stay as they are. It is its own inverse, so that nothing is lost
// on the way there and back: an account of the second place that is met at the
// first counts for nobody there, and for nobody at the second.
func (p *Pairing) Swap() func(SID) SID { return Swap(p.Pairs) }

// Swap turns accounts into their pairs, both ways.
func Swap(pairs map[SID]SID) func(SID) SID {
	both := make(map[SID]SID, 2*len(pairs))
	for a, b := range pairs {
		both[a], both[b] = b, a
	}
	return func(s SID) SID {
		if other, ok := both[s]; ok {
			return other
		}
		return s
	}
}
