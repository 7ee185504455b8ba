package naming

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/work"
)

// How often locations are looked at: quickly while something is wrong or
// changed, slowly when steady, each at a time of its own. So that very many do
// not keep their servers busy, those that are steady wait longer then.
const (
	findDue     = time.Second
	findRested  = 3 * time.Second // instead, while none is due
	lookSoon    = 2 * time.Second
	lookSteady  = time.Minute
	mostAtOnce  = 200 // looks in one findDue
	locateLease = "watch locations"
)

// WatchLocations looks at every location again and again, until ctx ends, so
// that people are led past those that cannot be used. Of several instances one
// does the work.
func (s *Service) WatchLocations(ctx context.Context, leases *work.Leases) {
	leases.Keep(ctx, locateLease, func(ctx context.Context) time.Duration {
		due, err := s.db.LocationsDue(ctx, time.Now().UTC(), mostAtOnce)
		if err == nil {
			_, err = s.lookAt(ctx, due, false)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("locations cannot be looked at", "error", err)
		}
		if len(due) == 0 {
			return findRested
		}
		return findDue
	})
}

// lookAt looks at locations, server by server side by side, and keeps what was
// found. At once means that a single look counts.
func (s *Service) lookAt(ctx context.Context, due []records.Watched, atOnce bool) ([]records.Watched, error) {
	byServer := map[string][]int{}
	for i, w := range due {
		byServer[w.Target.Server] = append(byServer[w.Target.Server], i)
	}
	var group guard.WaitGroup
	looks := make([]namespace.Look, len(due))
	for server, which := range byServer {
		group.Go(func() {
			targets := make([]namespace.Target, len(which))
			for k, i := range which {
				targets[k] = due[i].Target
			}
			found, err := s.lookAtServer(ctx, server, targets)
			for k, i := range which {
				if err != nil { // of ours: nothing was found out
					looks[i] = namespace.Look{Health: due[i].Health, Text: due[i].Text}
					continue
				}
				looks[i] = found[k]
			}
		})
	}
	_ = group.Wait()
	if ctx.Err() != nil {
		return due, ctx.Err()
	}
	return due, s.keepLooks(ctx, due, looks, atOnce)
}

func (s *Service) lookAtServer(ctx context.Context, server string, targets []namespace.Target) (looks []namespace.Look, err error) {
	err = guard.Do(func() { looks = s.estate.LookAt(ctx, server, targets) })
	return looks, err
}

// keepLooks keeps looks, and tells everybody when what counts changed. That a
// server is silent is kept with the server.
func (s *Service) keepLooks(ctx context.Context, due []records.Watched, looks []namespace.Look, atOnce bool) error {
	now := time.Now().UTC()
	var keep []records.Looked
	changed := map[string]bool{}   // namespaces
	shares := map[[2]string]bool{} // found missing, each with its server
	for i, look := range looks {
		w := &due[i]
		if look.Health == namespace.Silent {
			w.Health, w.Text = look.Health, look.Text
			continue
		}
		before := w.Health
		if atOnce {
			w.Health, w.Misses = look.Health, 0
		} else {
			w.Health, w.Misses = namespace.Judge(w.Health, w.Misses, look.Health)
		}
		l := records.Looked{Changed: w.Health != before, Due: now.Add(scattered(untilNext(*w)))}
		if l.Changed {
			w.Text = look.Text
			changed[w.Namespace] = true
			if w.Health == namespace.ShareMissing {
				shares[[2]string{w.Target.Server, w.Target.Share}] = true
			}
			tellChange(*w, before)
		}
		l.Watched = *w
		keep = append(keep, l)
	}
	err := s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.StoreLooks(ctx, keep, now); err != nil {
			return err
		}
		// A missing share is missing to all that lies in it.
		for share := range shares {
			if err := tx.LookSoonAt(ctx, share[0], share[1]); err != nil {
				return err
			}
		}
		for name := range changed {
			if err := tx.Tell(ctx, "health", "/"+name, now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil || len(changed) == 0 {
		return err
	}
	s.ForgetHealth()
	s.changed()
	return nil
}

// tellChange logs that a location changed; a first look that finds all well is no news.
func tellChange(w records.Watched, before namespace.Health) {
	if before != namespace.NotTried || w.Health.Failing() {
		slog.Info("a location changed", "path", "/"+w.Namespace+"/"+w.Path, "location", w.Target.String(), "was", before, "is", w.Health, "trouble", w.Text)
	}
}

// untilNext is how long a location waits for its next look.
func untilNext(w records.Watched) time.Duration {
	if w.Misses > 0 || w.Health.Failing() {
		return lookSoon
	}
	return lookSteady
}

// scattered is a time up to a fifth longer or shorter, so that looks that once
// fell together do not go on doing so.
func scattered(d time.Duration) time.Duration {
	return time.Duration(float64(d) * (0.8 + 0.4*rand.Float64()))
}

// Check looks at the locations of an entry and of everything below it now.
// inside is "" for a whole namespace.
func (s *Service) Check(ctx context.Context, name, inside string) ([]model.LocationCheck, error) {
	if err := namespace.CheckPath("path", inside); err != nil {
		return nil, err
	}
	if inside == "" {
		if _, err := s.db.Namespace(ctx, name); err != nil {
			return nil, err
		}
	} else if _, err := s.db.EntryAt(ctx, name, inside); err != nil {
		return nil, err
	}
	found, err := s.db.LocationsBelow(ctx, name, inside)
	if err == nil {
		found, err = s.lookAt(ctx, found, true)
	}
	list := []model.LocationCheck{}
	for _, w := range found {
		list = append(list, model.LocationCheck{Path: "/" + name + "/" + w.Path, Location: w.Target.String(), Health: w.Health, Text: w.Text})
	}
	return list, err
}

// Health lists how the locations of an entry were found over time, latest first.
func (s *Service) Health(ctx context.Context, name string, id int64) ([]model.HealthSpell, error) {
	e, err := s.db.Entry(ctx, name, id)
	if err != nil {
		return nil, err
	}
	spells, err := s.db.HealthOf(ctx, id, 500)
	list := []model.HealthSpell{}
	ends := map[int64]time.Time{}
	for _, p := range spells {
		l, err := locationOf(e, p.Location)
		if err != nil { // removed while we read
			continue
		}
		spell := model.HealthSpell{Location: l.Target().String(), Health: p.Health, Text: p.Text, From: p.At}
		if end, ok := ends[p.Location]; ok {
			spell.To = &end
		}
		ends[p.Location] = p.At
		list = append(list, spell)
	}
	return list, err
}

// LookSoon makes the locations of a signpost be looked at soon, because
// somebody found that one cannot be used.
func (s *Service) LookSoon(ctx context.Context, full string) {
	name, inside, err := namespace.Split("path", full)
	if err != nil {
		return
	}
	if err := s.db.Change(ctx, func(tx *records.Tx) error { return tx.LookSoon(ctx, name, inside) }); err != nil {
		slog.Warn("a signpost cannot be looked at soon", "path", full, "error", err)
	}
}
