// Package shares makes, changes and removes shares of servers. Each can be
// rehearsed: the plan says what would be done, what to consider, and what
// people may do in the end. It is done as a run, step by step, which survives a
// crash; what fails half-way is taken back.
package shares

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/rights"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// Service is the use case.
type Service struct {
	db       *records.DB
	estate   *estate.Service
	accounts *accounts.Service
	rights   *rights.Service
	jobs     *jobs.Service
	changed  func()
}

// New makes the service. changed is called after every change.
func New(db *records.DB, e *estate.Service, a *accounts.Service, r *rights.Service, j *jobs.Service, changed func()) *Service {
	s := &Service{db, e, a, r, j, changed}
	j.Register(runKind, jobs.Policy{Role: model.Administrator, Pool: jobs.Interactive, Exclusive: true, Stop: jobs.StopsSteps}, s.work)
	return s
}

// job is one making, changing or removing of a share.
type job struct {
	*Service
	server model.Server
	reach  *estate.Reach
	admin  *smbadmin.Admin
	at     *accounts.At
	shares []smbadmin.Share
	plan   model.SharePlan
	before smbadmin.Share // as it is, when there is one
	folder acl.Parts
	change
}

func (s *Service) open(ctx context.Context, server string) (*job, error) {
	reach, err := s.estate.Administer(ctx, server)
	if err != nil {
		return nil, err
	}
	v := reach.Server
	j := &job{Service: s, server: v, reach: reach, admin: reach.Admin()}
	if j.at, err = s.accounts.At(ctx, v, j.admin); err == nil {
		j.shares, err = j.admin.Shares(ctx)
	}
	if err != nil {
		j.close()
		return nil, estate.Unavailable(v, err)
	}
	j.plan = model.SharePlan{Server: v.Name, Advice: []finding.Finding{}, Steps: []model.Step{}, Effective: []model.EffectiveRights{}, Connected: []string{}, Signposts: []string{}}
	return j, nil
}

func (j *job) close() {
	j.at.Close()
	_ = j.reach.Close()
}

// Create makes a share, or tells what would be made.
func (s *Service) Create(ctx context.Context, server string, n model.NewShare) (model.SharePlan, error) {
	if buckets, err := s.holdsBuckets(ctx, server); err != nil {
		return model.SharePlan{}, err
	} else if buckets {
		return s.createBucket(ctx, server, n)
	}
	j, err := s.open(ctx, server)
	if err != nil {
		return model.SharePlan{}, err
	}
	defer j.close()
	j.plan.Name, j.plan.Rehearsed = n.Name, n.Rehearse
	j.plan.Advice = append(j.plan.Advice, nameAdvice(n.Name, j.shares)...)
	where, err := j.place(n.Path)
	if err != nil {
		return j.plan, err
	}
	j.plan.Path = where
	j.plan.Advice = append(j.plan.Advice, pathAdvice(where, j.shares)...)
	j.Share = smbadmin.Share{Name: n.Name, Path: where, MaxUses: smbadmin.NoLimit}
	if n.Note != nil {
		j.Share.Note = *n.Note
	}
	if err := j.settle(ctx, n.ShareSettings); err != nil {
		return j.plan, j.failure(err)
	}
	if err := j.lookAtFolder(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	j.planOptions(smbadmin.Options{Offline: smbadmin.OfflineByHand}, n.ShareSettings)
	return j.run(ctx, n.Rehearse, createShare, nil)
}

// place finds the folder that a path means: the server's own path, or
// SHARE:FOLDER.
func (j *job) place(p string) (string, error) {
	if share, sub, ok := strings.Cut(p, ":"); ok && len(share) > 1 && !strings.ContainsAny(share, `\/`) {
		i := slices.IndexFunc(j.shares, func(h smbadmin.Share) bool { return namespace.Key(h.Name) == namespace.Key(share) })
		if i < 0 || j.shares[i].Path == "" {
			return "", fault.Field("path", "list its shares with: bspan share list "+j.server.Name, "%s has no share %q", j.server.Name, share)
		}
		sub = strings.Trim(strings.ReplaceAll(sub, `\`, "/"), "/")
		if sub != "" && !fs.ValidPath(sub) {
			return "", fault.Field("path", "write SHARE:FOLDER/FOLDER", "%q is not a folder below %s", sub, share)
		}
		return strings.TrimSuffix(strings.TrimRight(j.shares[i].Path, `\/`)+`\`+strings.ReplaceAll(sub, "/", `\`), `\`), nil
	}
	plain := strings.ReplaceAll(p, `\`, "/")
	switch {
	case p == "":
		return "", fault.Field("path", `write the server's own path, such as C:\data\loans, or SHARE:FOLDER`, "a path is needed")
	case strings.HasPrefix(plain, "/"):
		p = "C:" + p // what servers without drives expect
	case len(plain) < 3 || plain[1] != ':' || plain[2] != '/':
		return "", fault.Field("path", `write the server's own path, such as C:\data\loans, or SHARE:FOLDER`, "%q is not a path from the top of a volume", p)
	}
	if slices.Contains(strings.Split(plain, "/"), "..") {
		return "", fault.Field("path", "write it without ..", "%q leads out of its own folders", p)
	}
	return strings.TrimRight(strings.ReplaceAll(p, "/", `\`), `\`), nil
}

// settle works out the permissions of the share.
func (j *job) settle(ctx context.Context, n model.ShareSettings) error {
	if n.Access == nil && j.Share.Permissions.IsZero() {
		n.Access = []model.ShareGrant{{Account: "Everyone", Level: acl.Full}}
	}
	p := acl.Parts{}
	if !j.Share.Permissions.IsZero() {
		p = j.Share.Permissions.Parts()
	}
	if n.Access != nil {
		var entries []acl.Entry
		for i, g := range n.Access {
			entry, err := j.grant(ctx, fmt.Sprintf("access[%d]", i), g)
			if err != nil {
				return err
			}
			entries = append(entries, entry)
		}
		p = p.WithEntries(acl.Ordered(entries))
	}
	if n.ReadOnly {
		p = p.WithEntries(readOnly(p.Entries()))
	}
	d, err := p.Descriptor()
	if errors.Is(err, acl.ErrTooLarge) {
		return fault.Field("access", "let groups through instead of many accounts", "a share cannot hold that many entries").Because(err)
	}
	j.Share.Permissions = d
	return err
}

func readOnly(entries []acl.Entry) []acl.Entry {
	capped := slices.Clone(entries)
	for i, e := range capped {
		if e.Type == acl.Allow {
			capped[i].Mask = e.Mask.Mapped() & acl.Read.Mask()
		}
	}
	return slices.DeleteFunc(capped, func(e acl.Entry) bool { return e.Type == acl.Allow && e.Mask == 0 })
}

func (j *job) grant(ctx context.Context, field string, g model.ShareGrant) (acl.Entry, error) {
	_, sid, err := j.accounts.Find(ctx, j.at, field, g.Account)
	if err != nil {
		return acl.Entry{}, err
	}
	switch g.Level {
	case acl.Full, acl.Change, acl.Read:
		return acl.Entry{Type: acl.Allow, Mask: g.Level.Mask(), Account: sid}, nil
	case acl.None:
		return acl.Entry{Type: acl.Deny, Mask: acl.AllAccess, Account: sid}, nil
	}
	return acl.Entry{}, fault.Field(field, "choose full, change, read or none", "%q is not a level of a share", g.Level)
}

// lookAtFolder finds the folder, or plans to make it, and its permissions.
func (j *job) lookAtFolder(ctx context.Context) error {
	over, rest := j.covering(j.plan.Path)
	if over == "" {
		j.plan.Advice = append(j.plan.Advice, finding.New(finding.Warn, "path", "", "no share of this server holds that folder, so it can neither be looked at nor made from here: it must be there already, or the server will refuse", "", "make it on the server, or choose a folder below one that is shared, if only to administrators"))
		return nil
	}
	t, err := j.reach.Tree(ctx, over, "")
	if err != nil {
		return err
	}
	defer t.Close()
	entry, err := t.Stat(ctx, orTop(rest))
	switch {
	case err == nil && entry.Kind != tree.Folder:
		return fault.Field("path", "name a folder", "%s is a file", j.plan.Path)
	case err == nil:
		d, err := t.Descriptor(ctx, orTop(rest))
		if err != nil {
			return err
		}
		j.folder = d.Parts()
		return nil
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	return j.planFolder(ctx, t, over, rest)
}

// planFolder plans to make the folder and those above it that are missing.
func (j *job) planFolder(ctx context.Context, t tree.Tree, over, rest string) error {
	missing := []string{rest}
	parent := path.Dir(rest)
	for ; parent != "."; parent = path.Dir(parent) {
		if _, err := t.Stat(ctx, parent); err == nil {
			break
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		missing = append([]string{parent}, missing...)
	}
	d, err := t.Descriptor(ctx, orTop(parent))
	if err != nil {
		return err
	}
	_, own, err := j.accounts.Find(ctx, j.at, "account", j.signedInAs())
	if err != nil {
		own = account.Administrators
	}
	j.folder = acl.New(d.Parts(), true, own, d.Parts().Group)
	for range missing[1:] {
		j.folder = acl.New(j.folder, true, own, d.Parts().Group)
	}
	j.plan.NewFolder = true
	j.Over, j.Folders = over, missing
	return nil
}

// signedInAs is the account that we administer the server with.
func (j *job) signedInAs() string {
	if j.server.Domain != "" {
		return j.server.Domain + `\` + j.server.Account
	}
	return j.server.Account
}

func orTop(name string) string {
	if name == "" {
		return "."
	}
	return name
}

// covering finds the share that holds a folder most closely, and where.
func (j *job) covering(where string) (share, rest string) {
	for _, h := range j.shares {
		if h.Kind != "disk" || h.Path == "" {
			continue
		}
		if below, ok := accounts.Below(h.Path, where); ok && (share == "" || len(below) < len(rest)) {
			share, rest = h.Name, below
		}
	}
	return share, rest
}

// planOptions plans the options that differ from was.
func (j *job) planOptions(was smbadmin.Options, n model.ShareSettings) {
	j.Was, j.Options = was, was
	if n.HideUnreadable != nil {
		j.Options.HideUnreadable = *n.HideUnreadable
	}
	if n.Encrypt != nil {
		j.Options.Encrypt = *n.Encrypt
	}
	if n.Offline != "" {
		j.Options.Offline = smbadmin.Offline(n.Offline)
	}
}

func optionWords(o smbadmin.Options) string {
	hide, encrypt := "unreadable entries are shown", "encryption is not demanded"
	if o.HideUnreadable {
		hide = "unreadable entries are hidden"
	}
	if o.Encrypt {
		encrypt = "encryption is demanded"
	}
	offline := map[smbadmin.Offline]string{smbadmin.OfflineByHand: "clients keep copies that people choose", smbadmin.OfflineDocuments: "clients keep copies of what people open",
		smbadmin.OfflinePrograms: "clients keep copies of what people open, programs too", smbadmin.OfflineNever: "clients keep no copies"}[o.Offline]
	return strings.Join([]string{hide, encrypt, offline}, ", ")
}

// failure says in words what went wrong with a server.
func (j *job) failure(err error) error {
	if errors.Is(err, smbadmin.ErrNotOffered) {
		return fault.New(fault.Forbidden, "set it on the server itself", "%s does not offer this from afar: %v", j.server.Name, err).Because(err)
	}
	return estate.Unavailable(j.server, err)
}

// Edit changes a share, or tells what would change.
func (s *Service) Edit(ctx context.Context, server, name string, e model.EditShare) (model.SharePlan, error) {
	j, err := s.existing(ctx, server, name)
	if err != nil {
		return model.SharePlan{}, err
	}
	defer j.close()
	j.plan.Rehearsed = e.Rehearse
	if e.Note != nil {
		j.Share.Note = *e.Note
	}
	if err := j.settle(ctx, e.ShareSettings); err != nil {
		return j.plan, j.failure(err)
	}
	if err := j.lookAtFolder(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	was, err := j.admin.ShareOptions(ctx, j.Share.Name)
	if err != nil {
		return j.plan, j.failure(err)
	}
	j.planOptions(was, e.ShareSettings)
	if err := j.users(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	return j.run(ctx, e.Rehearse, editShare, shown(j.before, was))
}

func (s *Service) existing(ctx context.Context, server, name string) (*job, error) {
	j, err := s.open(ctx, server)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(j.shares, func(h smbadmin.Share) bool { return namespace.Key(h.Name) == namespace.Key(name) })
	if i < 0 || j.shares[i].Kind != "disk" {
		j.close()
		return nil, fault.New(fault.NotFound, "list its shares with: bspan share list "+j.server.Name, "%s has no share %q that holds files", j.server.Name, name)
	}
	j.Share, j.before = j.shares[i], j.shares[i]
	j.plan.Name, j.plan.Path = j.Share.Name, j.Share.Path
	return j, nil
}

// users finds out who has something of the share open, and what leads there.
func (j *job) users(ctx context.Context) error {
	open, err := accounts.OpenFiles(ctx, j.admin)
	if err != nil {
		return err
	}
	for _, f := range open {
		if f.Path == j.Share.Name || strings.HasPrefix(f.Path, j.Share.Name+"/") {
			if who := fmt.Sprintf("%s has %s open", f.Person, f.Path); !slices.Contains(j.plan.Connected, who) {
				j.plan.Connected = append(j.plan.Connected, who)
			}
		}
	}
	j.plan.Signposts, err = j.db.LedToFrom(ctx, j.server.Name, j.Share.Name)
	return err
}

// Remove ends a share, or tells what that would mean. The files stay. A share that replica
// sets keep is not ended; one that signposts lead to only with detach, which takes its
// locations out of them.
func (s *Service) Remove(ctx context.Context, server, name string, rehearse, detach bool) (model.SharePlan, error) {
	if buckets, err := s.holdsBuckets(ctx, server); err != nil {
		return model.SharePlan{}, err
	} else if buckets {
		return s.removeBucket(ctx, server, name, rehearse)
	}
	j, err := s.existing(ctx, server, name)
	if err != nil {
		return model.SharePlan{}, err
	}
	defer j.close()
	j.plan.Rehearsed = rehearse
	if err := j.users(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	if err := j.lookAtFolder(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	if len(j.plan.Connected) > 0 {
		j.plan.Advice = append(j.plan.Advice, finding.New(finding.Warn, "share", "", "people have files of it open: what they have not saved may be lost", "", "ask them to close their files first"))
	}
	if len(j.plan.Signposts) > 0 && !detach {
		j.needed("signposts lead there: "+strings.Join(j.plan.Signposts, ", "), "remove these locations first, or together with the share (detach)")
	}
	kept, err := j.keptBy(ctx)
	if err != nil {
		return j.plan, err
	}
	if len(kept) > 0 {
		j.needed("replica sets keep it: "+strings.Join(kept, ", "), "take it out of them first: bspan replica drop SET NAME")
	}
	if detach && len(j.plan.Signposts) > 0 {
		rehearsal, _ := records.Rehearse(ctx)
		if err := j.detach(rehearsal); fault.KindOf(err) == fault.Needed {
			var f *fault.Error
			errors.As(err, &f)
			j.needed(f.Problem, f.Remedy)
		} else if err != nil {
			return j.plan, err
		}
	}
	options, err := j.admin.ShareOptions(ctx, j.Share.Name)
	if err != nil {
		return j.plan, j.failure(err)
	}
	if detach {
		j.Detached = j.plan.Signposts
	}
	return j.run(ctx, rehearse, removeShare, shown(j.before, options))
}

// needed advises against ending the share.
func (j *job) needed(text, remedy string) {
	j.plan.Advice = append(j.plan.Advice, finding.New(finding.Fail, "share", "", text, "", remedy))
}

// detach removes the locations in the share from their signposts.
func (j *job) detach(ctx context.Context) error {
	return j.db.Change(ctx, func(tx *records.Tx) error { return estate.Detach(ctx, tx, j.server.Name, j.Share.Name) })
}

// keptBy are the replicas in the share, each with its set.
func (j *job) keptBy(ctx context.Context) (kept []string, err error) {
	replicas, sets, err := j.db.ReplicasAt(ctx, j.server.Name, j.Share.Name)
	for i, r := range replicas {
		kept = append(kept, sets[i]+" ("+r.Name+")")
	}
	return kept, err
}

// shown is a share as it is kept in the record of changes.
func shown(h smbadmin.Share, o smbadmin.Options) any {
	return map[string]any{"name": h.Name, "note": h.Note, "path": h.Path, "permissions": h.Permissions.String(), "hideUnreadable": o.HideUnreadable, "encrypt": o.Encrypt, "offline": o.Offline}
}
