package naming

import (
	"context"
	"fmt"
	"strings"
	"time"

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
