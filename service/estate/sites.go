package estate

import (
	"context"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// Sites lists sites.
func (s *Service) Sites(ctx context.Context, page records.Page) ([]model.Site, error) {
	return s.db.Sites(ctx, page)
}

// Site finds a site.
func (s *Service) Site(ctx context.Context, name string) (model.Site, error) {
	return s.db.Site(ctx, name)
}

// AddSite adds a site.
func (s *Service) AddSite(ctx context.Context, site model.Site) error {
	if err := checkSite(site); err != nil {
		return err
	}
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.AddSite(ctx, site); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "site.add", site.Name, nil, site), "site")
	})
}

// EditSite changes name and note. site.Version is what the caller last read.
func (s *Service) EditSite(ctx context.Context, former string, site model.Site) error {
	if err := checkSite(site); err != nil {
		return err
	}
	return s.change(ctx, func(tx *records.Tx) error {
		before, err := tx.Site(ctx, former)
		if err != nil {
			return err
		}
		if err := tx.UpdateSite(ctx, former, site); err != nil {
			return tx.Since(ctx, err, former, site.Version)
		}
		return tx.Record(ctx, access.Change(ctx, "site.edit", site.Name, before, site), "site")
	})
}

// RemoveSite removes a site at which no server stands, and its legs.
func (s *Service) RemoveSite(ctx context.Context, name string, version int64) error {
	return s.change(ctx, func(tx *records.Tx) error {
		site, err := tx.Site(ctx, name)
		if err != nil {
			return err
		}
		before := site
		site.Version = version
		if err := tx.RemoveSite(ctx, site); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "site.remove", site.Name, before, nil), "site")
	})
}

// Legs lists the legs between sites.
func (s *Service) Legs(ctx context.Context) ([]namespace.Leg, error) { return s.db.Legs(ctx) }

// Leg finds the leg between two sites.
func (s *Service) Leg(ctx context.Context, from, to string) (namespace.Leg, error) {
	return s.db.Leg(ctx, from, to)
}

// SetLeg adds the leg between two sites when leg.Version is 0, or changes the
// one that the caller last read at that version.
func (s *Service) SetLeg(ctx context.Context, leg namespace.Leg) error {
	if namespace.Key(leg.From) == namespace.Key(leg.To) {
		return fault.Field("to", "name two different sites", "a leg cannot lead from %s to itself", leg.From)
	}
	return s.change(ctx, func(tx *records.Tx) error {
		for field, name := range map[string]*string{"from": &leg.From, "to": &leg.To} {
			site, err := tx.Site(ctx, *name)
			if err != nil {
				return at(field, err)
			}
			*name = site.Name
		}
		before, err := tx.Leg(ctx, leg.From, leg.To)
		switch {
		case fault.KindOf(err) == fault.NotFound && leg.Version == 0:
			if err := tx.AddLeg(ctx, leg); err != nil {
				return err
			}
			return tx.Record(ctx, access.Change(ctx, "leg.add", leg.From+" – "+leg.To, nil, leg), "site")
		case err != nil:
			return err
		case leg.Version == 0:
			return fault.New(fault.Stale, "read it first and send its ETag", "%s and %s are linked already", leg.From, leg.To)
		}
		if err := tx.UpdateLeg(ctx, leg); err != nil {
			return tx.Since(ctx, err, before.From+" – "+before.To, leg.Version)
		}
		return tx.Record(ctx, access.Change(ctx, "leg.edit", before.From+" – "+before.To, before, leg), "site")
	})
}

// RemoveLeg removes the leg between two sites. version is what the caller last read.
func (s *Service) RemoveLeg(ctx context.Context, from, to string, version int64) error {
	return s.change(ctx, func(tx *records.Tx) error {
		leg, err := tx.Leg(ctx, from, to)
		if err != nil {
			return err
		}
		before := leg
		leg.Version = version
		if err := tx.RemoveLeg(ctx, leg); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "leg.remove", leg.From+" – "+leg.To, before, nil), "site")
	})
}

func checkSite(site model.Site) error {
	if err := namespace.CheckElement("name", site.Name); err != nil {
		return err
	}
	return checkNote(site.Note)
}

// at blames a field of the input for a fault about what it names.
func at(field string, err error) error {
	if e, ok := err.(*fault.Error); ok && e.Kind == fault.NotFound {
		return fault.Field(field, e.Remedy, "%s", e.Problem)
	}
	return err
}

func checkNote(note string) error {
	if len(note) > 1000 {
		return fault.Field("note", "shorten it", "the note has %d bytes, at most 1000 are allowed", len(note))
	}
	return nil
}
