package naming

import (
	"context"
	"fmt"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// Verdict is what a verification found about a location.
type Verdict struct {
	Namespace       string
	Entry, Location int64
	Run             int64
	Who             string
	Differences     int64 // that nothing explains
}

// found differences is why a location stays held.
const foundDifferences = namespace.DifferencesFound

// Verified keeps what a verification found. A location that is held because it
// was not verified opens when nothing differs, and otherwise says what does; one
// that was held by hand, or is open, only learns of it. It reports whether the
// location was opened.
func (s *Service) Verified(ctx context.Context, v Verdict) (opened bool, err error) {
	err = s.change(ctx, func(tx *records.Tx) error {
		opened = false
		if err := tx.LockNamespace(ctx, v.Namespace); err != nil {
			return err
		}
		before, err := tx.Entry(ctx, v.Namespace, v.Entry)
		if err != nil {
			return err
		}
		l, err := locationOf(before, v.Location)
		if err != nil {
			return err
		}
		waits := l.SetWhy == NotVerified || strings.HasPrefix(l.SetWhy, foundDifferences)
		switch {
		case v.Differences > 0 && (waits || l.SetWhy == unverified):
			noun := "differences"
			if v.Differences == 1 {
				noun = "difference"
			}
			l.SetWhy = fmt.Sprintf("%s%d %s (run %d)", foundDifferences, v.Differences, noun, v.Run)
		case v.Differences == 0 && waits && l.Set == namespace.Held:
			l.Set, l.SetWhy, opened = namespace.Open, "", true
		case v.Differences == 0 && (waits || l.SetWhy == unverified):
			l.SetWhy = ""
		}
		if err := tx.UpdateLocation(ctx, l); err != nil {
			return err
		}
		at := time.Now().UTC()
		if err := tx.SetVerified(ctx, l.ID, v.Run, at, v.Differences == 0); err != nil {
			return err
		}
		if err := tx.TouchEntry(ctx, before); err != nil {
			return err
		}
		after, err := tx.Entry(ctx, v.Namespace, v.Entry)
		if err != nil {
			return err
		}
		return tx.Record(ctx, model.Change{At: at, Who: v.Who, Action: "location.verify", Subject: "/" + v.Namespace + "/" + before.Path, Before: before, After: after}, "namespace")
	})
	return opened, err
}

// OpenVerified opens the locations that lead to a place that was found to hold
// what a known one holds, where they were held for that, and returns the paths of
// their signposts. Only signposts that lead to the known place as well count.
func (s *Service) OpenVerified(ctx context.Context, known, verified namespace.Target, run int64, who string) (opened []string, err error) {
	led, err := s.db.EntriesLedTo(ctx, verified.Server, verified.Share)
	if err != nil {
		return nil, err
	}
	for _, e := range led {
		here, there := locationAt(e.Locations, verified), locationAt(e.Locations, known)
		if here == nil || there == nil {
			continue
		}
		ok, err := s.Verified(ctx, Verdict{Namespace: e.Namespace, Entry: e.ID, Location: here.ID, Run: run, Who: who})
		if err != nil {
			return opened, err
		}
		if ok {
			opened = append(opened, "/"+e.Namespace+"/"+e.Path)
		}
	}
	return opened, nil
}

// Publish makes a signpost lead to places: it is made where it is missing, and
// leads to the first at once; to further ones when they were verified.
func (s *Service) Publish(ctx context.Context, path string, targets []namespace.Target) error {
	name, below, err := namespace.Split("publish", path)
	if err != nil {
		return err
	}
	var locations []NewLocation
	for _, t := range targets {
		locations = append(locations, NewLocation{Target: t})
	}
	e, err := s.EntryAt(ctx, name, below)
	if fault.KindOf(err) == fault.NotFound {
		_, err = s.AddEntry(ctx, name, namespace.Entry{Path: below, Kind: namespace.Signpost}, locations)
		return err
	}
	for _, l := range locations {
		if err != nil {
			return err
		}
		if locationAt(e.Locations, l.Target) != nil {
			continue
		}
		if err = s.AddLocation(ctx, name, e.ID, e.Version, l); err == nil {
			e, err = s.Entry(ctx, name, e.ID)
		}
	}
	return err
}

func locationAt(locations []namespace.Location, t namespace.Target) *namespace.Location {
	for i := range locations {
		if l := locations[i].Target(); namespace.Key(l.String()) == namespace.Key(t.String()) {
			return &locations[i]
		}
	}
	return nil
}
