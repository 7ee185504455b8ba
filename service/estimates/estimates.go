// Package estimates tells what deduplication would save on a volume: as a run that
// reads what is new or has changed, can be stopped and goes on, and afterwards, under
// any other policy, from what was read.
package estimates

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
)

// runKind is the kind of runs that estimate.
const runKind = "estimate"

// defaultBudget is the memory to count in, in bytes.
const defaultBudget = 512 << 20

// Service is the use case.
type Service struct {
	db         *records.DB
	estate     *estate.Service
	jobs       *jobs.Service
	workFolder string
	changed    func()
	// counting bounds the memory that counting takes: one estimate is counted at a time.
	counting chan struct{}
}

// New makes the service. workFolder is where stores of proofs are made, on this
// machine; changed is called after every change.
func New(db *records.DB, e *estate.Service, j *jobs.Service, workFolder string, changed func()) *Service {
	s := &Service{db, e, j, workFolder, changed, make(chan struct{}, 1)}
	j.Register(runKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch, Exclusive: true}, s.work)
	j.Register(whatIfKind, jobs.Policy{Role: model.Operator, Pool: jobs.Interactive}, s.countWhatIf)
	j.Register(poolKind, jobs.Policy{Role: model.Operator, Pool: jobs.Interactive}, s.countPool)
	j.Register(proofKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch, Exclusive: true}, s.prove)
	return s
}

// settings of a run.
type settings struct {
	Volume int64             `json:"volume"`
	Asked  model.NewEstimate `json:"asked"`
}

// found is what an estimate found, as it is kept.
type found struct {
	Progress model.DedupProgress `json:"progress"`
	Warnings []finding.Finding   `json:"warnings"`
	Found    *dedup.Found        `json:"found,omitempty"`
}

// Start starts an estimate of a volume: one that was estimated before, found by its
// name, or a new one made of places.
func (s *Service) Start(ctx context.Context, asked model.NewEstimate) (model.Estimate, error) {
	if err := check(&asked); err != nil {
		return model.Estimate{}, err
	}
	v, err := s.volumeFor(ctx, &asked)
	if err != nil {
		return model.Estimate{}, err
	}
	run, err := s.jobs.Start(ctx, runKind, v.Name, settings{v.ID, asked})
	if err != nil {
		return model.Estimate{}, err
	}
	return s.Get(ctx, run)
}

// Schedule saves an estimate that is done again and again.
func (s *Service) Schedule(ctx context.Context, asked model.ScheduleEstimate) (model.Job, error) {
	if _, err := calendar.ParseSchedule("rule", asked.Rule); err != nil {
		return model.Job{}, err
	}
	if err := check(&asked.NewEstimate); err != nil {
		return model.Job{}, err
	}
	v, err := s.volumeFor(ctx, &asked.NewEstimate)
	if err != nil {
		return model.Job{}, err
	}
	return s.jobs.Schedule(ctx, runKind, asked.Rule, jobs.Work{Subject: v.Name, Settings: settings{v.ID, asked.NewEstimate}})
}

// check fills in what was not said, and returns a fault of what cannot be.
func check(asked *model.NewEstimate) error {
	if err := checkCounting(&asked.Counting); err != nil {
		return err
	}
	if asked.Priority == "" {
		asked.Priority = "normal"
	}
	if readers[asked.Priority] == 0 {
		return fault.Field("priority", "use low, normal or high", "there is no priority %q", asked.Priority)
	}
	if asked.Pace < 0 {
		return fault.Field("paceMbit", "use Mbit/s, or leave it out for no bound", "nothing is read at %g Mbit/s", asked.Pace)
	}
	return nil
}

// checkCounting fills in what was not said of counting, and returns a fault of what
// cannot be.
func checkCounting(asked *model.Counting) error {
	if _, err := filter.New(asked.Policy); err != nil {
		return within("policy.", err)
	}
	if asked.Budget == 0 {
		asked.Budget = defaultBudget
	}
	if dedup.CheckBudget(asked.Budget) != nil {
		return fault.Field("budgetBytes", fmt.Sprintf("give it %d to %d bytes, or leave it out for 512 MB", dedup.LeastBudget, int64(dedup.MostBudget)), "%d bytes of memory are too few or too many to count in", asked.Budget)
	}
	return nil
}

func within(field string, err error) error {
	var e *fault.Error
	if errors.As(err, &e) {
		return e.At(field + e.Field)
	}
	return err
}

// compressions are the names of what is compressed.
var compressions = map[string]dedup.Compression{"sample": dedup.OfSample, "all": dedup.OfAll}

// volumeFor finds the volume that is asked for, or makes it. What was read in another
// way than is asked for is to be read again.
func (s *Service) volumeFor(ctx context.Context, asked *model.NewEstimate) (model.DedupVolume, error) {
	v, before, err := s.resolve(ctx, asked)
	if err == nil {
		err = s.mayCount(ctx, asked.Counting, v)
	}
	if err == nil {
		err = s.keep(ctx, &v, before)
	}
	return v, err
}

// resolve finds the volume that is asked for, as it is to be; without a number when it
// is a new one. before is what it was, when it is to be read in another way.
func (s *Service) resolve(ctx context.Context, asked *model.NewEstimate) (v model.DedupVolume, before *model.DedupVolume, err error) {
	places, err := s.places(ctx, asked.Places)
	if err != nil {
		return v, nil, err
	}
	name := strings.TrimSpace(asked.Name)
	if name == "" {
		if len(places) == 0 {
			return v, nil, fault.Field("places", "name a share as SERVER/SHARE, or a volume that was estimated before", "there is nothing to estimate")
		}
		name = nameOf(places)
	}
	v, err = s.db.DedupVolume(ctx, name)
	switch {
	case fault.KindOf(err) == fault.NotFound && len(places) > 0:
		v, err = s.newVolume(ctx, name, places, asked)
		return v, nil, err
	case err != nil:
		return v, nil, err
	case len(places) > 0 && !slices.Equal(places, v.Places):
		return v, nil, fault.Field("name", "give another name, or leave the places out", "the volume %s is made of %s", v.Name, nameOf(v.Places))
	}
	was := v
	if asked.Profile != "" {
		v.Profile = asked.Profile
	}
	if asked.Compress != "" {
		v.Compression = int(compressions[asked.Compress])
	}
	if v.Profile == was.Profile && v.Compression == was.Compression {
		return v, nil, nil
	}
	return v, &was, nil
}

// keep keeps a volume that was resolved. What was read of it in another way is to be
// read again.
func (s *Service) keep(ctx context.Context, v *model.DedupVolume, before *model.DedupVolume) error {
	if v.ID != 0 && before == nil {
		return nil
	}
	return s.change(ctx, func(tx *records.Tx) (err error) {
		if before == nil {
			if v.ID, err = tx.AddDedupVolume(ctx, *v); err != nil {
				return err
			}
			return tx.Record(ctx, access.Change(ctx, "estimate.add-volume", v.Name, nil, *v), "volume")
		}
		if err := tx.ReadOtherwise(ctx, *v); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "estimate.read-otherwise", v.Name, *before, *v), "volume")
	})
}

func (s *Service) change(ctx context.Context, do func(tx *records.Tx) error) error {
	defer s.changed()
	return s.db.Change(ctx, do)
}

func (s *Service) newVolume(ctx context.Context, name string, places []model.DedupPlace, asked *model.NewEstimate) (model.DedupVolume, error) {
	profile, err := dedup.CheckProfile("profile", asked.Profile)
	v := model.DedupVolume{Name: name, Places: places, Profile: string(profile), Compression: int(compressions[asked.Compress]), Created: now()}
	if err == nil && asked.Compress == "" && s.small(ctx, places) {
		v.Compression = int(dedup.OfAll)
	}
	return v, err
}

// smallVolume is how much may be stored on a volume, in bytes, for all its chunks to
// be compressed unless a sample is asked for: that takes little time, and a sample of
// few tells little.
const smallVolume = 256 << 30

// small reports whether no more is stored under places than on a small volume.
func (s *Service) small(ctx context.Context, places []model.DedupPlace) bool {
	for _, p := range places {
		t, _, err := s.openPlace(ctx, p)
		if err != nil {
			return false
		}
		space, err := t.Space(ctx)
		t.Close()
		if err != nil || space.Total-space.Free > smallVolume {
			return false
		}
	}
	return true
}

// nameOf is the name of a volume that was given none.
func nameOf(places []model.DedupPlace) string {
	var names []string
	for _, p := range places {
		names = append(names, placeName(p))
	}
	return strings.Join(names, " + ")
}

func placeName(p model.DedupPlace) string {
	return namespace.Target{Server: p.Server, Share: p.Share, Sub: p.Sub}.String()
}

// places are what is asked for as the servers call it, each once and none within
// another.
func (s *Service) places(ctx context.Context, asked []model.DedupPlace) (list []model.DedupPlace, err error) {
	for i, p := range asked {
		field := fmt.Sprintf("places[%d]", i)
		t, err := s.estate.TryTarget(ctx, field+".share", namespace.Target{Server: p.Server, Share: p.Share, Sub: strings.Trim(p.Sub, "/")})
		if err != nil {
			return nil, err
		}
		p = model.DedupPlace{Server: t.Server, Share: t.Share, Sub: t.Sub}
		for _, o := range list {
			if overlap(o, p) {
				return nil, fault.Field(field, "leave one of them out", "%s and %s overlap: what is in both would count twice", placeName(o), placeName(p))
			}
		}
		list = append(list, p)
	}
	return list, nil
}

func overlap(a, b model.DedupPlace) bool {
	if a.Server != b.Server || a.Share != b.Share {
		return false
	}
	inside := func(a, b string) bool {
		return a == "" || namespace.Key(a) == namespace.Key(b) || strings.HasPrefix(namespace.Key(b), namespace.Key(a)+"/")
	}
	return inside(a.Sub, b.Sub) || inside(b.Sub, a.Sub)
}

// Get shows an estimate as far as it is.
func (s *Service) Get(ctx context.Context, id int64) (model.Estimate, error) {
	var work settings
	f := found{Progress: model.DedupProgress{Troubles: []string{}}, Warnings: []finding.Finding{}}
	r, err := s.jobs.Read(ctx, id, runKind, &work, &f)
	if err != nil {
		return model.Estimate{}, err
	}
	v, err := s.db.DedupVolume(ctx, r.Subject)
	if fault.KindOf(err) == fault.NotFound { // it was forgotten since
		v, err = model.DedupVolume{Name: r.Subject, Places: work.Asked.Places, Profile: work.Asked.Profile}, nil
	}
	if err != nil {
		return model.Estimate{}, err
	}
	profile := dedup.Profile(v.Profile)
	if f.Found != nil {
		profile = f.Found.Totals.Profile
	}
	return model.Estimate{Run: r, Volume: v, Asked: work.Asked, Progress: f.Progress, Warnings: f.Warnings, Found: f.Found, Why: profile.Why()}, nil
}

// trendLength is how many estimates of a volume are told.
const trendLength = 60

// Volumes lists the volumes that were estimated, with what came of it.
func (s *Service) Volumes(ctx context.Context, p records.Page) ([]model.EstimatedVolume, error) {
	volumes, err := s.db.DedupVolumes(ctx, p)
	list := []model.EstimatedVolume{}
	for _, v := range volumes {
		e, err := s.estimated(ctx, v)
		if err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	return list, err
}

// Volume finds a volume that was estimated.
func (s *Service) Volume(ctx context.Context, name string) (model.EstimatedVolume, error) {
	v, err := s.db.DedupVolume(ctx, name)
	if err != nil {
		return model.EstimatedVolume{}, err
	}
	return s.estimated(ctx, v)
}

func (s *Service) estimated(ctx context.Context, v model.DedupVolume) (model.EstimatedVolume, error) {
	e := model.EstimatedVolume{DedupVolume: v, Trend: []model.EstimatePoint{}}
	points, err := s.db.Estimates(ctx, v.ID, trendLength)
	if err != nil {
		return e, err
	}
	slices.Reverse(points)
	e.Trend = append(e.Trend, points...)
	if n := len(points); n > 0 {
		e.Latest = &e.Trend[n-1]
		e.Version = e.Latest.Run
	}
	e.Runway = runwayOf(points)
	runs, err := s.jobs.List(ctx, runKind, v.Name, 0, 1)
	if err == nil && len(runs) > 0 && runs[0].State != model.RunDone {
		e.Busy = &runs[0]
	}
	return e, err
}

// Forget forgets a volume, with all that was read of it; its runs stay. version is the
// latest estimate that the caller knows of.
func (s *Service) Forget(ctx context.Context, name string, version int64) error {
	known, err := s.Volume(ctx, name)
	if err != nil {
		return err
	}
	if known.Version != version {
		return fault.New(fault.Stale, "look at it again", "%s was estimated since", known.Name)
	}
	v := known.DedupVolume
	busy, err := s.jobs.List(ctx, runKind, v.Name, 0, 1)
	if err != nil {
		return err
	}
	if len(busy) > 0 && !busy[0].State.Ended() {
		return fault.New(fault.Needed, fmt.Sprintf("stop it first: bspan run stop %d", busy[0].ID), "run %d estimates %s", busy[0].ID, v.Name)
	}
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.RemoveDedupVolume(ctx, v.ID); err != nil {
			return err
		}
		if err := tx.RemoveJobsOf(ctx, []string{runKind}, v.Name); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "estimate.forget-volume", v.Name, v, nil), "volume")
	})
}

// Compare shows two estimates of one volume, the earlier first.
func (s *Service) Compare(ctx context.Context, first, second int64) (model.EstimateComparison, error) {
	a, err := s.Get(ctx, first)
	if err != nil {
		return model.EstimateComparison{}, err
	}
	b, err := s.Get(ctx, second)
	if err != nil {
		return model.EstimateComparison{}, err
	}
	if a.Found == nil || b.Found == nil {
		return model.EstimateComparison{}, fault.New(fault.Stale, "let both come to their end first", "estimates can be compared once both are done")
	}
	if a.Found.Totals.Now.After(b.Found.Totals.Now) {
		a, b = b, a
	}
	return model.EstimateComparison{Before: a, After: b}, nil
}

// runwayOf tells how long a volume's free space lasts.
func runwayOf(points []model.EstimatePoint) *dedup.Runway {
	var list []dedup.Point
	for _, p := range points {
		if p.Capacity > 0 {
			list = append(list, dedup.Point{At: p.At, Saving: p.Totals.Saving.Bytes, Free: p.Free})
		}
	}
	return dedup.NewRunway(list)
}

// policyFor is a policy for what was read of a volume.
func policyFor(v *model.DedupVolume, rules filter.Rules) dedup.Policy {
	return dedup.Policy{Profile: dedup.Profile(v.Profile), Rules: rules, Compression: dedup.Compression(v.Compression)}
}

// namesOf are the names of a volume's places, and of their servers.
func namesOf(v *model.DedupVolume) (places, servers []string) {
	for _, p := range v.Places {
		places, servers = append(places, placeName(p)), append(servers, p.Server)
	}
	return places, servers
}

// analyse counts an estimate from what was read.
func (s *Service) analyse(ctx context.Context, v model.DedupVolume, asked model.Counting, at time.Time, passed func(done, all int64)) (dedup.Found, error) {
	done, err := s.turn(ctx)
	if err != nil {
		return dedup.Found{}, err
	}
	defer done()
	places, servers := namesOf(&v)
	found, err := dedup.Analyse(ctx, s.db.Dedup(v.ID), places, servers, policyFor(&v, asked.Policy), s.means(asked, passed), at)
	return found, s.countingFault(err)
}

// turn waits until nobody else counts; the caller must call done.
func (s *Service) turn(ctx context.Context) (done func(), err error) {
	select {
	case s.counting <- struct{}{}:
		return func() { <-s.counting }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }
