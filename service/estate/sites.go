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
			return err
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

// SetLeg adds or changes the leg between two sites.
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
		if err := tx.SetLeg(ctx, leg); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "leg.set", leg.From+" – "+leg.To, nil, leg), "site")
	})
}

// RemoveLeg removes the leg between two sites.
func (s *Service) RemoveLeg(ctx context.Context, from, to string) error {
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.RemoveLeg(ctx, from, to); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "leg.remove", from+" – "+to, map[string]string{"from": from, "to": to}, nil), "site")
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
