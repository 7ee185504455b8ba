// Package fronts keeps fronts: namespaces as shares of SMB servers, in which people's own file
// browsers find the server that is right for their site.
//
// A front is written by a mover at its host. One instance of the service keeps all of them current:
// it compares each as a whole when its mover is reached, and writes what changes from then on.
package fronts

import (
	"context"
	"strings"
	"sync"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/endpoint"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/service/vault"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	vault   *vault.Vault
	estate  *estate.Service
	naming  *naming.Service
	jobs    *jobs.Service
	changed func()

	mu      sync.Mutex
	writers map[int64]*writer // those that this instance keeps, by the numbers of their fronts
	settled chan struct{}     // rung when the set of fronts may have changed
}

// topic is that of the events about fronts.
const topic = "front"

// New makes the service. changed is called after every change.
func New(db *records.DB, v *vault.Vault, e *estate.Service, n *naming.Service, j *jobs.Service, changed func()) *Service {
	s := &Service{db: db, vault: v, estate: e, naming: n, jobs: j, changed: changed, writers: map[int64]*writer{}, settled: make(chan struct{}, 1)}
	j.Register(runKind, jobs.Policy{Role: model.Administrator, Pool: jobs.Interactive, Exclusive: true, Stop: jobs.StopsSteps}, s.work)
	return s
}

// Fronts lists the fronts of a namespace, or all of them when it is "".
func (s *Service) Fronts(ctx context.Context, name string) ([]model.Front, error) {
	return s.db.Fronts(ctx, name)
}

// Front shows a front.
func (s *Service) Front(ctx context.Context, server, share string) (model.Front, error) {
	return s.db.Front(ctx, server, share)
}

// Connected tells who has a front open.
func (s *Service) Connected(ctx context.Context, server, share string) ([]model.FrontConnection, error) {
	f, err := s.db.Front(ctx, server, share)
	if err != nil {
		return nil, err
	}
	list := []model.FrontConnection{}
	err = s.at(ctx, f, func(at moverfront.Client) error {
		connected, err := at.Connected(ctx)
		for _, c := range connected {
			list = append(list, model.FrontConnection(c))
		}
		return err
	})
	return list, err
}

// At finds the front at a site that shows a path inside a namespace; nil when there is none. A front that is
// current is preferred.
func (s *Service) At(ctx context.Context, name, inside, site string) (*model.Front, error) {
	list, err := s.db.Fronts(ctx, name)
	var found *model.Front
	for i := range list {
		f := &list[i]
		_, shows := namespace.Below(f.Branch, inside)
		if !shows || namespace.Key(f.Site) != namespace.Key(site) || f.State == model.FrontLeaving {
			continue
		}
		if found == nil || found.State != model.FrontCurrent && f.State == model.FrontCurrent {
			found = f
		}
	}
	return found, err
}

// Required is At, and returns a fault when there is none.
func (s *Service) Required(ctx context.Context, name, inside, site string) (model.Front, error) {
	if site == "" {
		return model.Front{}, fault.Field("from", "name the site that the person is at", "each front belongs to a site")
	}
	found, err := s.At(ctx, name, inside, site)
	if err == nil && found == nil {
		err = fault.Field("through", "add one with bspan front add, or ask through the gateway", "no front at %s shows %s", site, strings.TrimSuffix("/"+name+"/"+inside, "/"))
	}
	if err != nil {
		return model.Front{}, err
	}
	return *found, nil
}

// Edit changes the settings of a front. version is what the caller last read.
func (s *Service) Edit(ctx context.Context, server, share string, version int64, e model.EditFront) (model.Front, error) {
	f, err := s.db.Front(ctx, server, share)
	if err != nil {
		return f, err
	}
	switch {
	case f.State == model.FrontLeaving:
		return f, fault.New(fault.Stale, "wait until the removal has finished or was undone", "%s is being removed", name(f))
	case f.Version != version: // before anything is said to the file service
		return f, stale(f)
	}
	before := f
	if e.Branch != nil {
		f.Branch = *e.Branch
		if err := s.findBranch(ctx, &f); err != nil {
			return f, err
		}
	}
	if e.LeaveOutFailing != nil {
		f.LeaveOutFailing = *e.LeaveOutFailing
	}
	var secret []byte
	if e.CheckAs != nil {
		f.CheckDomain, f.CheckAccount = e.CheckAs.Domain, e.CheckAs.Account
		if f.CheckAccount == "" {
			f.CheckDomain = ""
		} else if secret, err = s.seal(f, e.CheckAs.Password); err != nil {
			return f, err
		}
	}
	if e.Comment != nil && *e.Comment != f.Comment {
		f.Comment = *e.Comment
	}
	if f.Comment != before.Comment && !records.Rehearsing(ctx) {
		if err := s.at(ctx, f, func(at moverfront.Client) error { return at.Offer(ctx, f.Comment) }); err != nil {
			return f, err
		}
	}
	if err := s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.UpdateFront(ctx, f, secret); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "front.edit", name(f), shown(before), shown(f)), topic)
	}); err != nil {
		return f, err
	}
	s.changed()
	return s.db.Front(ctx, server, share)
}

func stale(f model.Front) error {
	return fault.New(fault.Stale, "read it again, and repeat the change", "%s has changed since it was read", name(f))
}

// name is how a front is called: SERVER/SHARE.
func name(f model.Front) string { return f.Server + "/" + f.Share }

// settings are what of a front stands in the record of changes.
type settings struct {
	Server, Share, Namespace, Branch, Comment string
	LeaveOutFailing                           bool
	CheckAs                                   string
}

func shown(f model.Front) settings {
	return settings{f.Server, f.Share, f.Namespace, f.Branch, f.Comment, f.LeaveOutFailing, strings.TrimPrefix(f.CheckDomain+`\`+f.CheckAccount, `\`)}
}

// findBranch finds the folder of the namespace at a front's branch, and spells it as it is there.
func (s *Service) findBranch(ctx context.Context, f *model.Front) error {
	f.Branch = strings.Trim(f.Branch, "/")
	if _, err := s.naming.Namespace(ctx, f.Namespace); err != nil {
		return err
	}
	if f.Branch == "" {
		return nil
	}
	if err := namespace.CheckPath("branch", f.Branch); err != nil {
		return err
	}
	e, err := s.naming.EntryAt(ctx, f.Namespace, f.Branch)
	switch {
	case fault.KindOf(err) == fault.NotFound:
		return fault.Field("branch", "name a folder of the namespace; list them with: bspan namespace tree "+f.Namespace, "there is no folder /%s/%s", f.Namespace, f.Branch)
	case err == nil && e.Kind != namespace.Folder:
		return fault.Field("branch", "name a folder of the namespace", "/%s/%s is a signpost: a front needs a folder", f.Namespace, f.Branch)
	}
	f.Branch = e.Path
	return err
}

// secretLabel binds the password of an account that checks a front to where it may be sent.
func secretLabel(f model.Front) string {
	return "front " + strings.ToLower(f.Host+"/"+f.Share+" account "+f.CheckDomain+`\`+f.CheckAccount)
}

func noPassword(account string) error {
	return fault.Field("checkAs.password", "enter the password of "+account, "a password is needed")
}

func (s *Service) seal(f model.Front, password string) ([]byte, error) {
	if password == "" {
		return nil, noPassword(f.CheckAccount)
	}
	return s.vault.Seal(secretLabel(f), password), nil
}

// at reaches the mover of a front.
func (s *Service) at(ctx context.Context, f model.Front, do func(moverfront.Client) error) error {
	r, err := s.estate.Reach(ctx, f.Server)
	if err != nil {
		return err
	}
	defer r.Close()
	at, ok := endpoint.Front(r.Endpoint, f.Share)
	if !ok {
		return fault.Field("server", "name a host where a mover runs beside a file service", "no mover runs at %s", f.Server)
	}
	return do(at)
}

// Where are the directions that a front at a site gives for a full path.
func (s *Service) Where(ctx context.Context, full, site string, fresh bool) (model.Directions, error) {
	name, inside, err := namespace.Split("path", full)
	if err != nil {
		return model.Directions{}, err
	}
	f, err := s.Required(ctx, name, inside, site)
	if err != nil {
		return model.Directions{}, err
	}
	below, _ := namespace.Below(f.Branch, inside)
	d, err := s.naming.Through(ctx, full, f.Settings(), fresh)
	d.Through, d.Opens = f.Server+"/"+f.Share, strings.TrimSuffix(f.UNC()+`\`+strings.ReplaceAll(below, "/", `\`), `\`)
	return d, err
}
