package naming

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// NewLocation is a location to be added.
type NewLocation struct {
	Target  namespace.Target
	Rank    namespace.Rank
	Weight  int      // 0 for 1
	OnlyFor []string // sites
	// OpenNow leads people there at once although nothing verified that it
	// holds what the others hold.
	OpenNow bool
}

// NotVerified is why a further location of a signpost is held at first: an
// empty or stale copy must not meet people before somebody looked at it.
const NotVerified = namespace.WaitsForVerification

// unverified marks a location that was opened all the same.
const unverified = namespace.OpenedUnverified

func checkOverlap(old, added namespace.Target) error {
	if !old.Overlaps(added) {
		return nil
	}
	if namespace.Key(old.Sub) == namespace.Key(added.Sub) {
		return fault.Field("locations", "leave it as it is", "%s is a location of this signpost already", added)
	}
	return fault.Field("locations", "choose a folder outside of it", "%s and %s lie one inside the other, so that people would meet the same files twice", old, added)
}

// tryTargets opens every location and takes over the server's own spelling.
func (s *Service) tryTargets(ctx context.Context, locations []NewLocation) error {
	for i := range locations {
		l := &locations[i]
		if err := namespace.CheckPath("locations", l.Target.Sub); err != nil {
			return err
		}
		if l.Rank == "" {
			l.Rank = namespace.Normal
		}
		target, err := s.estate.TryLocation(ctx, "locations", l.Target)
		if err != nil {
			return err
		}
		l.Target = target
	}
	return nil
}

func (l NewLocation) location(further bool) namespace.Location {
	location := namespace.Location{Server: l.Target.Server, Share: l.Target.Share, Sub: l.Target.Sub, Rank: l.Rank, Weight: l.Weight, OnlyFor: l.OnlyFor, Set: namespace.Open}
	switch {
	case further && !l.OpenNow:
		location.Set, location.SetWhy = namespace.Held, NotVerified
	case further:
		location.SetWhy = unverified
	}
	return location
}

// AddLocation adds a location to a signpost. A further one is held until it is
// verified, unless it is opened at once.
func (s *Service) AddLocation(ctx context.Context, name string, id, version int64, l NewLocation) error {
	tried := []NewLocation{l}
	if err := s.tryTargets(ctx, tried); err != nil {
		return err
	}
	l = tried[0]
	return s.changeEntry(ctx, name, id, version, "location.add", func(tx *records.Tx, e *namespace.Entry) error {
		if e.Kind != namespace.Signpost {
			return fault.New(fault.Invalid, "add a signpost below it", "/%s/%s is a folder and leads nowhere itself", name, e.Path)
		}
		for _, old := range e.Locations {
			if err := checkOverlap(old.Target(), l.Target); err != nil {
				return err
			}
		}
		return tx.AddLocation(ctx, e.ID, l.location(len(e.Locations) > 0))
	})
}

// EditLocation opens or holds a location, or changes rank, weight or sites;
// what is "" or nil stays.
func (s *Service) EditLocation(ctx context.Context, name string, id, version, location int64, change model.EditLocation) error {
	return s.changeEntry(ctx, name, id, version, "location.edit", func(tx *records.Tx, e *namespace.Entry) error {
		l, err := locationOf(*e, location)
		if err != nil {
			return err
		}
		if change.Rank != "" {
			l.Rank = change.Rank
		}
		if change.Weight != nil {
			l.Weight = *change.Weight
		}
		if change.OnlyFor != nil {
			l.OnlyFor = *change.OnlyFor
		}
		switch {
		case change.State == namespace.Open && l.Set == namespace.Held:
			why := ""
			if l.SetWhy == NotVerified {
				why = unverified
			}
			l.Set, l.SetWhy = namespace.Open, why
		case change.State == namespace.Held:
			l.Set, l.SetWhy = namespace.Held, strings.TrimSpace(change.Why)
			if len(l.SetWhy) > 255 {
				return fault.Field("why", "shorten it", "the reason has %d bytes, at most 255 are allowed", len(l.SetWhy))
			}
		}
		return tx.UpdateLocation(ctx, l)
	})
}

// RemoveLocation removes a location; no file is touched. The last one stays:
// a signpost must lead somewhere.
func (s *Service) RemoveLocation(ctx context.Context, name string, id, version, location int64) error {
	return s.changeEntry(ctx, name, id, version, "location.remove", func(tx *records.Tx, e *namespace.Entry) error {
		l, err := locationOf(*e, location)
		if err != nil {
			return err
		}
		if len(e.Locations) == 1 {
			return fault.New(fault.Needed, "add another first, or remove the entry", "%s is the only location of /%s/%s", l.Target(), name, e.Path)
		}
		return tx.RemoveLocation(ctx, l)
	})
}

func locationOf(e namespace.Entry, id int64) (namespace.Location, error) {
	i := slices.IndexFunc(e.Locations, func(l namespace.Location) bool { return l.ID == id })
	if i < 0 {
		return namespace.Location{}, fault.New(fault.NotFound, "read the entry again", "/%s has no location number %s", e.Path, fmt.Sprint(id))
	}
	return e.Locations[i], nil
}
