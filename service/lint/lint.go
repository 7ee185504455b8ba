// Package lint finds what people will stumble over in a namespace, and mends
// what can be mended at once.
package lint

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/naming"
	"bridgespan/service/rights"
	"bridgespan/service/surveys"
	"bridgespan/service/verify"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	naming  *naming.Service
	rights  *rights.Service
	surveys *surveys.Service
	verify  *verify.Service
}

// New makes the service.
func New(db *records.DB, n *naming.Service, r *rights.Service, s *surveys.Service, v *verify.Service) *Service {
	return &Service{db, n, r, s, v}
}

// mostOpened bounds how many signposts are opened to see who may come in.
const mostOpened = 200

// Lint finds the flaws of a namespace. Deep also asks the file servers whether
// anybody may open what the signposts lead to.
func (s *Service) Lint(ctx context.Context, name string, deep bool) ([]namespace.Flaw, error) {
	entries, err := s.naming.Entries(ctx, name, records.All)
	if err != nil {
		return nil, err
	}
	longest := map[[2]string][]string{}
	deepest := func(l namespace.Location) int {
		key := [2]string{l.Server, l.Share}
		paths, known := longest[key]
		if !known {
			paths = s.longestPaths(ctx, l.Server, l.Share)
			longest[key] = paths
		}
		return longestBelow(paths, l.Sub)
	}
	flaws := namespace.Lint(name, entries, deepest)
	if deep {
		flaws = append(flaws, s.forNobody(ctx, name, entries)...)
	}
	return flaws, nil
}

// longestPaths are the longest paths of a share, as its last survey found them.
func (s *Service) longestPaths(ctx context.Context, server, share string) []string {
	runs, err := s.surveys.List(ctx, server, share, 0, 5)
	if err != nil {
		return nil
	}
	for _, r := range runs {
		if r.State != model.RunDone {
			continue
		}
		found, err := s.surveys.Get(ctx, r.ID)
		if err != nil {
			return nil
		}
		var paths []string
		for _, n := range found.Figures.Longest {
			paths = append(paths, n.Path)
		}
		return paths
	}
	return nil
}

// longestBelow is how many characters the longest of paths has below a folder.
func longestBelow(paths []string, sub string) int {
	most := 0
	for _, p := range paths {
		if sub != "" {
			if len(p) <= len(sub) || !strings.EqualFold(p[:len(sub)], sub) || p[len(sub)] != '/' {
				continue
			}
			p = p[len(sub)+1:]
		}
		most = max(most, len([]rune(p)))
	}
	return most
}

// forNobody finds the signposts whose first open location lets nobody in but
// those who administer the server.
func (s *Service) forNobody(ctx context.Context, name string, entries []namespace.Entry) []namespace.Flaw {
	var found []namespace.Flaw
	var mu sync.Mutex
	var group sync.WaitGroup
	limit := make(chan struct{}, 4)
	opened := 0
	for _, e := range entries {
		if e.Kind != namespace.Signpost || opened == mostOpened {
			continue
		}
		opened++
		group.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			full := "/" + name + "/" + e.Path
			r, err := s.rights.Show(ctx, full)
			if err != nil || anybody(r.People) {
				return // what cannot be opened is another flaw
			}
			mu.Lock()
			defer mu.Unlock()
			found = append(found, namespace.Flaw{Kind: namespace.ForNobody, Path: full, Location: r.Place.Server + "/" + r.Place.Share, Means: "nobody but administrators may open it: for people it is a closed door",
				Remedy: "let those in who are to use it: bspan rights grant --level read " + full + " ACCOUNT"})
		})
	}
	group.Wait()
	return found
}

// anybody reports whether somebody may read who does not administer the server.
func anybody(people []model.EffectiveRights) bool {
	for _, p := range people {
		switch sid, err := account.ParseSID(p.Account.SID); {
		case err != nil || sid == account.Administrators || sid == account.System:
		case p.Account.Kind == account.Unresolved || p.Level == acl.None:
		default:
			return true
		}
	}
	return false
}

// Fix mends a flaw that Lint found, if it is still there.
func (s *Service) Fix(ctx context.Context, name string, asked model.FixFlaw) (model.Fixed, error) {
	flaws, err := s.Lint(ctx, name, false)
	if err != nil {
		return model.Fixed{}, err
	}
	for _, f := range flaws {
		if f.Kind == asked.Kind && f.Path == asked.Path && strings.EqualFold(f.Location, asked.Location) {
			return s.fix(ctx, name, f, asked.Rehearse)
		}
	}
	return model.Fixed{}, fault.New(fault.Stale, "look again with: bspan namespace lint "+name, "%s of %s is not a flaw any more", asked.Kind, asked.Path)
}

func (s *Service) fix(ctx context.Context, name string, f namespace.Flaw, rehearse bool) (model.Fixed, error) {
	done := model.Fixed{Flaw: f}
	e, err := s.naming.EntryAt(ctx, name, strings.TrimPrefix(f.Path, "/"+name+"/"))
	if err != nil {
		return done, err
	}
	var l namespace.Location
	if f.Location != "" {
		target, err := namespace.ParseTarget("location", f.Location)
		if err != nil {
			return done, err
		}
		l, _ = e.At(target)
	}
	var do func() error
	switch f.Fix {
	case namespace.FixVerify:
		done.Text = "verify " + f.Location
		do = func() error {
			v, err := s.verify.Start(ctx, name, e.ID, l.ID, "")
			if err == nil {
				done.Run = &v.Run
			}
			return err
		}
	case namespace.FixOpen:
		done.Text = "open " + f.Location
		do = func() error {
			return s.naming.EditLocation(ctx, name, e.ID, e.Version, l.ID, model.EditLocation{State: namespace.Open})
		}
	case namespace.FixMove:
		done.Text = fmt.Sprintf("move %s to %s", f.Path, f.To)
		do = func() error {
			return s.naming.EditEntry(ctx, name, e.ID, e.Version, model.EditEntry{Path: strings.TrimPrefix(f.To, "/"+name+"/")})
		}
	case namespace.FixRemove:
		done.Text = "remove " + f.Path + "; no file is touched"
		do = func() error { return s.naming.RemoveEntry(ctx, name, e.ID, e.Version) }
	case namespace.FixRemovePlace:
		done.Text = fmt.Sprintf("remove %s from %s; no file is touched", f.Location, f.Path)
		do = func() error { return s.naming.RemoveLocation(ctx, name, e.ID, e.Version, l.ID) }
	default:
		return done, fault.New(fault.Needed, f.Remedy, "a person must decide what to do about %s", f.Path)
	}
	if rehearse {
		return done, nil
	}
	err = do()
	var problem *fault.Error
	if errors.As(err, &problem) {
		problem.Problem = "cannot " + done.Text + ": " + problem.Problem
	}
	return done, err
}
