package rights

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
)

// permissions puts a descriptor in words. from says which folder an inherited
// entry came from.
func permissions(p acl.Parts, on acl.Thing, n *names, from func(acl.Entry) string) model.Permissions {
	shown := model.Permissions{Owner: n.pointer(p.Owner), Group: n.pointer(p.Group), Protected: p.Protected(), NoList: p.Open(), Entries: []model.RightsEntry{}}
	if d, err := p.Descriptor(); err == nil {
		shown.Descriptor = d.String()
	}
	sources := map[string]bool{}
	for _, e := range p.Entries() {
		entry := model.RightsEntry{Account: n.of(e.Account), Allow: e.Type == acl.Allow, Heeded: e.Type == acl.Allow || e.Type == acl.Deny,
			Level: e.Mask.Level(), Mask: hexadecimal(e.Mask), Words: e.Mask.Words(on != acl.OnFile), Scope: e.ScopeOf(), Inherited: e.Flags&acl.Inherited != 0}
		if entry.Inherited {
			entry.From = from(e)
			sources[entry.From] = true
		}
		shown.Entries = append(shown.Entries, entry)
	}
	source := ""
	if len(sources) == 1 {
		for source = range sources {
		}
	}
	shown.Sentence = p.Sentence(on, source, n.short)
	return shown
}

func hexadecimal(m acl.Mask) string { return fmt.Sprintf("0x%08x", uint32(m)) }

// origin finds the folder above that an inherited entry came from: the nearest
// that has it as its own.
func (l *look) origin(e acl.Entry) string {
	for i := len(l.chain) - 2; i >= 0; i-- {
		for _, own := range l.chain[i].Explicit() {
			same := own.Account == e.Account || own.Account == account.CreatorOwner && e.Account == l.own().Owner || own.Account == account.CreatorGroup && e.Account == l.own().Group
			if same && own.Type == e.Type && own.Mask.Mapped() == e.Mask.Mapped() && own.Flags&(acl.ObjectInherit|acl.ContainerInherit) != 0 {
				return l.folderName(i)
			}
		}
	}
	return ""
}

// folderName writes a folder of the chain with its share.
func (l *look) folderName(i int) string {
	name := pathsTo(l.Path)[i]
	if name == "." {
		return "/" + l.Share
	}
	return "/" + l.Share + "/" + name
}

func noOrigin(acl.Entry) string { return "" }

// Show tells who may do what at a place.
func (s *Service) Show(ctx context.Context, path string) (model.Rights, error) {
	l, err := s.lookAt(ctx, "path", path)
	if err != nil {
		return model.Rights{}, err
	}
	defer l.close()
	n := s.names(l.at)
	share := acl.Parts{}
	if p := l.shareParts(); p != nil {
		share = *p
	}
	involved := slices.Concat(l.own().Accounts(), share.Accounts(), []account.SID{l.own().Group})
	if err := n.learn(ctx, involved...); err != nil {
		return model.Rights{}, failure(l, "path", err)
	}
	r := model.Rights{Place: l.Place, File: permissions(l.own(), acl.Of(l.Folder), n, l.origin), Share: permissions(share, acl.OnShare, n, noOrigin), People: []model.EffectiveRights{}}
	seen := map[account.SID]bool{account.CreatorOwner: true, account.CreatorGroup: true, account.OwnerRights: true}
	for _, sid := range involved {
		if seen[sid] || sid.IsZero() || sid == l.own().Group && !slices.Contains(l.own().Accounts(), sid) {
			continue
		}
		seen[sid] = true
		effective, err := s.effective(ctx, l, n, sid, false)
		if err != nil {
			return r, failure(l, "path", err)
		}
		r.People = append(r.People, effective)
	}
	r.Findings = findings(l, n)
	return r, nil
}

// findings are what a person should know about a place.
func findings(l *look, n *names) []finding.Finding {
	list := l.own().Oddities(len(l.chain) == 1)
	for _, sid := range l.own().Accounts() {
		if n.of(sid).Kind == account.Unresolved {
			list = append(list, acl.Oddity{Kind: acl.UnresolvedThere, Account: sid, Entry: -1})
		}
	}
	if p := l.shareParts(); p != nil && len(l.chain) == 1 {
		list = append(list, acl.ShareOddities(*p, l.own())...)
	}
	if parent := l.parent(); parent != nil && l.own().Stale(*parent, l.Folder) {
		list = append(list, acl.Oddity{Kind: acl.StaleInheritance, Entry: -1})
	}
	return shown(list, n, l.Place)
}

func shown(list []acl.Oddity, n *names, at model.Place) []finding.Finding {
	found := []finding.Finding{}
	for _, o := range list {
		subject := ""
		if !o.Account.IsZero() {
			subject = n.of(o.Account).Name
		}
		f := o.Kind.Finding(subject).With(mending(o.Kind, at, subject))
		if o.Entry >= 0 {
			f.Found = fmt.Sprintf("%s: entry %d", f.Found, o.Entry+1)
		}
		found = append(found, f)
	}
	return found
}

// mending is the action that mends an oddity of one place; nil where a person must decide.
func mending(k acl.OddityKind, at model.Place, account string) *finding.Action {
	place := namespace.Target{Server: at.Server, Share: at.Share, Sub: at.Path}.String()
	switch k {
	case acl.InheritanceCut, acl.StaleInheritance:
		return finding.To(finding.Inherit, place)
	case acl.UnresolvedThere:
		return finding.To(finding.Revoke, place, account)
	case acl.ShareNarrower, acl.ShareWider:
		return finding.To(finding.EditShare, at.Server, at.Share)
	}
	return nil
}

// As tells what one account may do at a place, and why.
func (s *Service) As(ctx context.Context, path, name string) (model.EffectiveRights, error) {
	return s.as(ctx, path, name, mayBrowse)
}

// AsSignpost is As where a signpost leads: that is no look into folders, and everybody who
// sees the namespace may ask it.
func (s *Service) AsSignpost(ctx context.Context, location, name string) (model.EffectiveRights, error) {
	return s.as(ctx, location, name, func(context.Context, model.Server) error { return nil })
}

func (s *Service) as(ctx context.Context, path, name string, allowed func(context.Context, model.Server) error) (model.EffectiveRights, error) {
	l, err := s.open(ctx, "path", path, allowed)
	if err != nil {
		return model.EffectiveRights{}, err
	}
	defer l.close()
	_, sid, err := s.accounts.Find(ctx, l.at, "as", name)
	if err != nil {
		return model.EffectiveRights{}, failure(l, "as", err)
	}
	n := s.names(l.at)
	effective, err := s.effective(ctx, l, n, sid, true)
	if err != nil {
		return effective, failure(l, "path", err)
	}
	return effective, nil
}

// effective judges one account; explained adds the reasons.
func (s *Service) effective(ctx context.Context, l *look, n *names, sid account.SID, explained bool) (model.EffectiveRights, error) {
	t, err := s.accounts.TokenFor(ctx, l.at, sid)
	if err != nil {
		return model.EffectiveRights{}, err
	}
	return s.effectiveFor(ctx, l, n, t, explained)
}

// effectiveFor judges the account of a token.
func (s *Service) effectiveFor(ctx context.Context, l *look, n *names, t *accounts.Token, explained bool) (model.EffectiveRights, error) {
	sid := t.User
	d := l.object().Explain(t.Token)
	involved := []account.SID{sid}
	for _, r := range d.Reasons {
		involved = append(involved, r.Account)
	}
	if err := n.learn(ctx, involved...); err != nil {
		return model.EffectiveRights{}, err
	}
	e := verdict(d, n.of(sid), l.Folder, t)
	if !explained {
		return e, nil
	}
	for _, r := range d.Reasons {
		reason, err := s.reason(ctx, l, n, t, r)
		if err != nil {
			return e, err
		}
		e.Reasons = append(e.Reasons, reason)
	}
	return e, nil
}

func verdict(d acl.Decision, a model.Account, folder bool, t *accounts.Token) model.EffectiveRights {
	return model.EffectiveRights{Account: a, Level: d.Granted.Level(), Mask: hexadecimal(d.Granted), Words: d.Granted.Words(folder),
		File: d.File.Level(), Share: d.Share.Level(), Complete: t.Missing == "", Missing: t.Missing}
}

func (s *Service) reason(ctx context.Context, l *look, n *names, t *accounts.Token, r acl.Reason) (model.RightsReason, error) {
	shown := model.RightsReason{Source: r.Source, Granted: r.Granted, Words: r.Mask.Words(l.Folder), Mask: hexadecimal(r.Mask), Entry: r.Entry + 1, Account: n.pointer(r.Account)}
	if !r.Account.IsZero() && r.Account != t.User && t.Has(r.Account) {
		var err error
		if shown.Path, err = s.accounts.PathNames(ctx, l.at, t, r.Account); err != nil {
			return shown, err
		}
	}
	shown.Text = sentence(shown, r, n)
	return shown, nil
}

// sentence says a reason in words.
func sentence(shown model.RightsReason, r acl.Reason, n *names) string {
	rights := strings.Join(shown.Words, ", ")
	if r.Granted && len(shown.Words) > 6 {
		rights = "the rest"
	}
	if level := r.Mask.Level(); level != acl.Unusual && level != acl.None && r.Granted {
		rights = string(level)
	}
	verb := "grants"
	if !r.Granted {
		verb = "denies"
	}
	whom := ""
	if !r.Account.IsZero() {
		whom = n.short(r.Account)
		if len(shown.Path) > 1 {
			whom += ", by way of " + strings.Join(shown.Path[:len(shown.Path)-1], " → ")
		}
	}
	switch r.Source {
	case acl.ByEntry:
		return fmt.Sprintf("entry %d %s %s to %s", shown.Entry, verb, rights, whom)
	case acl.ByParent:
		return fmt.Sprintf("entry %d of the folder above %s to remove what is in it, to %s", shown.Entry, verb, whom)
	case acl.ByShare:
		switch {
		case r.Granted:
			return fmt.Sprintf("entry %d of the share lets %s through for %s", shown.Entry, rights, whom)
		case r.Entry >= 0:
			return fmt.Sprintf("entry %d of the share holds back %s from %s", shown.Entry, rights, whom)
		}
		return "no entry of the share lets through: " + rights
	case acl.ByOwner:
		return "owners may always read and change permissions"
	case acl.ByPrivilege:
		return "a privilege at the server grants: " + rights
	case acl.ByNoList:
		return "there is no list: everybody may do everything"
	case acl.ByProtocol:
		return "servers show attributes to whoever sees the folder"
	}
	if rights == "everything" {
		return "no entry grants anything"
	}
	return "no entry grants: " + rights
}

// Explain puts a descriptor that somebody wrote in words, with the names that a
// server has for its accounts. What is malformed is blamed where it is.
func (s *Service) Explain(ctx context.Context, server, descriptor string, on acl.Thing) (model.Permissions, error) {
	p, err := acl.ParseParts(descriptor)
	if err != nil {
		return model.Permissions{}, fault.Field("descriptor", "write SDDL, such as D:(A;OICI;FA;;;BA)", "%v", err).Because(err)
	}
	r, err := s.estate.Administer(ctx, server)
	if err != nil {
		return model.Permissions{}, at("server", err)
	}
	defer r.Close()
	v := r.Server
	asked, err := s.accounts.At(ctx, v, r.Admin())
	if err != nil {
		return model.Permissions{}, estate.Unavailable(v, err)
	}
	defer asked.Close()
	words, err := s.Words(ctx, asked, p, on)
	if err != nil {
		return words, estate.Unavailable(v, err)
	}
	return words, nil
}

// Words puts permissions in words, for another use case that shows them.
func (s *Service) Words(ctx context.Context, at *accounts.At, p acl.Parts, on acl.Thing) (model.Permissions, error) {
	n := s.names(at)
	if err := n.learn(ctx, append(p.Accounts(), p.Group)...); err != nil {
		return model.Permissions{}, err
	}
	return permissions(p, on, n, noOrigin), nil
}

// Judge tells what accounts may do to an object, without reasons.
func (s *Service) Judge(ctx context.Context, at *accounts.At, o acl.Object, folder bool, sids []account.SID) ([]model.EffectiveRights, error) {
	list := []model.EffectiveRights{}
	n := s.names(at)
	if err := n.learn(ctx, sids...); err != nil {
		return nil, err
	}
	for _, sid := range sids {
		if sid == account.CreatorOwner || sid == account.CreatorGroup || sid == account.OwnerRights {
			continue
		}
		t, err := s.accounts.TokenFor(ctx, at, sid)
		if err != nil {
			return nil, err
		}
		list = append(list, verdict(o.Explain(t.Token), n.of(sid), folder, t))
	}
	return list, nil
}
