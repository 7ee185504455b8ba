package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

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

// NewGraph makes a graph of accounts and of the groups that each belongs to
// directly; primary groups need not be among these.
func NewGraph(realm account.Realm, accounts []Account, memberOf map[account.SID][]account.SID) *Graph {
	g := &Graph{Realm: realm, Accounts: make(map[account.SID]Account, len(accounts)), parents: map[account.SID][]account.SID{}}
	for _, a := range accounts {
		g.Accounts[a.SID] = a
	}
	for _, a := range accounts {
		held := memberOf[a.SID]
		if a.Kind == account.User && a.primary != 0 { // directories do not list it with the others
			held = append(slices.Clone(held), realm.SID.Child(a.primary))
		}
		for _, group := range held {
			if _, known := g.Accounts[group]; known {
				g.parents[a.SID] = append(g.parents[a.SID], group)
			}
		}
	}
	return g
}

// Graph reads the whole domain.
func (d *Directory) Graph(ctx context.Context) (*Graph, error) {
	var accounts []Account
	byDN := map[string]account.SID{}
	named := map[account.SID][]string{} // the groups by name
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
				accounts = append(accounts, a)
				byDN[foldDN(e.DN)], named[a.SID] = a.SID, e.GetAttributeValues("memberOf")
			}
		}
		if len(accounts) > mostAccounts {
			return nil, fmt.Errorf("%w: %d", ErrTooMany, len(accounts))
		}
		next, ok := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			break
		}
		control.SetCookie(next.Cookie)
	}
	memberOf := make(map[account.SID][]account.SID, len(named))
	for sid, groups := range named {
		for _, group := range groups {
			if s, known := byDN[foldDN(group)]; known {
				memberOf[sid] = append(memberOf[sid], s)
			}
		}
	}
	return NewGraph(d.realm, accounts, memberOf), nil
}

// foldDN makes names comparable: their case does not count (RFC 4517, section 4.2.15).
func foldDN(dn string) string { return strings.ToLower(dn) }

// Membership is one step of belonging to a group.
type Membership struct {
	Group, Through account.SID // the group, and the account whose membership it is
}

// GroupsOf lists every group that an account belongs to, nearest first,
// however they are nested, each once, with the account through which it does.
func (g *Graph) GroupsOf(s account.SID) []Membership {
	direct := g.parents[s]
	found := make([]Membership, 0, 3*len(direct))
	seen := make(map[account.SID]struct{}, 3*len(direct)+1)
	seen[s] = struct{}{}
	for next, through := 0, s; ; next++ {
		for _, group := range g.parents[through] {
			if _, known := seen[group]; !known {
				seen[group] = struct{}{}
				found = append(found, Membership{group, through})
			}
		}
		if next == len(found) {
			return found
		}
		through = found[next].Group
	}
}
