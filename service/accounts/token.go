package accounts

import (
	"context"
	"errors"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/directory"
	"bridgespan/model"
	"bridgespan/smbadmin"
)

// Token is a token with what could not be found out about it.
type Token struct {
	*account.Token
	// Missing is what could not be asked, and what to do; "" when the token is complete.
	Missing string
}

// At is a server that is being asked about accounts. Who made it closes it.
type At struct {
	Server  model.Server
	Admin   *smbadmin.Admin
	realms  []account.Realm
	groups  []smbadmin.LocalGroup
	asked   bool
	trouble error
	domains map[account.SID]*domain
}

// At prepares to ask a server. The session stays the caller's. admin is nil where
// a mover runs: it has no accounts, and names those of others as they are known.
func (s *Service) At(ctx context.Context, server model.Server, admin *smbadmin.Admin) (*At, error) {
	at := &At{Server: server, Admin: admin}
	if admin == nil {
		return at, nil
	}
	if known, ok := s.realms.Get(server.Name); ok {
		at.realms = known
		return at, nil
	}
	realms, err := admin.Realms(ctx)
	if err != nil {
		return nil, err
	}
	for i := range realms {
		if !realms[i].Domain { // our name for it, not its own
			realms[i].Name = server.Name
		}
	}
	s.realms.Add(server.Name, realms)
	at.realms = realms
	return at, nil
}

// Realms are the server itself, its domain, and every other server and domain
// that we know.
func (s *Service) Realms(at *At) []account.Realm {
	all := slices.Clone(at.realms)
	for _, server := range s.realms.Keys() {
		if others, ok := s.realms.Peek(server); ok && server != at.Server.Name {
			all = append(all, others...)
		}
	}
	return all
}

// localGroups are the server's own groups with their members, asked once.
func (at *At) localGroups(ctx context.Context) ([]smbadmin.LocalGroup, error) {
	if !at.asked && at.Admin != nil {
		at.groups, at.trouble = at.Admin.Groups(ctx)
		at.asked = true
	}
	return at.groups, at.trouble
}

// Named names accounts as people read them, in the order asked for.
func (s *Service) Named(ctx context.Context, at *At, sids []account.SID) ([]model.Account, error) {
	var unknown []account.SID
	for _, one := range sids {
		if _, known := s.named.Get(key{at.Server.Name, one}); !known && !slices.Contains(unknown, one) && !one.IsZero() {
			unknown = append(unknown, one)
		}
	}
	if len(unknown) > 0 && at.Admin == nil {
		s.nameByOthers(at, unknown)
	} else if len(unknown) > 0 {
		found, err := at.Admin.NamesOf(ctx, unknown)
		if err != nil {
			return nil, err
		}
		for _, n := range found {
			s.named.Add(key{at.Server.Name, n.SID}, n)
		}
	}
	realms := s.Realms(at)
	list := make([]model.Account, len(sids))
	for i, one := range sids {
		n, _ := s.named.Get(key{at.Server.Name, one})
		if n.SID = one; ofAnother(at, n, realms) {
			n = smbadmin.Named{SID: one}
		}
		list[i] = show(n, realms)
	}
	return list, nil
}

// ofAnother reports whether an account is one of another server alone. A server cannot know it; some give such a number
// the name of one of their own.
func ofAnother(at *At, n smbadmin.Named, realms []account.Realm) bool {
	own := func(r account.Realm) bool { return n.SID.In(r.SID) }
	if at.Admin == nil || slices.ContainsFunc(at.realms, own) {
		return false
	}
	return account.Describe(n.SID, realms).Origin == account.OfServer || account.EqualNames(n.Realm, at.Server.Name)
}

// nameByOthers names accounts as another server has named them lately.
func (s *Service) nameByOthers(at *At, unknown []account.SID) {
	wanted := map[account.SID]bool{}
	for _, one := range unknown {
		wanted[one] = true
	}
	for _, k := range s.named.Keys() {
		if n, ok := s.named.Peek(k); ok && wanted[k.sid] && n.Name != "" {
			s.named.Add(key{at.Server.Name, k.sid}, n)
			delete(wanted, k.sid)
		}
	}
}

// Describe names one account without asking a server.
func Describe(one account.SID) model.Account {
	return show(smbadmin.Named{SID: one, Kind: account.Unresolved}, nil)
}

// show tells about an account.
func show(n smbadmin.Named, realms []account.Realm) model.Account {
	says := account.Describe(n.SID, realms)
	a := model.Account{SID: n.SID.String(), Name: n.Full(), Kind: n.Kind, Origin: says.Origin, Says: says.Sentence()}
	if says.Origin == account.OfServer && n.Name != "" { // the name that we use for the server
		a.Name = says.Realm + `\` + n.Name
	}
	if known, ok := account.WellKnown(n.SID); ok {
		a.Name = known
		a.Kind = account.Special
		if n.SID.In(account.Builtin) {
			a.Kind = account.LocalGroup
		}
	}
	if a.Name == "" {
		a.Name, a.Kind = n.SID.String(), account.Unresolved
	}
	return a
}

// Find finds an account by name or number. A name without domain or server is
// looked for in all places; when it is in two, the fault at field says where.
func (s *Service) Find(ctx context.Context, at *At, field, name string) (model.Account, account.SID, error) {
	if strings.HasPrefix(strings.ToUpper(name), "S-1-") {
		sid, err := account.ParseSID(name)
		if err != nil {
			return model.Account{}, sid, fault.Field(field, "write a name, or a SID such as S-1-5-32-544", "%v", err)
		}
		named, err := s.Named(ctx, at, []account.SID{sid})
		if err != nil {
			return model.Account{}, sid, err
		}
		return named[0], sid, nil
	}
	found, err := s.candidates(ctx, at, name)
	if err != nil {
		return model.Account{}, account.SID{}, err
	}
	var places []string
	for _, n := range found {
		places = append(places, show(n, s.Realms(at)).Name)
	}
	switch len(found) {
	case 0:
		return model.Account{}, account.SID{}, fault.Field(field, `check the spelling, or write DOMAIN\NAME; find accounts with: bspan account list --server `+at.Server.Name, "%s knows no account %q", at.Server.Name, name)
	case 1:
		s.named.Add(key{at.Server.Name, found[0].SID}, found[0])
		return show(found[0], s.Realms(at)), found[0].SID, nil
	}
	return model.Account{}, account.SID{}, fault.Field(field, "write which one: "+strings.Join(places, " or "), "%q is in %d places", name, len(found))
}

// candidates are the accounts that a name may mean.
func (s *Service) candidates(ctx context.Context, at *At, name string) ([]smbadmin.Named, error) {
	if len(name) == 0 || len(name) > 512 || strings.ContainsAny(name, "\x00\r\n") {
		return nil, nil
	}
	if known, ok := account.ByWellKnownName(name); ok {
		short, _ := account.WellKnown(known)
		return []smbadmin.Named{{SID: known, Name: short, Kind: account.Special}}, nil
	}
	remembered := at.Server.Name + "\x00" + strings.ToLower(name)
	if known, ok := s.found.Get(remembered); ok {
		return known, nil
	}
	asked := []string{name}
	if !strings.ContainsAny(name, `\@`) {
		for _, r := range at.realms {
			asked = append(asked, r.Name+`\`+name)
		}
	} else if server, rest, ok := strings.Cut(name, `\`); ok && strings.EqualFold(server, at.Server.Name) {
		// It may call itself something else.
		asked = append(asked, rest)
	}
	answers, err := at.Admin.SIDsOf(ctx, asked)
	if err != nil {
		return nil, err
	}
	var found []smbadmin.Named
	for _, n := range answers {
		if n.Kind == account.Unresolved || n.Kind == account.Place || n.SID.IsZero() || slices.ContainsFunc(found, func(o smbadmin.Named) bool { return o.SID == n.SID }) {
			continue
		}
		if i := strings.LastIndex(n.Name, `\`); i >= 0 {
			n.Name = n.Name[i+1:]
		}
		n.Name, _, _ = strings.Cut(n.Name, "@")
		found = append(found, n)
	}
	if len(found) > 0 { // one that is missing may be made any moment
		s.found.Add(remembered, found)
	}
	return found, nil
}

// TokenFor makes the token under which an account acts at a server. A group is
// judged as somebody would be who belongs to it and to nothing else.
func (s *Service) TokenFor(ctx context.Context, at *At, sid account.SID) (*Token, error) {
	if known, ok := s.tokens.Get(key{at.Server.Name, sid}); ok {
		return known, nil
	}
	memberships, missing, err := s.memberships(ctx, at, sid)
	if err != nil {
		return nil, err
	}
	t, err := s.token(ctx, at, sid, memberships)
	if err != nil {
		return nil, err
	}
	t.Missing = missing
	s.tokens.Add(key{at.Server.Name, sid}, t)
	return t, nil
}

// token makes a token of the groups that an account has in its domain and at
// the server.
func (s *Service) token(ctx context.Context, at *At, sid account.SID, memberships []directory.Membership) (*Token, error) {
	t := &Token{Token: account.NewToken(sid, len(memberships))}
	for _, m := range memberships {
		t.Add(m.Group, m.Through)
	}
	if err := s.addLocal(ctx, at, t); err != nil {
		return nil, err
	}
	// What file servers give these groups from the start.
	if t.Has(account.Administrators) {
		t.Privileges = account.Privileges{TakeOwnership: true, Backup: true, Restore: true}
	} else if t.Has(account.BackupOperators) {
		t.Privileges = account.Privileges{Backup: true, Restore: true}
	}
	return t, nil
}

// memberships asks the directory of the account's domain.
func (s *Service) memberships(ctx context.Context, at *At, sid account.SID) ([]directory.Membership, string, error) {
	i := slices.IndexFunc(at.realms, func(r account.Realm) bool { return r.Domain && sid.In(r.SID) })
	if i < 0 {
		return nil, "", nil
	}
	d, missing, err := s.domain(ctx, at, at.realms[i])
	if err != nil || missing != "" {
		return nil, missing, err
	}
	if _, group := d.graph.Groups[sid]; group {
		return d.groupsOf(directory.Member{Account: directory.Account{SID: sid}}), "", nil
	}
	m, err := d.asked.Member(ctx, d.graph, sid)
	switch {
	case errors.Is(err, directory.ErrNotFound): // it was removed; what still names it belongs to nothing
		return nil, "", nil
	case errors.Is(err, directory.ErrUnreachable):
		return nil, err.Error(), nil
	}
	return d.groupsOf(m), "", err
}

// addLocal adds the groups of the server itself, and of the users it has itself.
func (s *Service) addLocal(ctx context.Context, at *At, t *Token) error {
	if slices.ContainsFunc(at.realms, func(r account.Realm) bool { return !r.Domain && t.User.In(r.SID) }) {
		own, err := at.Admin.GroupsOf(ctx, []account.SID{t.User})
		if err != nil {
			return err
		}
		for _, group := range own {
			t.Add(group, t.User)
		}
	}
	groups, err := at.localGroups(ctx)
	if err != nil {
		return err
	}
	for changed := true; changed; { // a group of the server may hold another
		changed = false
		for _, g := range groups {
			for _, member := range g.Members {
				if t.Has(member) && t.Add(g.SID, member) {
					changed = true
				}
			}
		}
	}
	return nil
}
