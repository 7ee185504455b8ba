package accounts

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
)

// Paired is what an account map says of two servers.
type Paired struct {
	account.Pairing
	one, other *At
	// ofOne are the names of the accounts that may have a pair.
	ofOne map[account.SID]string
}

// Pair finds out what an account map says of the accounts of two servers and of
// their domains. Those that are known everywhere stay as they are.
func (s *Service) Pair(ctx context.Context, name string, one, other *At) (*Paired, error) {
	m, err := s.db.AccountMap(ctx, name)
	if err != nil {
		return nil, err
	}
	rules, err := rulesOf(m)
	if err != nil {
		return nil, err
	}
	first, err := s.homeOf(ctx, one)
	if err != nil {
		return nil, refused(one.Server, err)
	}
	second, err := s.homeOf(ctx, other)
	if err != nil {
		return nil, refused(other.Server, err)
	}
	homes, err := s.domainsOf(ctx, one, rules, second)
	if err != nil {
		return nil, refused(one.Server, err)
	}
	others, err := s.domainsOf(ctx, other, rules, first)
	if err != nil {
		return nil, refused(other.Server, err)
	}
	homes, others = append(homes, first), append(others, second)
	strange, err := s.strange(ctx, rules, append(homes, others...))
	if err != nil {
		return nil, err
	}
	p := &Paired{Pairing: account.Pair(rules, homes, others), one: one, other: other, ofOne: map[account.SID]string{}}
	p.Lacking = append(p.Lacking, strange...)
	for _, h := range homes {
		for name, sid := range h.Accounts {
			p.ofOne[sid] = h.Name + `\` + name
		}
	}
	return p, nil
}

// strange are the places of rules that are no server and no domain that is known.
func (s *Service) strange(ctx context.Context, rules []account.Rule, homes []account.Home) (list []string, err error) {
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		return nil, err
	}
	domains, err := s.db.Directories(ctx)
	if err != nil {
		return nil, err
	}
	var known []string
	for _, v := range servers {
		known = append(known, v.Name)
	}
	for _, d := range domains {
		known = append(known, d.Name)
	}
	for _, h := range homes {
		known = append(known, h.Name)
	}
	for _, r := range rules {
		for _, side := range []account.PlacedName{r.One, r.Other} {
			here := func(name string) bool { return account.EqualNames(name, side.Place) }
			if said := side.Place + `\`; !slices.ContainsFunc(known, here) && !slices.Contains(list, said) {
				list = append(list, said)
			}
		}
	}
	return list, nil
}

// homeOf is a server with the accounts that are its own.
func (s *Service) homeOf(ctx context.Context, at *At) (account.Home, error) {
	h := account.Home{Name: at.Server.Name, Accounts: map[string]account.SID{}}
	users, err := at.Admin.Users(ctx)
	if err != nil {
		return h, err
	}
	groups, err := at.localGroups(ctx)
	if err != nil {
		return h, err
	}
	for _, g := range groups {
		if !g.SID.In(account.Builtin) {
			h.Accounts[g.Name] = g.SID
		}
	}
	for _, u := range users {
		h.Accounts[u.Name] = u.SID
	}
	return h, nil
}

// domainsOf are the domains of a server that rules are about, with those of their
// accounts that matter: the ones that rules name, and those that are called like
// one of another server.
func (s *Service) domainsOf(ctx context.Context, at *At, rules []account.Rule, other account.Home) (homes []account.Home, err error) {
	for _, r := range at.realms {
		if !r.Domain {
			continue
		}
		names := map[string]bool{}
		for _, rule := range rules {
			for _, side := range []account.PlacedName{rule.One, rule.Other} {
				if account.EqualNames(side.Place, r.Name) {
					names[side.Name] = true
				}
			}
		}
		if names[account.All] {
			delete(names, account.All)
			for name := range other.Accounts {
				names[name] = true
			}
		}
		h := account.Home{Name: r.Name, Accounts: map[string]account.SID{}}
		list := slices.Sorted(maps.Keys(names))
		var asked []string
		for _, name := range list {
			asked = append(asked, r.Name+`\`+name)
		}
		found, err := at.Admin.SIDsOf(ctx, asked)
		if err != nil {
			return nil, err
		}
		for i, n := range found {
			if n.Kind != account.Unresolved && n.SID.In(r.SID) {
				h.Accounts[list[i]] = n.SID
			}
		}
		homes = append(homes, h)
	}
	return homes, nil
}

// Wider tells who belongs to a group at the other server and not to its pair: who
// gains by the map what the pair may.
func (p *Paired) Wider(ctx context.Context, s *Service) ([]string, error) {
	wider := []string{}
	var ones, others []account.SID
	for _, pair := range p.sorted() {
		ones, others = append(ones, pair[0]), append(others, pair[1])
	}
	named, err := s.Named(ctx, p.one, ones)
	if err != nil {
		return wider, err
	}
	paired, err := s.Named(ctx, p.other, others)
	if err != nil {
		return wider, err
	}
	here, there := s.membersAt(p.one), s.membersAt(p.other)
	defer here.close()
	defer there.close()
	swap := p.Swap()
	for i := range ones {
		if k := paired[i].Kind; k != account.Group && k != account.LocalGroup {
			continue
		}
		gain, told, err := there.of(ctx, others[i])
		if err != nil {
			return wider, err
		}
		had, alsoTold, err := here.of(ctx, ones[i])
		if err != nil {
			return wider, err
		}
		if !told || !alsoTold {
			continue
		}
		gain = slices.DeleteFunc(slices.Clone(gain), func(m account.SID) bool { return slices.Contains(had, swap(m)) })
		who, err := s.Named(ctx, p.other, gain)
		if err != nil {
			return wider, err
		}
		for _, m := range who {
			wider = append(wider, fmt.Sprintf("%s belongs to %s, and not to %s", m.Name, paired[i].Name, named[i].Name))
		}
	}
	return wider, nil
}

// sorted are the pairs by the name of the first.
func (p *Paired) sorted() (list [][2]account.SID) {
	for _, a := range slices.SortedFunc(maps.Keys(p.Pairs), func(a, b account.SID) int { return cmp.Compare(p.ofOne[a], p.ofOne[b]) }) {
		list = append(list, [2]account.SID{a, p.Pairs[a]})
	}
	return list
}

// Pairs tells in names what an account map says of two servers.
func (s *Service) Pairs(ctx context.Context, name, one, other string) (model.AccountPairs, error) {
	found := model.AccountPairs{Pairs: []model.AccountPair{}, Without: []model.Account{}, Lacking: []string{}, Clashing: []string{}}
	err := s.With(ctx, one, func(first *At) error {
		return s.With(ctx, other, func(second *At) error {
			if first.Server.Name == second.Server.Name {
				return fault.Field("other", "name another one", "both are the server %s", first.Server.Name)
			}
			p, err := s.Pair(ctx, name, first, second)
			if err != nil {
				return err
			}
			return s.tellPairs(ctx, p, &found)
		})
	})
	return found, err
}

func (s *Service) tellPairs(ctx context.Context, p *Paired, found *model.AccountPairs) (err error) {
	found.One, found.Other = p.one.Server.Name, p.other.Server.Name
	sids := slices.SortedFunc(maps.Keys(p.ofOne), func(a, b account.SID) int { return cmp.Compare(p.ofOne[a], p.ofOne[b]) })
	named, err := s.Named(ctx, p.one, sids)
	if err != nil {
		return err
	}
	for i, sid := range sids {
		pair, ok := p.Pairs[sid]
		if !ok {
			found.Without = append(found.Without, named[i])
			continue
		}
		other, err := s.Named(ctx, p.other, []account.SID{pair})
		if err != nil {
			return err
		}
		found.Pairs = append(found.Pairs, model.AccountPair{One: named[i], Other: other[0]})
	}
	found.Lacking, found.Clashing = append(found.Lacking, p.Lacking...), append(found.Clashing, p.Clashing...)
	found.Wider, err = p.Wider(ctx, s)
	return err
}
