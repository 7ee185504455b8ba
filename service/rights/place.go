// Package rights is about who may do what with the files of a server, and why:
// it shows permissions in words, judges what a person may do, compares places,
// and changes permissions so that every change can be rehearsed and undone.
package rights

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// Service is the use case.
type Service struct {
	db       *records.DB
	estate   *estate.Service
	naming   *naming.Service
	accounts *accounts.Service
	jobs     *jobs.Service
	changed  func()
}

// New makes the service. changed is called after every change.
func New(db *records.DB, e *estate.Service, n *naming.Service, a *accounts.Service, j *jobs.Service, changed func()) *Service {
	s := &Service{db: db, estate: e, naming: n, accounts: a, jobs: j, changed: changed}
	j.Register(runKind, jobs.Policy{Role: model.Administrator, Pool: jobs.Interactive, Stop: jobs.StopsSteps}, s.work)
	j.Register(compareKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch}, s.compare)
	j.Register(whoCanKind, jobs.Policy{Role: model.Operator, Pool: jobs.Interactive}, s.findWhoCan)
	return s
}

// look is a file or folder that is being looked at, with everything that has
// a say in who may do what with it.
type look struct {
	model.Place
	server model.Server
	reach  *estate.Reach // nil in tests of work alone
	at     *accounts.At
	share  smbadmin.Share
	tree   tree.Tree
	// chain are the permissions from the top of the share down to the place.
	chain []acl.Parts
}

func (l *look) close() {
	if l.tree != nil {
		l.tree.Close()
	}
	l.at.Close()
	if l.reach != nil {
		_ = l.reach.Close()
	}
}

// own are the permissions of the place itself.
func (l *look) own() acl.Parts { return l.chain[len(l.chain)-1] }

// parent are the permissions of the folder above; nil at the top of a share.
func (l *look) parent() *acl.Parts {
	if len(l.chain) < 2 {
		return nil
	}
	return &l.chain[len(l.chain)-2]
}

func (l *look) object() acl.Object {
	return acl.Object{Permissions: l.own(), Parent: l.parent(), Share: l.shareParts()}
}

// shareParts are the permissions of the share; nil when everybody comes through.
func (l *look) shareParts() *acl.Parts {
	if l.share.Permissions.IsZero() {
		return nil
	}
	p := l.share.Permissions.Parts()
	return &p
}

// inside is the name of the place in its tree.
func (l *look) inside() string { return inside(l.Path) }

func inside(p string) string {
	if p == "" {
		return "."
	}
	return p
}

// target finds which file or folder of a server a path means: SERVER/SHARE/PATH,
// or, with a leading slash, a path of a namespace.
func (s *Service) target(ctx context.Context, field, text string) (target namespace.Target, asked string, err error) {
	if !strings.HasPrefix(text, "/") {
		target, err := namespace.ParseTarget(field, text)
		return target, "", err
	}
	d, err := s.naming.Where(ctx, text, namespace.Traveller{})
	if err != nil {
		return target, "", at(field, err)
	}
	if len(d.Directions) == 0 {
		return target, "", fault.Field(field, "name a signpost, or something below one", "%s is a plain folder of the namespace: it has no permissions of its own", text)
	}
	first := d.Directions[0]
	return namespace.Target{Server: first.Server, Share: first.Share, Sub: path.Join(first.Sub, d.Rest)}, text, nil
}

func at(field string, err error) error {
	var e *fault.Error
	if errors.As(err, &e) {
		return e.At(field)
	}
	return err
}

// lookAt opens a place and reads its permissions and all above it, for somebody who may
// look there. The caller must close what it gets.
func (s *Service) lookAt(ctx context.Context, field, text string) (*look, error) {
	return s.open(ctx, field, text, mayBrowse)
}

// mayBrowse refuses viewers where they may not look into folders: what an administrative
// account sees, hidden shares too, is not for everybody.
func mayBrowse(ctx context.Context, v model.Server) error {
	u, ok := access.Actor(ctx)
	if !ok || u.Role != model.Viewer || v.ViewersBrowse {
		return nil
	}
	return fault.New(fault.Forbidden, "ask an operator, or have an administrator let viewers browse this server", "viewers may not look into the folders of %s", v.Name)
}

// open opens a place if allowed says so.
func (s *Service) open(ctx context.Context, field, text string, allowed func(context.Context, model.Server) error) (*look, error) {
	target, asked, err := s.target(ctx, field, text)
	if err != nil {
		return nil, err
	}
	if target, err = s.throughFileServer(ctx, target); err != nil {
		return nil, at(field, err)
	}
	r, err := s.estate.Administer(ctx, target.Server)
	if err != nil {
		return nil, at(field, err)
	}
	v := r.Server
	if err := allowed(ctx, v); err != nil {
		_ = r.Close()
		return nil, err
	}
	l := &look{Place: model.Place{Server: v.Name, Share: target.Share, Path: target.Sub, Asked: asked}, server: v, reach: r}
	if err := s.fill(ctx, field, l); err != nil {
		l.close()
		return nil, failure(l, field, err)
	}
	return l, nil
}

func (s *Service) fill(ctx context.Context, field string, l *look) error {
	admin := l.reach.Admin()
	var err error
	if l.at, err = s.accounts.At(ctx, l.server, admin); err != nil {
		return err
	}
	if l.share, err = admin.Share(ctx, l.Share); errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.NotFound, "list its shares with: bspan share list "+l.server.Name, "%s has no share %q", l.server.Name, l.Share).At(field)
	}
	if err != nil {
		return err
	}
	l.Share = l.share.Name
	if l.tree, err = l.reach.Tree(ctx, l.Share, ""); err != nil {
		return err
	}
	entry, err := l.tree.Stat(ctx, l.inside())
	if err != nil {
		return err
	}
	l.Folder = entry.Kind == tree.Folder
	for _, name := range pathsTo(l.Path) {
		d, err := l.tree.Descriptor(ctx, name)
		if err != nil {
			return err
		}
		l.chain = append(l.chain, d.Parts())
	}
	return nil
}

// pathsTo are the names from the top of a share down to a path, both included.
func pathsTo(p string) []string {
	names := []string{"."}
	for i, c := range p {
		if c == '/' {
			names = append(names, p[:i])
		}
	}
	if p != "" {
		names = append(names, p)
	}
	return names
}

// failure says in words why a place cannot be looked at.
func failure(l *look, field string, err error) error {
	switch {
	case fault.KindOf(err) != 0:
		return err
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.NotFound, "check the spelling", "there is no %s", namespace.Target{Server: l.Server, Share: l.Share, Sub: l.Path}).At(field).Because(err)
	case errors.Is(err, fs.ErrInvalid):
		return fault.Field(field, "check the spelling", "%q is not a name that a server can hold", l.Path).Because(err)
	}
	return at(field, estate.Unavailable(l.server, err))
}

// names gathers accounts, so that a server is asked for all of them at once.
type names struct {
	s     *Service
	at    *accounts.At
	known map[account.SID]model.Account
}

func (s *Service) names(at *accounts.At) *names {
	return &names{s, at, map[account.SID]model.Account{}}
}

// learn asks for the names of accounts.
func (n *names) learn(ctx context.Context, sids ...account.SID) error {
	if n.at == nil { // nobody can be asked now: their numbers say what they can
		return nil
	}
	var unknown []account.SID
	for _, sid := range sids {
		if _, known := n.known[sid]; !known && !sid.IsZero() {
			unknown = append(unknown, sid)
		}
	}
	found, err := n.s.accounts.Named(ctx, n.at, unknown)
	for i, a := range found {
		n.known[unknown[i]] = a
	}
	return err
}

func (n *names) of(s account.SID) model.Account {
	if a, ok := n.known[s]; ok {
		return a
	}
	return accounts.Describe(s)
}

func (n *names) pointer(s account.SID) *model.Account {
	if s.IsZero() {
		return nil
	}
	a := n.of(s)
	return &a
}

// short is a name as it stands in a sentence.
func (n *names) short(s account.SID) string {
	a := n.of(s)
	if a.Origin == account.OfDomain {
		if _, name, ok := strings.Cut(a.Name, `\`); ok {
			return name
		}
	}
	return a.Name
}
