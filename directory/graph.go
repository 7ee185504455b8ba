package directory

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-ldap/ldap/v3"

	"bridgespan/core/account"
)

// Graph is everybody in a domain and who belongs to what, as read at one time:
// to judge many accounts without asking for each.
type Graph struct {
	Realm    account.Realm
	Accounts map[account.SID]Account
	parents  map[account.SID][]account.SID
}

// ErrTooMany: a domain has more accounts than a Graph may hold.
var ErrTooMany = errors.New("the domain has more accounts than can be judged at once")

// mostAccounts bounds a Graph.
const mostAccounts = 200000

// Graph reads the whole domain.
func (d *Directory) Graph(ctx context.Context) (*Graph, error) {
	g := &Graph{Realm: d.realm, Accounts: map[account.SID]Account{}, parents: map[account.SID][]account.SID{}}
	byDN := map[string]account.SID{}
	members := map[string][]string{} // of whom, by name
	control := ldap.NewControlPaging(pageSize)
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		request := ldap.NewSearchRequest(d.base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, allAccounts, append([]string{"memberOf"}, wanted...), []ldap.Control{control})
		result, err := d.conn.Search(request)
		if err != nil {
			return nil, classify(err)
		}
		for _, e := range result.Entries {
			if a, ok := toAccount(e); ok {
				g.Accounts[a.SID], byDN[e.DN], members[e.DN] = a, a.SID, e.GetAttributeValues("memberOf")
			}
		}
		if len(g.Accounts) > mostAccounts {
			return nil, fmt.Errorf("%w: %d", ErrTooMany, len(g.Accounts))
		}
		next, ok := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			break
		}
		control.SetCookie(next.Cookie)
	}
	for dn, groups := range members {
		for _, group := range groups {
			if s, known := byDN[group]; known {
				g.parents[byDN[dn]] = append(g.parents[byDN[dn]], s)
			}
		}
	}
	for s, a := range g.Accounts {
		if primary := d.realm.SID.Child(a.primary); a.Kind == account.User && a.primary != 0 {
			if _, known := g.Accounts[primary]; known {
				g.parents[s] = append(g.parents[s], primary)
			}
		}
	}
	return g, nil
}

// GroupsOf lists every group of an account, nearest first, as Directory.GroupsOf does.
func (g *Graph) GroupsOf(s account.SID) []Membership {
	var found []Membership
	seen := map[account.SID]bool{s: true}
	for next := []account.SID{s}; len(next) > 0; next = next[1:] {
		for _, group := range g.parents[next[0]] {
			if !seen[group] {
				seen[group] = true
				found = append(found, Membership{g.Accounts[group], next[0]})
				next = append(next, group)
			}
		}
	}
	return found
}
