package accounts

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/directory"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/smbadmin"
)

// With signs in to a server to ask about its accounts.
func (s *Service) With(ctx context.Context, server string, do func(at *At) error) error {
	r, err := s.estate.Administer(ctx, server)
	if err != nil {
		return err
	}
	defer r.Close()
	v := r.Server
	at, err := s.At(ctx, v, r.Admin())
	if err == nil {
		defer at.Close()
		err = do(at)
	}
	return refused(v, err)
}

// refused says in words what a server refused.
func refused(v model.Server, err error) error {
	switch {
	case err == nil || fault.KindOf(err) != 0:
		return err
	case errors.Is(err, smbadmin.ErrNotOffered):
		return fault.New(fault.Forbidden, "do it on the server itself", "%s does not offer this: %v", v.Name, err).Because(err)
	case errors.Is(err, fs.ErrInvalid):
		return fault.Field("name", "see the server's rules for names and passwords", "%s does not take it: %v", v.Name, err).Because(err)
	}
	return estate.Unavailable(v, err)
}

// mostListed is how many accounts a list shows.
const mostListed = 500

// OfServer lists the accounts of a server itself whose name contains part.
func (s *Service) OfServer(ctx context.Context, server, part string) (list model.AccountList, err error) {
	list.Accounts = []model.Account{}
	return list, s.With(ctx, server, func(at *At) error {
		users, err := at.Admin.Users(ctx)
		if err != nil {
			return err
		}
		groups, err := at.localGroups(ctx)
		if err != nil {
			return err
		}
		realms := s.Realms(at)
		for _, u := range users {
			a := show(smbadmin.Named{SID: u.SID, Name: u.Name, Realm: at.Server.Name, Kind: account.User}, realms)
			a.FullName, a.Note, a.Disabled = u.FullName, u.Note, u.Disabled
			list.Accounts = append(list.Accounts, a)
		}
		for _, g := range groups {
			n := smbadmin.Named{SID: g.SID, Name: g.Name, Kind: account.LocalGroup}
			if !g.SID.In(account.Builtin) {
				n.Realm = at.Server.Name
			}
			list.Accounts = append(list.Accounts, show(n, realms))
		}
		trim(&list, part)
		return nil
	})
}

// OfDomain lists the accounts of a domain whose name contains part.
func (s *Service) OfDomain(ctx context.Context, domain, part string) (list model.AccountList, err error) {
	d, err := s.db.Directory(ctx, domain)
	if err != nil {
		return list, err
	}
	conn, err := s.dial(ctx, d)
	if err != nil {
		return list, err
	}
	defer conn.Close()
	found, more, err := conn.Accounts(ctx, part, mostListed)
	if err != nil {
		return list, err
	}
	list = model.AccountList{Accounts: []model.Account{}, More: more}
	for _, a := range found {
		list.Accounts = append(list.Accounts, ofDomain(a, conn.Realm()))
	}
	sortAccounts(list.Accounts)
	return list, nil
}

func ofDomain(a directory.Account, realm account.Realm) model.Account {
	n := smbadmin.Named{SID: a.SID, Name: a.Name, Realm: realm.Name, Kind: a.Kind}
	if a.SID.In(account.Builtin) {
		n.Realm = ""
	}
	shown := show(n, []account.Realm{realm})
	shown.FullName, shown.Note, shown.Disabled = a.FullName, a.Note, a.Disabled
	return shown
}

func trim(list *model.AccountList, part string) {
	part = strings.ToLower(part)
	list.Accounts = slices.DeleteFunc(list.Accounts, func(a model.Account) bool {
		return !strings.Contains(strings.ToLower(a.Name+" "+a.FullName), part)
	})
	sortAccounts(list.Accounts)
	if len(list.Accounts) > mostListed {
		list.Accounts, list.More = list.Accounts[:mostListed], true
	}
}

func sortAccounts(list []model.Account) {
	slices.SortFunc(list, func(a, b model.Account) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
}

// Detail tells all about one account as a server sees it.
func (s *Service) Detail(ctx context.Context, server, name string) (detail model.AccountDetail, err error) {
	detail.Groups, detail.Members = []model.Belonging{}, []model.Account{}
	return detail, s.With(ctx, server, func(at *At) error {
		found, sid, err := s.Find(ctx, at, "account", name)
		if err != nil {
			return err
		}
		detail.Account = found
		t, err := s.TokenFor(ctx, at, sid)
		if err != nil {
			return err
		}
		detail.Complete, detail.Missing = t.Missing == "", t.Missing
		for group := range t.All() {
			if group == sid || group == account.Everyone || group == account.AuthenticatedUsers || group == account.Network {
				continue
			}
			named, err := s.Named(ctx, at, []account.SID{group})
			if err != nil {
				return err
			}
			path, err := s.PathNames(ctx, at, t, group)
			if err != nil {
				return err
			}
			detail.Groups = append(detail.Groups, model.Belonging{Group: named[0], Path: path})
		}
		slices.SortStableFunc(detail.Groups, func(a, b model.Belonging) int { return len(a.Path) - len(b.Path) })
		detail.Members, err = s.Members(ctx, at, sid, found.Kind)
		return err
	})
}

// PathNames names the groups that lead from a token's person to one of its groups.
func (s *Service) PathNames(ctx context.Context, at *At, t *Token, group account.SID) ([]string, error) {
	names := []string{}
	named, err := s.Named(ctx, at, t.Path(group))
	for _, n := range named {
		names = append(names, n.Name)
	}
	return names, err
}

// Members lists the direct members of a group.
func (s *Service) Members(ctx context.Context, at *At, sid account.SID, kind account.Kind) ([]model.Account, error) {
	list := []model.Account{}
	groups, err := at.localGroups(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		if g.SID == sid {
			return s.Named(ctx, at, g.Members)
		}
	}
	if kind != account.Group {
		return list, nil
	}
	for _, r := range at.realms {
		if !r.Domain || !sid.In(r.SID) {
			continue
		}
		d, known, err := s.directoryOf(ctx, r.SID)
		if err != nil || !known {
			return list, err
		}
		conn, err := s.dial(ctx, d)
		if err != nil {
			return list, err
		}
		defer conn.Close()
		group, err := conn.BySID(ctx, sid)
		if err != nil {
			return list, err
		}
		members, err := conn.Members(ctx, group)
		for _, m := range members {
			list = append(list, ofDomain(m, r))
		}
		sortAccounts(list)
		return list, err
	}
	return list, nil
}

// CreateGroup makes a group of a server itself.
func (s *Service) CreateGroup(ctx context.Context, server, name string) (a model.Account, err error) {
	if err := checkName(name, 256); err != nil {
		return a, err
	}
	return a, s.With(ctx, server, func(at *At) error {
		sid, err := at.Admin.CreateGroup(ctx, name)
		if errors.Is(err, fs.ErrExist) {
			return (&fault.Error{Kind: fault.Taken, Field: "name", Remedy: "choose another name", Problem: at.Server.Name + " has an account called " + name + " already"}).Because(err)
		}
		if err != nil {
			return err
		}
		a = show(smbadmin.Named{SID: sid, Name: name, Realm: at.Server.Name, Kind: account.LocalGroup}, s.Realms(at))
		return s.record(ctx, at, "group.create", name, nil, a)
	})
}

// CreateUser makes a user of a server itself.
func (s *Service) CreateUser(ctx context.Context, server, name, password string) (a model.Account, err error) {
	if err := checkName(name, 20); err != nil {
		return a, err
	}
	return a, s.With(ctx, server, func(at *At) error {
		to, err := s.estate.Target(ctx, at.Server)
		if err != nil {
			return err
		}
		sid, err := smbadmin.CreateUser(ctx, to, name, password)
		if errors.Is(err, fs.ErrExist) {
			return (&fault.Error{Kind: fault.Taken, Field: "name", Remedy: "choose another name", Problem: at.Server.Name + " has an account called " + name + " already"}).Because(err)
		}
		if err != nil {
			return err
		}
		a = show(smbadmin.Named{SID: sid, Name: name, Realm: at.Server.Name, Kind: account.User}, s.Realms(at))
		return s.record(ctx, at, "user.create", name, nil, a)
	})
}

func checkName(name string, most int) error {
	if name == "" || len([]rune(name)) > most || strings.ContainsAny(name, "\"/\\[]:;|=,+*?<>@\x00") || strings.Trim(name, " .") == "" {
		return fault.Field("name", `use letters, digits and hyphens, and none of " / \ [ ] : ; | = , + * ? < > @`, "%q cannot be the name of an account", name)
	}
	return nil
}

// SetMember makes an account a member of a group of a server itself, or ends that.
func (s *Service) SetMember(ctx context.Context, server, group, member string, belongs bool) error {
	return s.With(ctx, server, func(at *At) error {
		_, groupSID, err := s.Find(ctx, at, "group", group)
		if err != nil {
			return err
		}
		shown, memberSID, err := s.Find(ctx, at, "account", member)
		if err != nil {
			return err
		}
		action, change := "group.add-member", at.Admin.AddMember
		if !belongs {
			action, change = "group.remove-member", at.Admin.RemoveMember
		}
		err = change(ctx, groupSID, memberSID)
		switch {
		case belongs && errors.Is(err, fs.ErrExist):
			return (&fault.Error{Kind: fault.Taken, Field: "account", Remedy: "nothing needs to be done", Problem: shown.Name + " is a member already"}).Because(err)
		case errors.Is(err, fs.ErrNotExist):
			return fault.New(fault.NotFound, "see who is with: bspan account show --server "+at.Server.Name, "%s is not a member, or %s is not a group of %s itself", shown.Name, group, at.Server.Name).Because(err)
		case err != nil:
			return err
		}
		return s.record(ctx, at, action, group, nil, shown)
	})
}

// RemoveGroup removes a group of a server itself.
func (s *Service) RemoveGroup(ctx context.Context, server, name string) error {
	return s.With(ctx, server, func(at *At) error {
		shown, sid, err := s.Find(ctx, at, "group", name)
		if err != nil {
			return err
		}
		if shown.Origin != account.OfServer || shown.Kind != account.LocalGroup {
			return fault.Field("group", "choose a group of the server itself", "%s is not a group of %s itself", shown.Name, at.Server.Name)
		}
		if err := at.Admin.RemoveGroup(ctx, sid); err != nil {
			return err
		}
		return s.record(ctx, at, "group.remove", name, shown, nil)
	})
}

// record keeps what was changed at a server, and forgets what was remembered.
func (s *Service) record(ctx context.Context, at *At, action, name string, before, after any) error {
	defer s.changed()
	s.forget()
	return s.db.Record(ctx, access.Change(ctx, action, at.Server.Name+"/"+name, before, after), "server")
}

// Use tells who uses a server now.
func (s *Service) Use(ctx context.Context, server string) (use model.ServerUse, err error) {
	use = model.ServerUse{Sessions: []model.ServerSession{}, Files: []model.OpenFile{}}
	return use, s.With(ctx, server, func(at *At) error {
		now := time.Now().UTC()
		sessions, err := at.Admin.Sessions(ctx)
		if err != nil {
			return err
		}
		for _, x := range sessions {
			use.Sessions = append(use.Sessions, model.ServerSession{Person: x.Person, Client: strings.TrimPrefix(x.Client, `\\`), Files: int(x.Files), Since: now.Add(-x.Since).Truncate(time.Second), IdleS: int64(x.Idle.Seconds())})
		}
		use.Files, err = OpenFiles(ctx, at.Admin)
		return err
	})
}

// OpenFiles lists what is open at a server, by share and path.
func OpenFiles(ctx context.Context, admin *smbadmin.Admin) ([]model.OpenFile, error) {
	list := []model.OpenFile{}
	files, err := admin.OpenFiles(ctx)
	if err != nil {
		return nil, err
	}
	shares, err := admin.Shares(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		list = append(list, model.OpenFile{Path: shareOf(shares, f.Path), Person: f.Person, Write: f.Write, Locks: int(f.Locks)})
	}
	slices.SortFunc(list, func(a, b model.OpenFile) int { return strings.Compare(a.Path, b.Path) })
	return slices.Compact(list), nil
}

// shareOf writes a server's own path as share and path below it.
func shareOf(shares []smbadmin.Share, path string) string {
	best, rest := "", ""
	for _, h := range shares {
		if h.Kind != "disk" || h.Path == "" {
			continue
		}
		if below, ok := Below(h.Path, path); ok && (best == "" || len(below) < len(rest)) {
			best, rest = h.Name, below
		}
	}
	if best == "" {
		return path
	}
	return strings.TrimSuffix(best+"/"+rest, "/")
}

// Below reports whether a server's own path lies at or below another, and
// where. Servers write drives and slashes in more than one way.
func Below(top, path string) (string, bool) {
	top, path = plainPath(top), plainPath(path)
	if strings.EqualFold(top, path) {
		return "", true
	}
	prefix := strings.TrimSuffix(top, "/") + "/"
	if len(path) > len(prefix) && strings.EqualFold(path[:len(prefix)], prefix) {
		return path[len(prefix):], true
	}
	return "", false
}

func plainPath(p string) string {
	p = strings.ReplaceAll(p, `\`, "/")
	if len(p) > 1 && p[1] == ':' {
		p = p[2:]
	}
	return strings.TrimRight(strings.TrimSuffix(p, "/."), "/")
}
