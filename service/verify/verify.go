// Package verify finds out whether a location of a signpost holds what another
// one holds, as a run that can be stopped and go on. A location that waits for
// that is opened when nothing unexplained differs.
package verify

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
)

// runKind is the kind of runs that verify.
const runKind = "verify"

// Service is the use case.
type Service struct {
	db       *records.DB
	estate   *estate.Service
	accounts *accounts.Service
	naming   *naming.Service
	jobs     *jobs.Service
}

// New makes the service.
func New(db *records.DB, e *estate.Service, a *accounts.Service, n *naming.Service, j *jobs.Service) *Service {
	s := &Service{db, e, a, n, j}
	j.Register(runKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch, Exclusive: true}, s.work)
	return s
}

// settings of a run.
type settings struct {
	Namespace string           `json:"namespace"`
	Entry     int64            `json:"entry"`
	Path      string           `json:"path"`
	Location  int64            `json:"location"`
	Target    namespace.Target `json:"target"`
	Against   namespace.Target `json:"against"`
}

// Start verifies a location against another one of the same signpost: against
// names it as SERVER/SHARE[/FOLDER]; when it is "", an open one is chosen.
func (s *Service) Start(ctx context.Context, name string, id, location int64, against string) (model.Verification, error) {
	e, err := s.db.Entry(ctx, name, id)
	if err != nil {
		return model.Verification{}, err
	}
	i := slices.IndexFunc(e.Locations, func(l namespace.Location) bool { return l.ID == location })
	if i < 0 {
		return model.Verification{}, fault.New(fault.NotFound, "read the entry again", "/%s/%s has no location number %d", name, e.Path, location)
	}
	reference, err := choose(name, e, e.Locations[i], against)
	if err != nil {
		return model.Verification{}, err
	}
	work := settings{name, e.ID, e.Path, location, e.Locations[i].Target(), reference.Target()}
	subject := fmt.Sprintf("/%s/%s: %s", name, e.Path, work.Target)
	run, err := s.jobs.Start(ctx, runKind, subject, work)
	if err != nil {
		return model.Verification{}, err
	}
	return s.Get(ctx, run)
}

// choose finds the location to compare with: the one that is named, or the
// best that people are led to now.
func choose(name string, e namespace.Entry, tried namespace.Location, against string) (namespace.Location, error) {
	for _, d := range namespace.Order(e.Locations, namespace.Traveller{Site: tried.Site}, nil) {
		switch {
		case d.ID == tried.ID:
		case against != "" && strings.EqualFold(d.Target().String(), strings.TrimSuffix(against, "/")):
			return d.Location, nil
		case against == "" && d.State == namespace.Open:
			return d.Location, nil
		}
	}
	if against != "" {
		return tried, fault.Field("against", "name another location of the signpost, as SERVER/SHARE", "%s is no other location of /%s/%s", against, name, e.Path)
	}
	return tried, fault.New(fault.Needed, "open one that is known to be right, or say with which to compare: against", "no other location of /%s/%s is open", name, e.Path)
}

// shownDifferences is how many differences are kept with a verification.
const shownDifferences = 200

// found is what a verification found, as it is kept.
type found struct {
	Counts      verify.Counts       `json:"counts"`
	Differences []verify.Difference `json:"differences"`
	Verdict     string              `json:"verdict"`
	Opened      bool                `json:"opened"`
}

// Get shows a verification as far as it is.
func (s *Service) Get(ctx context.Context, id int64) (model.Verification, error) {
	var work settings
	f := found{Differences: []verify.Difference{}}
	r, err := s.jobs.Read(ctx, id, runKind, &work, &f)
	if err != nil {
		return model.Verification{}, err
	}
	return model.Verification{Run: r, Path: "/" + work.Namespace + "/" + work.Path, Location: work.Target.String(), Against: work.Against.String(),
		Counts: f.Counts, Differences: f.Differences, Verdict: f.Verdict, Opened: f.Opened}, nil
}
