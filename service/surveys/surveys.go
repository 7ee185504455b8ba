// Package surveys counts what is in shares and what should be known about
// their permissions, as runs that can be stopped and go on. Surveys are kept,
// so that two of them can be compared.
package surveys

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/core/survey"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
)

// runKind is the kind of runs that survey.
const runKind = "survey"

// Service is the use case.
type Service struct {
	db       *records.DB
	estate   *estate.Service
	accounts *accounts.Service
	jobs     *jobs.Service
}

// New makes the service.
func New(db *records.DB, e *estate.Service, a *accounts.Service, j *jobs.Service) *Service {
	s := &Service{db, e, a, j}
	j.Register(runKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch}, s.work)
	return s
}

// found is what a survey found, as it is kept.
type found struct {
	Figures  survey.Figures          `json:"figures"`
	Open     []model.OpenFile        `json:"open"`
	Findings []finding.Finding       `json:"findings"`
	Distinct int64                   `json:"distinct"`
	KeptOut  *model.KeptOut          `json:"keptOut,omitempty"`
	Settings *model.SurveyedShare    `json:"settings,omitempty"`
	Accounts []model.SurveyedAccount `json:"accounts"`
}

// empty is what a survey has found that has not begun.
func empty() found {
	return found{Open: []model.OpenFile{}, Findings: []finding.Finding{}, Accounts: []model.SurveyedAccount{}}
}

// Start starts surveys of shares, or of folders of them: all that are asked for, or none.
func (s *Service) Start(ctx context.Context, asked []model.SurveyPlace) ([]model.Run, error) {
	var all []jobs.Work
	for i, place := range asked {
		places, err := s.places(ctx, fmt.Sprintf("places[%d].", i), place)
		if err != nil {
			return nil, err
		}
		for _, p := range places {
			subject := namespace.Target{Server: p.Server, Share: p.Share, Sub: p.Sub}.String()
			if slices.ContainsFunc(all, func(w jobs.Work) bool { return w.Subject == subject }) {
				continue
			}
			if err := s.free(ctx, subject); err != nil {
				return nil, err
			}
			all = append(all, jobs.Work{Subject: subject, Settings: p})
		}
	}
	ids, err := s.jobs.StartAll(ctx, runKind, all)
	if err != nil {
		return nil, err
	}
	list := []model.Run{}
	for _, id := range ids {
		begun, err := s.jobs.Get(ctx, id)
		if err != nil {
			return nil, err
		}
		list = append(list, begun)
	}
	return list, nil
}

// places are what is asked for, as the server calls it: one share, or every one
// in its lists. Faults are at fields that begin with within.
func (s *Service) places(ctx context.Context, within string, p model.SurveyPlace) ([]model.SurveyPlace, error) {
	if p.Share != "" {
		target, err := s.estate.TryTarget(ctx, within+"share", namespace.Target{Server: p.Server, Share: p.Share, Sub: strings.Trim(p.Sub, "/")})
		return []model.SurveyPlace{{Server: target.Server, Share: target.Share, Sub: target.Sub}}, err
	}
	if p.Sub != "" {
		return nil, fault.Field(within+"share", "name the share that holds the folder", "a folder %q is given, and no share", p.Sub)
	}
	r, err := s.estate.Reach(ctx, p.Server)
	if err != nil {
		var e *fault.Error
		if errors.As(err, &e) {
			err = e.At(within + "server")
		}
		return nil, err
	}
	defer r.Close()
	shares, err := s.estate.ListShares(ctx, r)
	if err != nil {
		return nil, err
	}
	var places []model.SurveyPlace
	for _, h := range shares {
		if h.Kind == "disk" && !h.Hidden {
			places = append(places, model.SurveyPlace{Server: h.Server, Share: h.Name})
		}
	}
	if len(places) == 0 {
		return nil, fault.Field(within+"share", "name the share", "%s shows no share in its lists", p.Server)
	}
	return places, nil
}

// free reports as a fault that a place is being surveyed already.
func (s *Service) free(ctx context.Context, subject string) error {
	latest, err := s.jobs.List(ctx, runKind, subject, 0, 1)
	if err != nil {
		return err
	}
	if len(latest) > 0 && !latest[0].State.Ended() {
		return fault.New(fault.Taken, "wait for it, or stop it first", "survey %d of %s is under way", latest[0].ID, subject)
	}
	return nil
}

// Get shows a survey as far as it is.
func (s *Service) Get(ctx context.Context, id int64) (model.Survey, error) {
	var asked model.SurveyPlace
	r, err := s.jobs.Read(ctx, id, runKind, &asked, nil)
	if err != nil {
		return model.Survey{}, err
	}
	f := empty()
	f.Figures = survey.NewCounter(r.Created).Figures()
	if _, err := s.jobs.Result(ctx, id, &f); err != nil {
		return model.Survey{}, err
	}
	return model.Survey{Run: r, Server: asked.Server, Share: asked.Share, Sub: asked.Sub, Figures: f.Figures, Open: f.Open, Findings: f.Findings, Distinct: f.Distinct, KeptOut: f.KeptOut, Settings: f.Settings, Accounts: f.Accounts}, nil
}

// List lists surveys, newest first, of one share unless server is "".
func (s *Service) List(ctx context.Context, server, share string, before int64, limit int) ([]model.Run, error) {
	subject := ""
	if server != "" {
		v, err := s.db.Server(ctx, server)
		if err != nil {
			return nil, err
		}
		subject = namespace.Target{Server: v.Name, Share: share}.String()
	}
	return s.jobs.List(ctx, runKind, subject, before, limit)
}

// Compare tells what changed between two surveys.
func (s *Service) Compare(ctx context.Context, first, second int64) (model.SurveyComparison, error) {
	a, err := s.Get(ctx, first)
	if err != nil {
		return model.SurveyComparison{}, err
	}
	b, err := s.Get(ctx, second)
	if err != nil {
		return model.SurveyComparison{}, err
	}
	if a.Run.State != model.RunDone || b.Run.State != model.RunDone {
		return model.SurveyComparison{}, fault.New(fault.Stale, "let both come to their end first", "surveys can be compared once both are done")
	}
	if a.Figures.Now.After(b.Figures.Now) {
		a, b = b, a
	}
	return model.SurveyComparison{Before: a.Run, After: b.Run, Figures: survey.Compare(a.Figures, b.Figures)}, nil
}

// named are the accounts in permissions, by their numbers.
func (s *Service) named(ctx context.Context, at *accounts.At, seen []*seen, share acl.Descriptor) (map[account.SID]model.Account, error) {
	var sids []account.SID
	add := func(d acl.Descriptor) {
		for _, sid := range d.Parts().Accounts() {
			if !slices.Contains(sids, sid) {
				sids = append(sids, sid)
			}
		}
	}
	for _, d := range seen {
		add(d.descriptor)
	}
	if !share.IsZero() {
		add(share)
	}
	slices.SortFunc(sids, func(a, b account.SID) int { return strings.Compare(a.String(), b.String()) })
	list, err := s.accounts.Named(ctx, at, sids)
	known := map[account.SID]model.Account{}
	for i, a := range list {
		known[sids[i]] = a
	}
	return known, err
}

// findingsOf are what should be known about the permissions that a survey saw.
func findingsOf(known map[account.SID]model.Account, place namespace.Target, seen []*seen, share acl.Descriptor, shared bool) []finding.Finding {
	g := gatherer{known: known, place: place, found: map[findingKey]*finding.Finding{}}
	for _, d := range seen {
		p := d.descriptor.Parts()
		for _, f := range p.Oddities(d.top) {
			if f.Kind == acl.InheritanceCut && d.stale > 0 {
				continue
			}
			g.add(f.Kind, f.Account, d.count(), d.sample)
		}
		if d.stale > 0 {
			g.add(acl.StaleInheritance, account.SID{}, d.stale, d.staleSample)
		}
		for _, sid := range p.Accounts() {
			switch a := known[sid]; {
			case a.Kind == account.Unresolved:
				g.add(acl.UnresolvedThere, sid, d.count(), d.sample)
			case shared && a.Origin == account.OfServer:
				g.add(acl.LocalThere, sid, d.count(), d.sample)
			}
		}
		if d.top && !share.IsZero() {
			for _, f := range acl.ShareOddities(share.Parts(), p) {
				g.add(f.Kind, f.Account, 1, d.sample)
			}
		}
	}
	return g.list()
}

type findingKey struct {
	kind acl.OddityKind
	sid  account.SID
}

// gatherer gathers equal findings.
type gatherer struct {
	known map[account.SID]model.Account
	place namespace.Target // what was surveyed
	found map[findingKey]*finding.Finding
}

// mostSamples is how many paths a finding shows.
const mostSamples = 10

func (g *gatherer) add(kind acl.OddityKind, sid account.SID, count int64, sample string) {
	k := findingKey{kind, sid}
	f, ok := g.found[k]
	if !ok {
		told := kind.Finding(g.name(sid))
		f = &told
		g.found[k] = f
	}
	f.Count += count
	if len(f.Samples) < mostSamples {
		f.Samples = append(f.Samples, sample)
	}
}

// name is what an account is called; "" of none.
func (g *gatherer) name(sid account.SID) string {
	if sid.IsZero() {
		return ""
	}
	a, known := g.known[sid]
	if !known {
		a = accounts.Describe(sid)
	}
	return a.Name
}

// list orders findings: those on most files and folders first.
func (g *gatherer) list() []finding.Finding {
	list := []finding.Finding{}
	for k, f := range g.found {
		slices.Sort(f.Samples)
		list = append(list, f.With(g.lookInto(k.kind, f.Samples[0])))
	}
	slices.SortFunc(list, func(a, b finding.Finding) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Code, b.Code), strings.Compare(a.Subject, b.Subject))
	})
	return list
}

// lookInto is the action that leads to what is to be mended: the share, or the first place where
// something was found.
func (g *gatherer) lookInto(k acl.OddityKind, first string) *finding.Action {
	at := g.place
	if k == acl.ShareNarrower || k == acl.ShareWider {
		return finding.To(finding.EditShare, at.Server, at.Share)
	}
	at.Sub = strings.Trim(path.Join("/", at.Sub, first), "/")
	return finding.To(finding.ShowRights, at.String())
}

func now() time.Time { return time.Now().UTC() }
