package surveys

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// Times of a survey: how often it says how far it is, and how often it keeps
// what it needs to go on.
const (
	sayEvery  = 200 * time.Millisecond
	keepEvery = 5 * time.Second
)

// work surveys.
func (s *Service) work(ctx context.Context, job *jobs.Job) error {
	var asked model.SurveyPlace
	if err := job.Settings(&asked); err != nil {
		return err
	}
	r, err := s.estate.Reach(ctx, asked.Server)
	if err != nil {
		return err
	}
	defer r.Close()
	v := r.Server
	t, err := r.Tree(ctx, asked.Share, asked.Sub)
	if err != nil {
		return estate.Unavailable(v, err)
	}
	defer t.Close()
	walker := NewWalker(t, ".", now())
	var kept Kept
	resumes, err := job.Resumes(&kept)
	if err != nil {
		return err
	}
	if resumes {
		walker.Resume(kept)
	} else if err := walker.Begin(ctx); err != nil {
		return estate.Unavailable(v, err)
	}
	if err := s.walk(ctx, job, walker); err != nil {
		return stoppedHalfway(job, v, err)
	}
	return s.finish(ctx, job, v, r.Admin(), asked, walker)
}

func stoppedHalfway(job *jobs.Job, v model.Server, err error) error {
	if errors.Is(err, tree.ErrUnreachable) {
		return fault.New(fault.Unavailable, fmt.Sprintf("when it is back, go on with: bspan run resume %d", job.ID), "%s stopped answering", v.Name).Because(err)
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, jobs.ErrStopped) {
		return jobs.ErrStopped
	}
	return estate.Unavailable(v, err)
}

// walk surveys, says how far it is, and keeps what it needs to go on: now and
// then, and when it ends before all is done.
func (s *Service) walk(ctx context.Context, job *jobs.Job, walker *Walker) error {
	done := guard.Result(func() error { return walker.Walk(ctx) })
	say := time.NewTicker(sayEvery)
	defer say.Stop()
	last := time.Now()
	for {
		select {
		case err := <-done:
			job.Progress(walker.Progress())
			if err != nil {
				return errors.Join(err, job.Checkpoint(ctx, walker.Kept(), s.soFar(walker)))
			}
			return nil
		case <-say.C:
			job.Progress(walker.Progress())
			if time.Since(last) >= keepEvery {
				last = time.Now()
				// A database that is away now may be back by the next time.
				_ = job.Checkpoint(ctx, walker.Kept(), s.soFar(walker))
			}
		}
	}
}

func (s *Service) soFar(walker *Walker) found {
	f := empty()
	f.Figures, f.Distinct = walker.Figures(), walker.Distinct()
	return f
}

// finish judges what was seen, and keeps it. admin is nil where a mover runs: there
// are no share permissions, and nobody tells of open files.
func (s *Service) finish(ctx context.Context, job *jobs.Job, v model.Server, admin *smbadmin.Admin, asked model.SurveyPlace, walker *Walker) error {
	result := s.soFar(walker)
	at, err := s.accounts.At(ctx, v, admin)
	if err != nil {
		return estate.Unavailable(v, err)
	}
	defer at.Close()
	var h smbadmin.Share
	if admin != nil {
		if h, err = admin.Share(ctx, asked.Share); err != nil {
			return estate.Unavailable(v, err)
		}
	}
	led, err := s.db.LedToFrom(ctx, v.Name, asked.Share)
	if err != nil {
		return err
	}
	shared, err := s.severalLocations(ctx, led)
	if err != nil {
		return err
	}
	seen := walker.descriptors()
	known, err := s.named(ctx, at, seen, h.Permissions)
	if err != nil {
		return estate.Unavailable(v, err)
	}
	result.Findings = findingsOf(known, namespace.Target{Server: asked.Server, Share: asked.Share, Sub: asked.Sub}, seen, h.Permissions, shared)
	if result.Accounts, err = s.accountsIn(ctx, at, known, seen, h.Permissions); err != nil {
		return estate.Unavailable(v, err)
	}
	if result.Settings, err = s.settings(ctx, at, known, h, walker.tree); err != nil {
		return estate.Unavailable(v, err)
	}
	keptOut, err := walker.KeptOut(ctx)
	if err != nil {
		return stoppedHalfway(job, v, err)
	}
	result.KeptOut = &keptOut
	if f, ok := judgeKeptOut(v.Account, keptOut, result.Figures); ok {
		result.Findings = append([]finding.Finding{f}, result.Findings...)
	}
	if admin != nil {
		if open, err := accounts.OpenFiles(ctx, admin); err == nil {
			result.Open = within(open, asked)
		}
	}
	rows := make([]records.SurveyDescriptor, len(seen))
	for i, d := range seen {
		rows[i] = records.SurveyDescriptor{Descriptor: d.descriptor, Files: d.files, Folders: d.folders, Sample: d.sample[:min(len(d.sample), 4000)]}
	}
	if err := s.db.Change(ctx, func(tx *records.Tx) error { return tx.KeepSurveyDescriptors(ctx, job.ID, rows) }); err != nil {
		return err
	}
	return job.Finish(result)
}

// severalLocations reports whether a signpost among the paths has more than
// one location: what it leads to is kept in several places, or is about to be.
func (s *Service) severalLocations(ctx context.Context, paths []string) (bool, error) {
	for _, p := range paths {
		name, inside, err := namespace.Split("path", p)
		if err != nil {
			return false, err
		}
		entry, err := s.db.EntryAt(ctx, name, inside)
		if err != nil {
			return false, err
		}
		if len(entry.Locations) > 1 {
			return true, nil
		}
	}
	return false, nil
}

// within keeps the open files of what was surveyed.
func within(open []model.OpenFile, asked model.SurveyPlace) []model.OpenFile {
	top := path.Join(asked.Share, asked.Sub)
	return slices.DeleteFunc(open, func(f model.OpenFile) bool {
		return !strings.EqualFold(f.Path, top) && !strings.HasPrefix(strings.ToLower(f.Path), strings.ToLower(top)+"/")
	})
}
