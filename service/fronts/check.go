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

// mostChecked is the maximum number of signposts in one check.
const mostChecked = 500

// checkMost is the timeout of one check.
const checkMost = 2 * time.Minute

// Check tests a front as a client would: it signs in as a person, resolves each signpost, compares its
// link with the directions, and opens the first location as that person.
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

// checkAs returns the account for a check; nil when none is configured.
func (s *Service) checkAs(ctx context.Context, f model.Front, asked *model.FrontCheckAs) (*model.FrontCheckAs, error) {
	if asked != nil {
		if asked.Account == "" || asked.Password == "" {
			return nil, fault.Field("as", "enter the account of a person and its password", "an account and a password are needed")
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
		return nil, fault.New(fault.Needed, "enter it again: bspan front edit --check-as ACCOUNT --password-file FILE "+name(f), "the password of %s was given for another host name", f.CheckAccount)
	}
	return &model.FrontCheckAs{Domain: f.CheckDomain, Account: f.CheckAccount, Password: password}, nil
}

// check is a check in progress.
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

// mostAlone is the maximum number of changed signposts that are checked alone. After more changes, the
// whole front is checked.
const mostAlone = 50

// checkChanged checks changed signposts. It checks the whole front when the last check found a problem with
// one of them or with the front itself, or when one of them has a problem now.
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

// within returns a namespace path relative to the top of the front.
func within(f model.Front, subject string) string {
	path, _ := strings.CutPrefix(subject, top(f)+"/")
	return path
}

// top returns the namespace path of the front's top folder.
func top(f model.Front) string { return strings.TrimSuffix("/"+f.Namespace+"/"+f.Branch, "/") }

// wellAt reports whether the person can open the locations of some signposts.
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
		k.add(finding.Fail, "mover", "the mover does not answer: "+err.Error(), "links keep their last state", "check the server", finding.To(finding.CheckServer, f.Server))
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
		k.add(finding.Warn, "left-out", fmt.Sprintf("%d signposts are not shown, such as %s: %s", len(left), left[0].Path, left[0].Why), "they are missing in the front", "open one of their locations, or give their servers a name for people")
	}
	if k.as == nil {
		k.add(finding.Warn, "person", "no account is set for checks", "access of people is not tested", "set an account for checks", finding.To(finding.EditFront, f.Server, f.Share))
		return nil
	}
	return k.asPerson(ctx, below, want)
}

// compare compares the entries in the front's folder with the namespace.
func (k *check) compare(want []front.Entry, found moverfront.Found) {
	if !found.There {
		return
	}
	if changes := front.Changes(found.Entries, want); len(changes) > 0 {
		k.add(finding.Warn, "written", fmt.Sprintf("%d entries differ from the namespace, such as %s", len(changes), changes[0].Path), "these links keep their last state", "wait a moment; if they stay different, the state of the front gives the reason")
		return
	}
	k.add(finding.Pass, "written", fmt.Sprintf("all %d entries match the namespace", len(want)), "", "")
}
