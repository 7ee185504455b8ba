package estimates

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize/english"
	"golang.org/x/sys/unix"
	"golang.org/x/time/rate"

	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/estimate"
	"bridgespan/mover/gate"
	"bridgespan/records"
	"bridgespan/service/jobs"
	"bridgespan/tree"
)

// readers is how many files are read side by side.
var readers = map[string]int{"low": 1, "normal": 2, "high": 4}

// How often the work says how far it is and keeps that, and how it goes about files
// in use.
const (
	sayEvery  = 200 * time.Millisecond
	keepEvery = 2 * time.Second
	tries     = 3
	pause     = 5 * time.Second
)

// work estimates.
func (s *Service) work(ctx context.Context, job *jobs.Job) error {
	var asked settings
	if err := job.Settings(&asked); err != nil {
		return err
	}
	v, err := s.db.DedupVolumeNumbered(ctx, asked.Volume)
	if err != nil {
		return err
	}
	e := &estimating{service: s, job: job, volume: v, asked: asked.Asked, warnings: []finding.Finding{}}
	e.gate = gateFor(job, asked.Asked.Calendar)
	e.out, err = newLeftOut(asked.Asked.Policy)
	if err != nil {
		return err
	}
	if e.asked.Exact { // what was thinned before is of no use now
		if err := s.change(ctx, func(tx *records.Tx) error { return tx.ReadWhole(ctx, v.ID) }); err != nil {
			return err
		}
	}
	defer e.close()
	if err := e.open(ctx); err != nil {
		return err
	}
	return e.run(ctx)
}

// estimating is one estimate under way.
type estimating struct {
	service  *Service
	job      *jobs.Job
	volume   model.DedupVolume
	asked    model.NewEstimate
	out      *leftOut
	gate     *gate.Gate
	places   []estimate.Place
	space    tree.Space // of the storage under the first place
	warnings []finding.Finding
	work     *estimate.Work
	reading  time.Time // since when it reads; zero before
	busy     time.Duration
	readMs   int64
	busyMs   int64
	waited   atomic.Int64 // nanoseconds that readers waited for pace and calendar, each counted by itself
}

// open reaches the places, and looks at what is under them.
func (e *estimating) open(ctx context.Context) error {
	var grounds []ground
	for _, p := range e.volume.Places {
		t, reach, err := e.service.openPlace(ctx, p)
		if err != nil {
			return err
		}
		e.places = append(e.places, estimate.Place{Server: p.Server, Name: placeName(p), Tree: t})
		g, err := e.service.ground(ctx, p, t, reach)
		if err != nil {
			return err
		}
		grounds = append(grounds, g)
	}
	e.space, e.warnings = grounds[0].space, append(e.warnings, suited(grounds)...)
	return nil
}

func (e *estimating) close() {
	for _, p := range e.places {
		p.Tree.Close()
	}
}

// run looks and reads, says how far it is, and counts what was found.
func (e *estimating) run(ctx context.Context) error {
	a := &e.asked
	e.work = &estimate.Work{Places: e.places, Store: e.service.db.Dedup(e.volume.ID), Profile: dedup.Profile(e.volume.Profile), Compression: dedup.Compression(e.volume.Compression),
		Budget: a.Budget, Whole: a.Exact, Readers: readers[a.Priority], Wants: e.out.wants, Admit: e.admit, Pace: e.pace(), Tries: tries, Pause: pause, Waits: e.waits}
	var mu sync.Mutex
	done := guard.Result(func() error {
		err := e.work.Look(ctx)
		if err == nil {
			mu.Lock()
			e.reading, e.busy = time.Now(), busyFor()
			e.waited.Store(0) // what listing waited for is no matter
			mu.Unlock()
			err = e.work.Read(ctx)
			mu.Lock()
			e.readMs, e.busyMs = time.Since(e.reading).Milliseconds(), (busyFor() - e.busy).Milliseconds()
			mu.Unlock()
		}
		return err
	})
	say := time.NewTicker(sayEvery)
	defer say.Stop()
	last := time.Now()
	for {
		var err error
		ended := false
		select {
		case err = <-done:
			ended = true
		case <-say.C:
		}
		mu.Lock()
		progress := e.progress()
		mu.Unlock()
		e.say(progress)
		switch {
		case ended && err != nil:
			return e.brokenOff(ctx, progress, err)
		case ended:
			return e.finish(ctx, progress)
		case time.Since(last) >= keepEvery:
			last = time.Now()
			// A database that is away now may be back by the next time.
			_ = e.job.Checkpoint(ctx, struct{}{}, found{Progress: progress, Warnings: e.warnings})
		}
	}
}

// busyFor is for how long processors were busy with this process.
func busyFor() time.Duration {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// waits says what is waited for.
func (e *estimating) waits(files int64) {
	if files == 0 {
		e.job.Waits("")
		return
	}
	e.job.Waits(fmt.Sprintf("%s held by somebody, or cannot be read now; tried again in %s", english.Plural(int(files), "file is", "files are"), pause))
}

func (e *estimating) progress() model.DedupProgress {
	p := e.work.Progress()
	m := model.DedupProgress{Found: p.Found, FoundBytes: p.FoundBytes, ToRead: p.ToRead, Read: p.Files, ReadBytes: p.Bytes, ReadMs: e.readMs, BusyMs: e.busyMs, Saved: p.Saved, Trouble: p.Trouble, Unlisted: p.Unlisted, Troubles: e.work.Troubles()}
	if m.ReadMs == 0 && !e.reading.IsZero() {
		m.ReadMs = time.Since(e.reading).Milliseconds()
	}
	return m
}

// lookingPart is which part of the work looking is taken to be, when something is to
// be read.
const lookingPart = 0.02

func (e *estimating) say(p model.DedupProgress) {
	fraction := 0.0
	if p.ReadMs > 0 || p.ReadBytes > 0 {
		fraction = lookingPart
		if p.ToRead > 0 {
			fraction += (1 - 2*lookingPart) * min(float64(p.ReadBytes)/float64(p.ToRead), 1)
		}
	}
	e.job.Progress(p.Found, p.ReadBytes, fraction)
}

// brokenOff keeps what was found until something ended the work.
func (e *estimating) brokenOff(ctx context.Context, p model.DedupProgress, err error) error {
	lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	partial := found{Progress: p, Warnings: slices.Clone(e.warnings)}
	partial.Warnings = append(partial.Warnings, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: "it did not come to its end", Meaning: "what was not read until then counts as saving nothing",
		Remedy: fmt.Sprintf("go on with: bspan run resume %d", e.job.ID)})
	// What there is so far is counted, unless the service ends: then it goes on by itself.
	if ctx.Err() == nil || errors.Is(context.Cause(ctx), jobs.ErrStopped) {
		if f, bad := e.service.analyse(lasting, e.volume, e.asked.Counting, now(), nil); bad == nil && f.Totals.InPolicy.Files > 0 {
			partial.Found = &f
		}
	}
	_ = e.job.Checkpoint(lasting, struct{}{}, partial)
	switch {
	case errors.Is(err, tree.ErrUnreachable):
		return fault.New(fault.Unavailable, fmt.Sprintf("when it is back, go on with: bspan run resume %d", e.job.ID), "%s stopped answering", e.volume.Name).Because(err)
	case errors.Is(err, context.Canceled), errors.Is(err, jobs.ErrStopped):
		return jobs.ErrStopped
	}
	return err
}

// finish counts what was found, and keeps it.
func (e *estimating) finish(ctx context.Context, p model.DedupProgress) error {
	e.job.Waits("")
	at := now()
	f, err := e.count(ctx, p, at)
	if err != nil {
		return err
	}
	warnings := append(slices.Clone(e.warnings), e.out.warnings()...)
	warnings = append(warnings, judge(&f, e.asked.Counting)...)
	if p.Unlisted > 0 {
		warnings = append(warnings, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: fmt.Sprintf("%d folders could not be listed", p.Unlisted), Meaning: "what is in them is not counted, or as it was before", Remedy: "let the account in that Bridge Span signs in with"})
	}
	err = e.service.change(ctx, func(tx *records.Tx) error {
		point := model.EstimatePoint{Run: e.job.ID, At: at, Totals: f.Totals, Capacity: e.space.Total, Free: e.space.Free, ReadBytes: p.ReadBytes, ReadMs: e.unhindered(p.ReadMs), BusyMs: p.BusyMs}
		if err := tx.KeepEstimate(ctx, e.volume.ID, point); err != nil {
			return err
		}
		return tx.Tell(ctx, "volume", e.volume.Name, at)
	})
	if err != nil {
		return err
	}
	return e.job.Finish(found{Progress: p, Warnings: warnings, Found: &f})
}

// count counts what was found; not again what was counted so before, when nothing has
// changed since and no file has come of another age.
func (e *estimating) count(ctx context.Context, p model.DedupProgress, at time.Time) (dedup.Found, error) {
	if f, ok, err := e.service.unchanged(ctx, e.volume.ID, e.asked.Counting, at); err != nil || ok {
		return f, err
	}
	return e.service.analyse(ctx, e.volume, e.asked.Counting, at, func(done, all int64) {
		e.job.Progress(p.Found, p.ReadBytes, 1-lookingPart*(1-float64(done)/float64(all)))
	})
}

// unchanged is what was found of a volume before, if it would be found again.
func (s *Service) unchanged(ctx context.Context, volume int64, asked model.Counting, at time.Time) (f dedup.Found, ok bool, err error) {
	v, err := s.db.DedupVolumeNumbered(ctx, volume)
	if err != nil || v.Counted == 0 {
		return f, false, err
	}
	before, err := s.Get(ctx, v.Counted)
	switch {
	case fault.KindOf(err) == fault.NotFound: // the run was forgotten
		return f, false, nil
	case err != nil || before.Found == nil || !reflect.DeepEqual(before.Asked.Counting, asked):
		return f, false, err
	}
	f, ok = before.Found.At(at)
	return f, ok, nil
}

// pace lets what is read pass: no faster than is asked for, and by the calendar.
func (e *estimating) pace() func(context.Context, int) error {
	limit := rate.NewLimiter(rate.Inf, gate.Burst)
	gate.SetLimit(limit, calendar.Rate(e.asked.Pace))
	if e.gate == nil && e.asked.Pace == 0 {
		return nil
	}
	return func(ctx context.Context, bytes int) error {
		defer e.wait(time.Now())
		if err := e.gate.Pass(ctx, bytes); err != nil {
			return err
		}
		return gate.Through(ctx, limit, bytes)
	}
}

// admit waits until the calendar lets something be listed or read.
func (e *estimating) admit(ctx context.Context) error {
	defer e.wait(time.Now())
	return e.gate.Await(ctx)
}

func (e *estimating) wait(since time.Time) { e.waited.Add(int64(time.Since(since))) }

// unhindered is for how long it would have read without pace and calendar, in
// milliseconds: what a plan reckons with.
func (e *estimating) unhindered(readMs int64) int64 {
	waited := time.Duration(e.waited.Load()).Milliseconds() / int64(readers[e.asked.Priority])
	return max(readMs-waited, min(readMs, 1))
}

// gateFor is the gate through which an estimate reads; nil when it goes by no calendar.
func gateFor(job *jobs.Job, week *calendar.Week) *gate.Gate {
	if week == nil {
		return nil
	}
	return gate.New(*week, nil, func(ctx context.Context, until time.Time, closed bool) error {
		switch {
		case !closed:
			return job.Unpark(ctx)
		case until.IsZero():
			job.Park("its calendar never lets it read")
		default:
			job.Park("its calendar lets it read from " + until.Local().Format("Mon 2 Jan 15:04"))
		}
		return nil
	})
}

// leftOut tells which files are not read, and which rules were about nothing.
type leftOut struct {
	rules  filter.Rules
	filter *filter.Filter
	now    time.Time
	mu     sync.Mutex
	about  map[string]bool
}

func newLeftOut(rules filter.Rules) (*leftOut, error) {
	// What is too young now will be older: it is read, and shows what age would save.
	asked := rules
	asked.MinDays = 0
	f, err := filter.New(asked)
	return &leftOut{rules: rules, filter: f, now: now(), about: map[string]bool{}}, err
}

func (l *leftOut) wants(r *dedup.Record) bool {
	why := l.filter.File(r.Path, r.Size, r.Modified, l.now)
	if why == "" {
		return true
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.about[strings.TrimPrefix(why, "left out by ")] = true
	return false
}

// warnings are about rules that left nothing out.
func (l *leftOut) warnings() (list []finding.Finding) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, p := range l.rules.LeaveOut {
		if !l.about[p] {
			list = append(list, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: fmt.Sprintf("%q leaves nothing out", p), Meaning: "there is no such file or folder, or another rule leaves it out already", Remedy: "correct its spelling, or take the rule away"})
		}
	}
	return list
}
