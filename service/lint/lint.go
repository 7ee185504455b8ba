// Package lint finds what people will stumble over in a namespace, and mends
// what can be mended at once.
package lint

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/guard"
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
const mostOpened = 2000

// Lint finds the flaws of a namespace. Deep also asks the file servers whether
// anybody may open what the signposts lead to.
func (s *Service) Lint(ctx context.Context, name string, deep bool) ([]finding.Finding, error) {
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
		closed, err := s.forNobody(ctx, name, entries)
		if err != nil {
			return nil, err
		}
		flaws = append(flaws, closed...)
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
// those who administer the server, in the order of the paths.
func (s *Service) forNobody(ctx context.Context, name string, entries []namespace.Entry) ([]finding.Finding, error) {
	entries = slices.DeleteFunc(slices.Clone(entries), func(e namespace.Entry) bool { return e.Kind != namespace.Signpost })
	if len(entries) > mostOpened {
		return nil, fault.Field("deep", "leave it out, and look at branches with: bspan namespace tree --as", "%s has %d signposts, at most %d can be opened for one look", name, len(entries), mostOpened)
	}
	closed := make([]*finding.Finding, len(entries))
	var group guard.Group
	group.SetLimit(4)
	for i, e := range entries {
		group.Go(func() error {
			full := "/" + name + "/" + e.Path
			r, err := s.rights.Show(ctx, full)
			if err != nil || anybody(r.People) {
				return ctx.Err() // what cannot be opened is another flaw
			}
			at := namespace.Target{Server: r.Place.Server, Share: r.Place.Share, Sub: r.Place.Path}.String()
			f := finding.New(finding.Fail, namespace.ForNobody, full, at+": nobody but administrators may open it", "for people it is a closed door", "grant those who are to use it at least the level read there").With(finding.To(finding.ShowRights, at))
			closed[i] = &f
			return nil
		})
	}
	err := group.Wait()
	var found []finding.Finding
	for _, f := range closed {
		if f != nil {
			found = append(found, *f)
		}
	}
	return found, err
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

// Fix does the action of a flaw that Lint found, if it is still there.
func (s *Service) Fix(ctx context.Context, name string, asked model.FixFlaw) (model.Fixed, error) {
	flaws, err := s.Lint(ctx, name, false)
	if err != nil {
		return model.Fixed{}, err
	}
	for _, f := range flaws {
		if f.Action != nil && f.Action.Do == asked.Action.Do && slices.Equal(f.Action.Args, asked.Action.Args) {
			return s.fix(ctx, name, f, asked.Rehearse)
		}
	}
	return model.Fixed{}, fault.New(fault.Stale, "look again with: bspan namespace lint "+name, "no flaw asks to %s %s any more", strings.ReplaceAll(string(asked.Action.Do), "-", " "), strings.Join(asked.Action.Args, " "))
}

func (s *Service) fix(ctx context.Context, name string, f finding.Finding, rehearse bool) (model.Fixed, error) {
	done := model.Fixed{Flaw: f}
	e, err := s.naming.EntryAt(ctx, name, strings.TrimPrefix(f.Subject, "/"+name+"/"))
	if err != nil {
		return done, err
	}
	var do func() error
	if done.Text, do, err = s.mending(ctx, name, e, f.Action, &done.Run); err != nil || rehearse {
		return done, err
	}
	err = do()
	var problem *fault.Error
	if errors.As(err, &problem) {
		problem.Problem = "cannot " + done.Text + ": " + problem.Problem
	}
	return done, err
}

// mending is what an action does to an entry, in words and as a function; a run that it starts
// goes to run.
func (s *Service) mending(ctx context.Context, name string, e namespace.Entry, a *finding.Action, run **model.Run) (text string, do func() error, err error) {
	path, to := a.Args[1], ""
	if len(a.Args) > 2 {
		to = a.Args[2]
	}
	if a.Do == finding.MoveEntry || a.Do == finding.RemoveEntry {
		if a.Do == finding.MoveEntry {
			return fmt.Sprintf("move %s to %s", path, to), func() error {
				return s.naming.EditEntry(ctx, name, e.ID, e.Version, model.EditEntry{Path: strings.TrimPrefix(to, "/"+name+"/")})
			}, nil
		}
		return "remove " + path + "; no file is touched", func() error { return s.naming.RemoveEntry(ctx, name, e.ID, e.Version) }, nil
	}
	target, err := namespace.ParseTarget("location", to)
	if err != nil {
		return "", nil, err
	}
	l, _ := e.At(target)
	switch a.Do {
	case finding.VerifyLocation:
		return "verify " + to, func() error {
			v, err := s.verify.Start(ctx, name, e.ID, l.ID, "")
			if err == nil {
				*run = &v.Run
			}
			return err
		}, nil
	case finding.OpenLocation:
		return "open " + to, func() error {
			return s.naming.EditLocation(ctx, name, e.ID, e.Version, l.ID, model.EditLocation{State: namespace.Open})
		}, nil
	}
	return fmt.Sprintf("remove %s from %s; no file is touched", to, path), func() error { return s.naming.RemoveLocation(ctx, name, e.ID, e.Version, l.ID) }, nil
}
