package rights

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/service/jobs"
	"bridgespan/tree"
)

// whoCanKind is the kind of runs that find who has a level.
const whoCanKind = "who-can"

// mostPeople is how many of those who have a level are shown with why.
const mostPeople = 500

// whoCanSettings is the question, with the place as its server calls it.
type whoCanSettings struct {
	Place  model.Place `json:"place"`
	Level  acl.Level   `json:"level"`
	Filter string      `json:"filter,omitempty"`
}

// StartWhoCan finds who of all users has at least a level at a place, as a run.
func (s *Service) StartWhoCan(ctx context.Context, asked model.AskWhoCan) (model.WhoCan, error) {
	l, err := s.lookAt(ctx, "path", asked.Path)
	if err != nil {
		return model.WhoCan{}, err
	}
	l.close()
	id, err := s.jobs.Start(ctx, whoCanKind, subject(l.Place), whoCanSettings{l.Place, asked.Level, asked.Filter})
	if err != nil {
		return model.WhoCan{}, err
	}
	if _, err := s.jobs.Await(ctx, id, answerWithin); err != nil {
		return model.WhoCan{}, err
	}
	return s.WhoCan(ctx, id)
}

// WhoCan shows who has a level, as far as it was found.
func (s *Service) WhoCan(ctx context.Context, id int64) (model.WhoCan, error) {
	w := model.WhoCan{People: []model.EffectiveRights{}}
	var settings whoCanSettings
	run, err := s.jobs.Read(ctx, id, whoCanKind, &settings, nil)
	if err != nil {
		return w, err
	}
	w.Place, w.Level, w.Filter, w.Complete = settings.Place, settings.Level, settings.Filter, true
	_, err = s.jobs.Result(ctx, id, &w)
	w.Run = run
	return w, err
}

// whoCanKept is what a stopped search needs to go on.
type whoCanKept struct {
	Upto    accounts.Mark `json:"upto"`
	Looked  int           `json:"looked"`
	Able    int           `json:"able"`
	Missing string        `json:"missing,omitempty"`
	First   []able        `json:"first"` // by name, at most mostPeople
}

// able is somebody who has the level.
type able struct {
	SID   account.SID `json:"sid"`
	Name  string      `json:"name"`
	token *accounts.Token
}

// findWhoCan works on a search for who has a level.
func (s *Service) findWhoCan(ctx context.Context, job *jobs.Job) error {
	var settings whoCanSettings
	if err := job.Settings(&settings); err != nil {
		return err
	}
	l, err := s.lookAt(ctx, "path", subject(settings.Place))
	if err != nil {
		return err
	}
	defer l.close()
	search := &searching{object: l.object(), level: settings.Level, part: strings.ToLower(settings.Filter)}
	if _, err := job.Resumes(&search.kept); err != nil {
		return err
	}
	err = search.walk(ctx, job, tree.Ahead(ctx, s.accounts.Everybody(ctx, l.at, search.kept.Upto)))
	// What was found until it was stopped is shown as well.
	w, resultErr := s.found(context.WithoutCancel(ctx), l, settings, search.kept)
	if resultErr == nil {
		resultErr = job.Checkpoint(ctx, search.kept, w)
	}
	if err != nil {
		return interrupted(l, err, fmt.Sprintf("when it is back, go on with: bspan run resume %d", job.ID))
	}
	if resultErr != nil {
		return failure(l, "path", resultErr)
	}
	return job.Finish(w)
}

// searching is a search that is under way.
type searching struct {
	object acl.Object
	level  acl.Level
	part   string
	kept   whoCanKept
}

// walk judges everybody who is not judged yet.
func (w *searching) walk(ctx context.Context, job *jobs.Job, everybody func(func(accounts.People, error) bool)) error {
	saved := time.Now()
	for people, err := range everybody {
		if err != nil {
			return err
		}
		w.take(people)
		job.Progress(int64(w.kept.Looked), 0, people.Fraction)
		if time.Since(saved) > keepEvery {
			if err := job.Checkpoint(ctx, w.kept, nil); err != nil {
				return err
			}
			saved = time.Now()
		}
	}
	return ctx.Err()
}

// take judges one part of everybody.
func (w *searching) take(people accounts.People) {
	if people.Anew {
		w.kept = whoCanKept{}
	}
	w.kept.Missing = cmp.Or(w.kept.Missing, people.Missing)
	for _, p := range people.List {
		if !strings.Contains(strings.ToLower(p.Name), w.part) {
			continue
		}
		w.kept.Looked++
		if w.object.Effective(p.Token.Token).AtLeast(w.level) {
			w.kept.Able++
			w.kept.First = insert(w.kept.First, able{p.SID, p.Name, p.Token}, mostPeople)
		}
	}
	w.kept.Upto = people.Upto
}

// insert keeps the first of a list by name.
func insert(list []able, a able, most int) []able {
	i, _ := slices.BinarySearchFunc(list, a, func(a, b able) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.SID.String(), b.SID.String()))
	})
	if i == most {
		return list
	}
	list = slices.Insert(list, i, a)
	return list[:min(len(list), most)]
}

// found names and explains those who have the level.
func (s *Service) found(ctx context.Context, l *look, settings whoCanSettings, kept whoCanKept) (model.WhoCan, error) {
	w := model.WhoCan{Place: settings.Place, Level: settings.Level, Filter: settings.Filter, Able: kept.Able, Looked: kept.Looked, Complete: kept.Missing == "", Missing: kept.Missing, People: []model.EffectiveRights{}}
	n := s.names(l.at)
	var sids []account.SID
	for _, a := range kept.First {
		sids = append(sids, a.SID)
	}
	if err := n.learn(ctx, sids...); err != nil {
		return w, err
	}
	for _, a := range kept.First {
		if a.token == nil { // found before the run was stopped
			t, err := s.accounts.TokenFor(ctx, l.at, a.SID)
			if err != nil {
				return w, err
			}
			a.token = t
		}
		e, err := s.effectiveFor(ctx, l, n, a.token, true)
		if err != nil {
			return w, err
		}
		e.Reasons = granting(e.Reasons)
		w.People = append(w.People, e)
	}
	return w, nil
}

// granting keeps the reasons that grant something of the files.
func granting(list []model.RightsReason) []model.RightsReason {
	return slices.DeleteFunc(list, func(r model.RightsReason) bool {
		return !r.Granted || r.Source == acl.ByShare || r.Source == acl.ByProtocol
	})
}
