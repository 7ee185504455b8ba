package gateway

import (
	"slices"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/naming"
)

// mostStays bounds for how many people and signposts it is remembered.
const mostStays = 20000

// stays remembers where people were led in namespaces whose people come back to
// a preferred location later: until their directions run out, they stay where
// they are, so that a location that comes and goes does not move them to and fro.
type stays struct{ places *lru.Cache[stayKey, stay] }

type stayKey struct{ account, signpost string }

type stay struct {
	target namespace.Target
	until  time.Time
}

func newStays() stays {
	places, err := lru.New[stayKey, stay](mostStays)
	if err != nil { // a bound that is no number of things; ours is one
		panic(err)
	}
	return stays{places}
}

// arrange puts the location where somebody stays before the others, while it
// can be used.
func (s stays) arrange(account string, d model.Directions, now time.Time) []namespace.Direction {
	if d.Returns != naming.Later {
		return d.Directions
	}
	at, ok := s.places.Get(stayKey{account, d.Signpost})
	if !ok || now.After(at.until) {
		return d.Directions
	}
	i := slices.IndexFunc(d.Directions, func(d namespace.Direction) bool { return d.Usable && d.Target() == at.target })
	if i <= 0 {
		return d.Directions
	}
	list := slices.Clone(d.Directions)
	first := list[i]
	return slices.Insert(slices.Delete(list, i, i+1), 0, first)
}

// led remembers where somebody was led, from the first time on for as long as
// directions may be kept.
func (s stays) led(account string, d model.Directions, target namespace.Target, now time.Time) {
	key := stayKey{account, d.Signpost}
	if at, ok := s.places.Get(key); d.Returns != naming.Later || ok && at.target == target && now.Before(at.until) {
		return
	}
	s.places.Add(key, stay{target, now.Add(time.Duration(d.TTL) * time.Second)})
}
