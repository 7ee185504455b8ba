// Package lens shows a namespace as somebody sees it: where each signpost leads
// them from where they stand, and what they may do there.
package lens

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
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
// "" for either leaves it open, and without an account nobody's rights are asked.
func (s *Service) Look(ctx context.Context, name, from, as string) ([]model.Seen, error) {
	entries, err := s.naming.Entries(ctx, name, records.All)
	if err != nil {
		return nil, err
	}
	entries = slices.DeleteFunc(entries, func(e namespace.Entry) bool { return e.Kind != namespace.Signpost })
	if as != "" && len(entries) > mostSignposts {
		return nil, fault.Field("namespace", "ask about fewer at a time", "%s has %d signposts, at most %d can be opened for one look", name, len(entries), mostSignposts)
	}
	seen := make([]model.Seen, len(entries))
	errs := make([]error, len(entries))
	var group sync.WaitGroup
	limit := make(chan struct{}, atOnce)
	for i, e := range entries {
		group.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			seen[i], errs[i] = s.one(ctx, e, "/"+name+"/"+e.Path, namespace.Traveller{Site: from, Person: as})
		})
	}
	group.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return seen, nil
}

func (s *Service) one(ctx context.Context, e namespace.Entry, full string, who namespace.Traveller) (model.Seen, error) {
	seen := model.Seen{Entry: e.ID, Path: full, Letter: e.Letter}
	d, err := s.naming.Where(ctx, full, who)
	if err != nil {
		return seen, err
	}
	i := slices.IndexFunc(d.Directions, func(d namespace.Direction) bool { return d.Usable })
	if i < 0 {
		seen.Closed = "it leads nowhere now"
		return seen, nil
	}
	first := d.Directions[i]
	seen.Location, seen.Reason, seen.First = first.Target().String(), first.Reason, &first
	if who.Person == "" {
		return seen, nil
	}
	may, err := s.rights.As(ctx, seen.Location, who.Person)
	switch kind := fault.KindOf(err); {
	case kind == fault.Invalid: // the account is not known there
		seen.Closed = fmt.Sprintf("%s does not know %s", first.Server, who.Person)
	case kind == fault.Unavailable || kind == fault.Forbidden:
		seen.Closed = "what they may do cannot be told now: " + err.Error()
	case err != nil:
		return seen, err
	case may.Level == acl.None:
		seen.Closed = who.Person + " may not open it"
	default:
		seen.Level = may.Level
	}
	return seen, nil
}
