package fronts

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
)

// mostChecked is how many signposts one check goes through.
const mostChecked = 500

// checkMost is how long one check may take.
const checkMost = 2 * time.Minute

// Check asks a front as a client does: it signs in as a person, meets each signpost, compares where
// its link leads with the directions, and opens the first location as that person.
func (s *Service) Check(ctx context.Context, server, share string, asked model.AskFrontCheck) (model.Check, error) {
	f, err := s.db.Front(ctx, server, share)
	if err != nil {
		return model.Check{}, err
	}
	as, err := s.checkAs(ctx, f, asked.As)
	if err != nil {
		return model.Check{}, err
	}
	if err := namespace.CheckPath("below", asked.Below); err != nil {
		return model.Check{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, checkMost)
	defer cancel()
	k := s.newCheck(f, as)
	defer k.close()
	began := time.Now()
	if err := k.run(ctx, strings.Trim(asked.Below, "/")); err != nil {
		return model.Check{}, err
	}
	finding.Sort(k.list)
	done := model.Check{At: began.UTC(), TookMs: time.Since(began).Milliseconds(), Outcome: finding.Worst(k.list), Lines: k.list}
	if asked.Below == "" {
		if err := s.db.StoreFrontCheck(ctx, f.ID, done); err != nil {
			return done, err
		}
		_ = s.db.Tell(ctx, "front-state", name(f), time.Now().UTC())
		s.changed()
	}
	return done, nil
}

// checkAs is the account that checks a front; nil when nobody does.
func (s *Service) checkAs(ctx context.Context, f model.Front, asked *model.FrontCheckAs) (*model.FrontCheckAs, error) {
	if asked != nil {
		if asked.Account == "" || asked.Password == "" {
			return nil, fault.Field("as", "give the account of a person and its password", "an account and a password are needed")
		}
		return asked, nil
	}
	if f.CheckAccount == "" {
		return nil, nil
	}
	sealed, err := s.db.FrontSecret(ctx, f.ID)
	if err != nil {
		return nil, err
	}
	password, err := s.vault.Unseal(secretLabel(f), sealed)
	if err != nil {
		return nil, fault.New(fault.Needed, "give it again: bspan front edit --check-as ACCOUNT --password-file FILE "+name(f), "the password of %s was given for another host name", f.CheckAccount)
	}
	return &model.FrontCheckAs{Domain: f.CheckDomain, Account: f.CheckAccount, Password: password}, nil
}

// check is a check that is under way.
type check struct {
	checks
	service *Service
	as      *model.FrontCheckAs

	mu       sync.Mutex
	sessions map[string]*guest // by host
}

func (s *Service) newCheck(f model.Front, as *model.FrontCheckAs) *check {
	return &check{checks: checks{Front: f}, service: s, as: as, sessions: map[string]*guest{}}
}

// mostAlone is how many signposts are looked at alone after they have changed; more of them are a reason
// to check all.
const mostAlone = 50

// checkChanged looks at signposts that have changed: at those alone, when the last check of all found
// nothing about them, or about the front as such, and they are well now.
func (s *Service) checkChanged(ctx context.Context, server, share string, paths map[string]bool) error {
	f, err := s.db.Front(ctx, server, share)
	if err != nil {
		return err
	}
	concerned := func(line finding.Finding) bool {
		return line.Severity != finding.Pass && (line.Subject == "" || paths[within(f, line.Subject)])
	}
	well := f.Check != nil && len(paths) <= mostAlone && !slices.ContainsFunc(f.Check.Lines, concerned)
	if well {
		well, err = s.wellAt(ctx, f, paths)
	}
	if err == nil && !well {
		_, err = s.Check(ctx, server, share, model.AskFrontCheck{})
	}
	return err
}

// within is a path of the namespace as one of the front.
func within(f model.Front, subject string) string {
	path, _ := strings.CutPrefix(subject, top(f)+"/")
	return path
}

// top is the path of the namespace that is the front's top.
func top(f model.Front) string { return strings.TrimSuffix("/"+f.Namespace+"/"+f.Branch, "/") }

// wellAt reports whether the person gets at what is behind some signposts.
func (s *Service) wellAt(ctx context.Context, f model.Front, paths map[string]bool) (bool, error) {
	as, err := s.checkAs(ctx, f, nil)
	if err != nil || as == nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, checkMost)
	defer cancel()
	want, _, _, err := s.naming.Front(ctx, f.Namespace, f.Settings())
	if err != nil {
		return false, err
	}
	k := s.newCheck(f, as)
	defer k.close()
	t, err := k.open(ctx)
	if err != nil || t == nil {
		return false, err
	}
	defer t.Close()
	signposts := signpostsAt(want, func(path string) bool { return paths[path] })
	k.loop(signposts)
	found, err := k.meetAll(ctx, t, signposts)
	return len(found)+len(k.list) == 0, err
}

func (k *check) run(ctx context.Context, below string) error {
	f := k.Front
	var found moverfront.Found
	err := k.service.at(ctx, f, func(at moverfront.Client) (err error) {
		if err := k.host(ctx, at); err != nil {
			return err
		}
		found, _, err = at.Look(ctx)
		return err
	})
	if err != nil {
		k.add(finding.Fail, "mover", "its mover cannot be asked: "+err.Error(), "the front stays as it was last written", "check the server", finding.To(finding.CheckServer, f.Server))
	}
	if err := k.name(ctx); err != nil {
		return err
	}
	want, left, _, err := k.service.naming.Front(ctx, f.Namespace, f.Settings())
	if err != nil {
		return err
	}
	k.compare(want, found)
	k.loop(want)
	if len(left) > 0 {
		k.add(finding.Warn, "left-out", fmt.Sprintf("%d signposts are not shown, such as %s: %s", len(left), left[0].Path, left[0].Why), "people do not find them here", "open one of their locations, or give their servers a name for people")
	}
	if k.as == nil {
		k.add(finding.Warn, "person", "nobody checks it as a person", "whether people get in is not known", "name an account that checks it", finding.To(finding.EditFront, f.Server, f.Share))
		return nil
	}
	return k.asPerson(ctx, below, want)
}

// compare compares what stands in the front with what it is to hold.
func (k *check) compare(want []front.Entry, found moverfront.Found) {
	if !found.There {
		return
	}
	if changes := front.Changes(found.Entries, want); len(changes) > 0 {
		k.add(finding.Warn, "written", fmt.Sprintf("%d entries are not as the namespace says, such as %s", len(changes), changes[0].Path), "people are led as it was before", "wait: they are written at once, unless its state says why not")
		return
	}
	k.add(finding.Pass, "written", fmt.Sprintf("its %d entries are as the namespace says", len(want)), "", "")
}
