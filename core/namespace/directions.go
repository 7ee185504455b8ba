package namespace

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strings"
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
	Usable bool `json:"usable" doc:"Whether people are led here now"`
	// ForOthers is true when it is only for people at other sites.
	ForOthers bool   `json:"forOthers,omitempty" doc:"Whether it is only for people at other sites"`
	Reason    string `json:"reason" doc:"Why it stands where it stands, in words"`
}

// Order puts the locations of a signpost in the order in which a traveller is
// to try them: open before failing before held before those for others, nearer
// sites first by leg cost, then rank, then a choice among equals that is stable
// for each person and follows the weights.
func Order(locations []Location, who Traveller, network *Network) []Direction {
	directions := make([]Direction, len(locations))
	for i := range locations {
		d, l := &directions[i], &locations[i]
		others := !l.isFor(who.Site)
		d.Location, d.Usable, d.ForOthers = *l, l.State == Open && !others, others
		if cost, ok := network.Cost(who.Site, l.Site); ok && who.Site != "" {
			d.Cost = &cost
		}
	}
	if !slices.IsSortedFunc(directions, func(a, b Direction) int { return compare(&a, &b, who) }) {
		slices.SortStableFunc(directions, func(a, b Direction) int { return compare(&a, &b, who) })
	}
	for i := range directions {
		tie := i > 0 && compareStanding(&directions[i-1], &directions[i]) == 0
		directions[i].Reason = reason(&directions[i], who, tie)
	}
	return directions
}

// isFor reports whether people of a site are led to the location.
func (l *Location) isFor(site string) bool {
	return len(l.OnlyFor) == 0 || slices.ContainsFunc(l.OnlyFor, func(s string) bool { return Key(s) == Key(site) })
}

func compare(a, b *Direction, who Traveller) int {
	if c := compareStanding(a, b); c != 0 {
		return c
	}
	return cmp.Or(cmp.Compare(draw(who.Person, &a.Location), draw(who.Person, &b.Location)), cmp.Compare(a.ID, b.ID))
}

func compareStanding(a, b *Direction) int {
	return cmp.Or(
		cmp.Compare(stateOrder(a), stateOrder(b)),
		compareCost(a.Cost, b.Cost),
		cmp.Compare(slices.Index(rankOrder, a.Rank), slices.Index(rankOrder, b.Rank)))
}

func stateOrder(d *Direction) int {
	switch {
	case d.ForOthers:
		return 3
	case d.State == Open:
		return 0
	case d.State == Failing:
		return 1
	}
	return 2
}

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

// draw spreads people over equal locations by their weights: each person meets
// the same one every time, and losing one location moves only the people who
// were on it (weighted rendezvous hashing: the least of -ln(u)/weight, u drawn
// from person and location). Nobody in particular is led by weight alone.
func draw(person string, l *Location) float64 {
	weight := float64(max(l.Weight, 1))
	if person == "" {
		return -weight
	}
	sum := sha256.Sum256([]byte(Key(person) + "\x00" + Key(l.Target().String())))
	u := (float64(binary.BigEndian.Uint64(sum[:])>>11) + 0.5) / (1 << 53)
	return -math.Log(u) / weight
}

func reason(d *Direction, who Traveller, tie bool) string {
	switch {
	case d.ForOthers:
		return "only for people at " + strings.Join(d.OnlyFor, ", ")
	case d.State == Held:
		return "held: " + cmp.Or(d.Why, "by hand")
	case d.State == Failing:
		since := ""
		if d.Since != nil {
			since = " since " + d.Since.UTC().Format("2 Jan 15:04 UTC")
		}
		return "failing" + since + ": " + cmp.Or(d.Why, "does not answer")
	}
	text := nearness(d, who)
	if d.Rank != Normal {
		text += fmt.Sprintf(", rank %s", d.Rank)
	}
	if tie && who.Person != "" {
		text += ", equal with the one before; the order is " + who.Person + "'s own and stays"
	} else if tie {
		text += ", equal with the one before"
	}
	if d.Why != "" {
		text += "; " + d.Why
	}
	if d.Health == ReadOnly || d.Health == Refused {
		text += "; " + d.Health.Words()
	}
	return text
}

func nearness(d *Direction, who Traveller) string {
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
