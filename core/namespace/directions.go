package namespace

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
)

// Traveller is who asks for directions, and from where.
type Traveller struct {
	Site   string // "" when not known
	Person string // account name; "" when not known
}

// Direction is one location in the order in which it is to be tried.
type Direction struct {
	Location
	// Cost is the leg cost from the traveller's site; absent when not known.
	Cost *int `json:"cost,omitempty" doc:"Leg cost from the site that asks; absent when no way is known"`
	// Usable is false when people are not led here now.
	Usable bool   `json:"usable" doc:"Whether people are led here now"`
	Reason string `json:"reason" doc:"Why it stands where it stands, in words"`
}

// Order puts the locations of a signpost in the order in which a traveller is
// to try them: open before failing before held, nearer sites first by leg
// cost, then rank, then a choice among equals that is stable for each person.
func Order(locations []Location, who Traveller, network *Network) []Direction {
	directions := make([]Direction, len(locations))
	for i, l := range locations {
		d := Direction{Location: l, Usable: l.State == Open}
		if cost, ok := network.Cost(who.Site, l.Site); ok && who.Site != "" {
			d.Cost = &cost
		}
		directions[i] = d
	}
	slices.SortStableFunc(directions, func(a, b Direction) int { return compare(a, b, who) })
	for i := range directions {
		tie := i > 0 && sameStanding(directions[i-1], directions[i])
		directions[i].Reason = reason(directions[i], who, tie)
	}
	return directions
}

func compare(a, b Direction, who Traveller) int {
	if c := compareStanding(a, b); c != 0 {
		return c
	}
	return cmp.Or(cmp.Compare(draw(who.Person, a.Target()), draw(who.Person, b.Target())), cmp.Compare(a.ID, b.ID))
}

func compareStanding(a, b Direction) int {
	return cmp.Or(
		cmp.Compare(stateOrder(a.State), stateOrder(b.State)),
		compareCost(a.Cost, b.Cost),
		cmp.Compare(slices.Index(rankOrder, a.Rank), slices.Index(rankOrder, b.Rank)))
}

func sameStanding(a, b Direction) bool { return compareStanding(a, b) == 0 }

func stateOrder(s State) int { return slices.Index([]State{Open, Failing, Held}, s) }

// compareCost puts a known cost before an unknown one.
func compareCost(a, b *int) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return 1
	case b == nil:
		return -1
	}
	return cmp.Compare(*a, *b)
}

// draw spreads people over equal locations: each person meets the same one
// every time, and losing one location moves only the people who were on it
// (rendezvous hashing).
func draw(person string, target Target) uint64 {
	if person == "" {
		return 0
	}
	sum := sha256.Sum256([]byte(Key(person) + "\x00" + Key(target.String())))
	return binary.BigEndian.Uint64(sum[:])
}

func reason(d Direction, who Traveller, tie bool) string {
	switch d.State {
	case Held:
		return "held: " + cmp.Or(d.Why, "by hand")
	case Failing:
		return "failing: " + cmp.Or(d.Why, "does not answer")
	}
	text := nearness(d, who)
	if d.Rank != Normal {
		text += fmt.Sprintf(", rank %s", d.Rank)
	}
	if !tie {
		return text
	}
	if who.Person != "" {
		return text + ", equal with the one before; the order is " + who.Person + "'s own and stays"
	}
	return text + ", equal with the one before"
}

func nearness(d Direction, who Traveller) string {
	switch {
	case who.Site == "":
		return "open; no site given, so by rank alone"
	case d.Site == who.Site:
		return "same site"
	case d.Cost == nil:
		return fmt.Sprintf("%s, to which no leg leads from %s", d.Site, who.Site)
	}
	return fmt.Sprintf("%s, behind leg cost %d", d.Site, *d.Cost)
}
