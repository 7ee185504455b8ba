package planning

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/finding"
	"bridgespan/core/text"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/service/preflight"
	"bridgespan/service/replicas/sets"
)

// judgeAccounts asks each place for the accounts that the seed's permissions
// name, through the account map when there is one.
func (p *planner) judgeAccounts(ctx context.Context) {
	if p.set.Permissions == model.PermissionsLeave {
		return
	}
	seed := p.sites[slices.IndexFunc(p.sites, func(s *planSite) bool { return s.place.Seed })]
	met, at := p.namedAt(ctx, seed)
	if at != nil {
		defer at.Close()
	}
	for _, s := range p.sites {
		if s.place.Seed || len(met) == 0 {
			continue
		}
		if p.AccountsAt(ctx, s.replica.Server) == "" {
			p.add("accounts", finding.Pass, s.replica.Name+": permissions are kept there as the seed has them; nobody signs in there", "", "")
			continue
		}
		if err := p.accountsAt(ctx, at, s, met); err != nil {
			p.add("accounts", finding.Warn, fmt.Sprintf("%s: it cannot be asked for the names of accounts: %s", s.replica.Name, sets.Words(err)), "permissions may arrive as numbers", "check the server", finding.To(finding.CheckServer, s.replica.Server))
		}
	}
}

// accountsAt judges the accounts that the seed's permissions name at another
// place. seed asks the seed's server; nil when that cannot be asked.
func (p *planner) accountsAt(ctx context.Context, seed *accounts.At, s *planSite, met map[account.SID]string) error {
	if s.server.Beside != "" {
		return p.People.With(ctx, s.server.Beside, func(there *accounts.At) error { return p.accountsThere(ctx, seed, there, s, met) })
	}
	there, err := p.People.At(ctx, s.server, s.reach.Admin())
	if err != nil {
		return err
	}
	defer there.Close()
	return p.accountsThere(ctx, seed, there, s, met)
}

func (p *planner) accountsThere(ctx context.Context, seed, there *accounts.At, s *planSite, met map[account.SID]string) error {
	pairs := map[account.SID]account.SID{}
	if p.set.Permissions == model.PermissionsMap && there.Server.Name != p.set.AccountsOf && seed != nil {
		paired, err := p.People.Pair(ctx, p.set.AccountMap, seed, there)
		if err != nil {
			return err
		}
		pairs = paired.Pairs
		if err := p.judgePairs(ctx, s, paired); err != nil {
			return err
		}
	}
	unresolved, mapped, err := p.unresolved(ctx, there, met, pairs)
	if err != nil {
		return err
	}
	byMap := ""
	if p.set.Permissions == model.PermissionsMap {
		byMap = p.set.AccountMap
	}
	p.lines = append(p.lines, preflight.Accounts(s.replica.Name, preflight.Known{All: len(met), Unknown: unresolved, Mapped: mapped, Map: byMap,
		Remedy: "use accounts of the domain in these permissions, carry them through an account map, or let each replica have its own: permissions leave"}))
	return nil
}

// judgePairs judges what an account map says of the seed's server and another one.
func (p *planner) judgePairs(ctx context.Context, s *planSite, paired *accounts.Paired) error {
	of := fmt.Sprintf("%s: the map %s", s.replica.Name, p.set.AccountMap)
	if n := len(paired.Lacking); n > 0 {
		p.add("account map", finding.Warn, fmt.Sprintf("%s names accounts, or servers, that are not there: %s", of, ShortList(paired.Lacking)), "these rules do nothing", "make the accounts, or correct the rules")
	}
	if n := len(paired.Clashing); n > 0 {
		p.add("account map", finding.Warn, fmt.Sprintf("%s says of accounts what an earlier rule denies: %s", of, ShortList(paired.Clashing)), "an account has one pair: the earlier rule counts", "take the later rules out")
	}
	wider, err := paired.Wider(ctx, p.People)
	if len(wider) > 0 {
		p.add("account map", finding.Warn, fmt.Sprintf("%s lets people do more at %s: %s", of, s.replica.Server, ShortList(wider)), "they may do there what the pair of their group may do at the seed", "look at the members of these groups before")
	}
	return err
}

func ShortList(list []string) string {
	text := strings.Join(list[:min(len(list), 5)], "; ")
	if more := len(list) - 5; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

// namedAt names the accounts in a place's permissions, each with a path. at asks
// its server, and must be closed; nil when it cannot be asked.
func (p *planner) namedAt(ctx context.Context, s *planSite) (names map[account.SID]string, at *accounts.At) {
	names = map[account.SID]string{}
	for _, use := range s.accounts.List {
		names[use.SID] = fmt.Sprintf("%s (at %s)", use.SID, text.Middle(use.Example))
	}
	at, err := p.People.At(ctx, s.server, s.reach.Admin())
	if err != nil {
		return names, nil
	}
	sids := make([]account.SID, len(s.accounts.List))
	for i, use := range s.accounts.List {
		sids[i] = use.SID
	}
	named, err := p.People.Named(ctx, at, sids)
	if err != nil {
		return names, at
	}
	for i, a := range named {
		names[sids[i]] = fmt.Sprintf("%s (at %s)", a.Name, text.Middle(s.accounts.List[i].Example))
	}
	return names, at
}

// unresolved lists accounts that a place cannot name and that have no pair there,
// and counts those that have one.
func (p *planner) unresolved(ctx context.Context, at *accounts.At, met map[account.SID]string, pairs map[account.SID]account.SID) (list []string, mapped int, err error) {
	sids := slices.SortedFunc(maps.Keys(met), func(a, b account.SID) int { return cmp.Compare(a.String(), b.String()) })
	named, err := p.People.Named(ctx, at, sids)
	for i, a := range named {
		if _, ok := pairs[sids[i]]; ok {
			mapped++
		} else if a.Kind == account.Unresolved {
			list = append(list, met[sids[i]])
		}
	}
	return list, mapped, err
}
