// Package lens shows a namespace as somebody sees it: where each signpost leads
// them from where they stand, and what they may do there.
package lens

import (
	"cmp"
	"context"
	"errors"
	"path"
	"slices"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/naming"
	"bridgespan/service/rights"
)

// Service is the use case.
type Service struct {
	naming *naming.Service
	rights *rights.Service
}

// New makes the service.
func New(n *naming.Service, r *rights.Service) *Service { return &Service{n, r} }

// mostSignposts bounds how many signposts are opened for one look.
const mostSignposts = 2000

// atOnce is how many signposts are opened at a time.
const atOnce = 6

// Look shows every signpost of a namespace as an account sees it from a site;
// "" for either leaves it open, and without an account nobody's rights are asked. They come
// through a front, or through the gateway when it is nil.
func (s *Service) Look(ctx context.Context, name, from, as string, through *model.Front) ([]model.Seen, error) {
	where := func(full string) (model.Directions, error) {
		if through != nil {
			return s.naming.Through(ctx, full, through.Settings(), false)
		}
		return s.naming.Where(ctx, full, namespace.Traveller{Site: from, Person: as})
	}
	entries, err := s.naming.Entries(ctx, name, records.All)
	if err != nil {
		return nil, err
	}
	entries = slices.DeleteFunc(entries, func(e namespace.Entry) bool { return e.Kind != namespace.Signpost })
	if as != "" && len(entries) > mostSignposts {
		return nil, fault.Field("namespace", "ask about fewer at a time", "%s has %d signposts, at most %d can be opened for one look", name, len(entries), mostSignposts)
	}
	seen := make([]model.Seen, len(entries))
	unknown := make([]error, len(entries))
	var group guard.Group
	group.SetLimit(atOnce)
	for i, e := range entries {
		group.Go(func() (err error) {
			seen[i], unknown[i], err = s.one(ctx, e, "/"+name+"/"+e.Path, as, where)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return seen, nobody(seen, unknown)
}

// nobody is the fault of an account that no server knew which was asked.
func nobody(seen []model.Seen, unknown []error) error {
	var last error
	for i := range seen {
		if unknown[i] == nil && seen[i].Location != "" {
			return nil
		}
		last = cmp.Or(unknown[i], last)
	}
	return last
}

// one looks at a signpost. unknown is why its server does not know the account.
func (s *Service) one(ctx context.Context, e namespace.Entry, full, as string, where func(full string) (model.Directions, error)) (seen model.Seen, unknown, err error) {
	seen = model.Seen{Entry: e.ID, Path: full, Letter: e.Letter}
	d, err := where(full)
	if err != nil {
		return seen, nil, err
	}
	i := slices.IndexFunc(d.Directions, func(d namespace.Direction) bool { return d.Usable })
	if i < 0 {
		seen.Closed = "it leads nowhere now"
		return seen, nil, nil
	}
	first := d.Directions[i]
	seen.Location, seen.Reason, seen.First = first.Target().String(), first.Reason, &first
	if as == "" {
		return seen, nil, nil
	}
	may, err := s.rights.AsSignpost(ctx, seen.Location, as)
	var refused *fault.Error
	switch {
	case errors.As(err, &refused):
		// One signpost that cannot be asked about must not hide the others.
		seen.Closed = refused.Problem
		if refused.Field == "as" {
			unknown = err
		}
	case err != nil:
		return seen, nil, err
	case may.Level == acl.None:
		seen.Closed = as + " may not open it"
	default:
		seen.Level = may.Level
	}
	return seen, unknown, nil
}

// MayThere adds to directions what their account may do where they lead first.
// Directions are given whether or not the file server can tell.
func (s *Service) MayThere(ctx context.Context, d *model.Directions) {
	i := slices.IndexFunc(d.Directions, func(d namespace.Direction) bool { return d.Usable })
	if i < 0 || d.As == "" {
		return
	}
	may, err := s.rights.As(ctx, path.Join(d.Directions[i].Target().String(), d.Rest), d.As)
	var refused *fault.Error
	switch {
	case err == nil:
		d.May = &may
	case errors.As(err, &refused):
		d.MayTrouble = refused.Problem
	default:
		d.MayTrouble = "the file server cannot be asked"
	}
}
