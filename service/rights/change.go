package rights

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// runKind is the kind of runs that change permissions.
const runKind = "rights"

// settings of a run that changes permissions.
type settings struct {
	Asked model.ChangeRights `json:"asked"`
	Place model.Place        `json:"place"`
	SID   account.SID        `json:"sid"`
	// Undo is the run whose changes are taken back.
	Undo int64 `json:"undo,omitempty"`
}

// answerWithin is how long a change may take for its answer to hold the result.
const answerWithin = 3 * time.Second

// Change changes permissions, or only tells what would change. What takes
// longer than a few seconds goes on as a run.
func (s *Service) Change(ctx context.Context, asked model.ChangeRights) (model.RightsChange, error) {
	l, err := s.lookAt(ctx, "path", asked.Path)
	if err != nil {
		return model.RightsChange{}, err
	}
	defer l.close()
	work := settings{Asked: asked, Place: l.Place}
	if slices.Contains([]model.RightsAction{model.RightsGrant, model.RightsRevoke, model.RightsOwn}, asked.Action) {
		if asked.Account == "" {
			return model.RightsChange{}, fault.Field("account", "name a user or group, or write a SID", "an account is needed")
		}
		if _, work.SID, err = s.accounts.Find(ctx, l.at, "account", asked.Account); err != nil {
			return model.RightsChange{}, failure(l, "account", err)
		}
	}
	after, err := next(l.own(), l.parent(), l.Folder, work)
	if err == nil {
		err = s.keepsUsIn(ctx, l, after)
	}
	if err != nil {
		return model.RightsChange{}, err
	}
	id, err := s.jobs.Start(ctx, runKind, subject(l.Place), work)
	if err != nil {
		return model.RightsChange{}, err
	}
	if _, err := s.jobs.Await(ctx, id, answerWithin); err != nil {
		return model.RightsChange{}, err
	}
	return s.Get(ctx, id)
}

// keepsUsIn refuses a change after which we could not change the place again,
// nor take the change back.
func (s *Service) keepsUsIn(ctx context.Context, l *look, after acl.Parts) error {
	name := l.server.Account
	if l.server.Domain != "" {
		name = l.server.Domain + `\` + name
	}
	_, own, err := s.accounts.Find(ctx, l.at, "account", name)
	if err != nil {
		return nil // what we are called at the server cannot be told: let it decide
	}
	t, err := s.accounts.TokenFor(ctx, l.at, own)
	if err != nil {
		return failure(l, "path", err)
	}
	needed := acl.ReadControl | acl.WriteControl
	if l.Folder {
		needed |= acl.ReadData
	}
	was := l.object().Effective(t.Token)
	is := acl.Object{Permissions: after, Parent: l.parent(), Share: l.shareParts()}.Effective(t.Token)
	if lost := was & needed &^ is; lost != 0 {
		return fault.Field("action", "grant full to Administrators there first", "afterwards %s, with which we administer %s, could no longer %s: the change could not be taken back",
			name, l.server.Name, strings.Join(lost.Words(l.Folder), ", "))
	}
	return nil
}

func subject(p model.Place) string {
	return namespace.Target{Server: p.Server, Share: p.Share, Sub: p.Path}.String()
}

// next is what the permissions of the place itself become.
func next(p acl.Parts, parent *acl.Parts, folder bool, work settings) (acl.Parts, error) {
	asked := work.Asked
	switch asked.Action {
	case model.RightsGrant:
		mask := asked.Level.Mask()
		if mask == 0 {
			return p, fault.Field("level", "choose full, change, write, read or list", "%q is not a level that can be granted", asked.Level)
		}
		kind := acl.Allow
		if asked.Deny {
			kind = acl.Deny
			mask &^= acl.Synchronize // denying that would keep programs from opening it at all
		}
		scope := asked.Scope
		if scope == "" {
			scope = acl.Everything
		}
		if !slices.Contains(acl.Scopes, scope) {
			return p, fault.Field("scope", "choose everything, this, folders, files, below or one-level", "%q is not a scope", scope)
		}
		flags := scope.Flags()
		if !folder {
			flags = 0
		}
		return p.Grant(kind, work.SID, mask, flags), nil
	case model.RightsRevoke:
		if !slices.ContainsFunc(p.Explicit(), func(e acl.Entry) bool { return e.Account == work.SID }) {
			return p, fault.Field("account", "revoke it at the folder where it comes from (rights PATH shows which), or end inheritance here first: rights protect",
				"%s has no entry of its own here", asked.Account)
		}
		return p.Revoke(work.SID), nil
	case model.RightsOwn:
		return p.Own(work.SID), nil
	case model.RightsProtect:
		return p.Protect(!asked.Drop), nil
	case model.RightsInherit:
		if parent == nil {
			return p, fault.Field("path", "name a folder or file below it", "the top of a share has no folder above to inherit from")
		}
		return p.Inherit(*parent, folder), nil
	case model.RightsReplace:
		if !folder {
			return p, fault.Field("path", "name a folder", "there is nothing below a file")
		}
		return p, nil
	}
	return p, fault.Field("action", "use grant, revoke, own, protect, inherit or replace-below", "%q is not something that can be done to permissions", asked.Action)
}

// below is what the permissions of something below the place become after
// those of its folder became parent. settled is true when nothing further down
// can change.
func below(p, parent acl.Parts, folder bool, work settings) (after acl.Parts, settled bool) {
	switch {
	case work.Asked.Action == model.RightsReplace:
		return p.ReplacedBelow(parent, folder), false
	case work.Asked.Action == model.RightsOwn:
		if !work.Asked.Below {
			return p, true
		}
		return p.Own(work.SID), false
	case p.Protected():
		return p, true
	}
	after = p.Below(parent, folder)
	if slices.Equal(after.Entries(), p.Entries()) {
		return p, true // flags alone are not worth a change
	}
	return after, after.HandsDownAs(p)
}

// shownObjects is how many objects of a change are shown with it.
const shownObjects = 200

// Get tells how far a change of permissions is.
func (s *Service) Get(ctx context.Context, id int64) (model.RightsChange, error) {
	c := model.RightsChange{Objects: []model.RightsObject{}, Shifts: []model.RightsShift{}}
	var work settings
	var err error
	if c.Run, err = s.jobs.Read(ctx, id, runKind, &work, nil); err != nil {
		return c, err
	}
	c.Asked, c.Place = work.Asked, work.Place
	about := id
	if work.Undo != 0 {
		about = work.Undo
	}
	if c.Counts, err = s.db.RightsCounts(ctx, about); err != nil {
		return c, err
	}
	c.Counts.Looked = c.Run.Done
	ended := c.Run.State.Ended()
	c.CanFinish = ended && c.Run.State != model.RunDone
	c.CanUndo = ended && !work.Asked.Rehearse && work.Undo == 0 && c.Counts.Done > 0
	objects, err := s.db.RightsObjects(ctx, about, -1, false, shownObjects)
	if err != nil || len(objects) == 0 {
		return c, err
	}
	return c, s.showObjects(ctx, &c, objects)
}

func (s *Service) showObjects(ctx context.Context, c *model.RightsChange, objects []records.RightsObject) error {
	n, done, err := s.namesAt(ctx, c.Place.Server)
	if err != nil {
		return err
	}
	defer done()
	known := map[[2]acl.Descriptor][]model.RightsShift{}
	for _, o := range objects {
		key := [2]acl.Descriptor{o.Before, o.After}
		shifts, ok := known[key]
		if !ok {
			if shifts, err = s.shifts(ctx, n, acl.Compare(o.Before.Parts(), o.After.Parts()), o.Folder); err != nil {
				return err
			}
			known[key] = shifts
		}
		for _, shift := range shifts { // of the place itself first, then of what lies below
			if !slices.ContainsFunc(c.Shifts, func(s model.RightsShift) bool { return s.Account.SID == shift.Account.SID }) {
				c.Shifts = append(c.Shifts, shift)
			}
		}
		c.Objects = append(c.Objects, model.RightsObject{Path: o.Path, Folder: o.Folder, State: o.State, Trouble: o.Trouble, Before: o.Before.String(), After: o.After.String(), Shifts: shifts})
	}
	return nil
}

// namesAt names accounts as a server does; while the server is away, by what
// their numbers say.
func (s *Service) namesAt(ctx context.Context, server string) (*names, func(), error) {
	r, err := s.estate.Administer(ctx, server)
	if fault.KindOf(err) == fault.Unavailable {
		return s.names(nil), func() {}, nil
	}
	if err != nil {
		return nil, nil, err
	}
	l := &look{server: r.Server, reach: r}
	if l.at, err = s.accounts.At(ctx, r.Server, r.Admin()); err != nil {
		_ = r.Close()
		return nil, nil, err
	}
	return s.names(l.at), l.close, nil
}

// Undo takes back what a change did.
func (s *Service) Undo(ctx context.Context, id int64) (model.RightsChange, error) {
	c, err := s.Get(ctx, id)
	if err != nil {
		return c, err
	}
	if !c.CanUndo {
		return c, fault.New(fault.Stale, "look at it with: bspan rights change "+fmt.Sprint(id), "run %d did nothing that could be undone now", id)
	}
	undo, err := s.jobs.Start(ctx, runKind, c.Run.Subject, settings{Asked: c.Asked, Place: c.Place, Undo: id})
	if err != nil {
		return c, err
	}
	if _, err := s.jobs.Await(ctx, undo, answerWithin); err != nil {
		return c, err
	}
	return s.Get(ctx, undo)
}
