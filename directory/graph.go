package directory

import (
	"context"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"bridgespan/core/account"
)

// Graph is every group of a domain and what each belongs to, as read at one
// time: to tell the groups of many users without asking for each.
type Graph struct {
	Realm   account.Realm
	Groups  map[account.SID]Account
	parents map[account.SID][]account.SID
	byDN    map[string]account.SID
}

// Member is a user with the groups that they belong to directly, the primary
// group among them.
type Member struct {
	Account
	Direct []account.SID
}

// NewGraph makes a graph of groups and of those that each belongs to directly.
func NewGraph(realm account.Realm, groups []Account, memberOf map[account.SID][]account.SID) *Graph {
	g := &Graph{Realm: realm, Groups: make(map[account.SID]Account, len(groups)), parents: map[account.SID][]account.SID{}, byDN: make(map[string]account.SID, len(groups))}
	for _, a := range groups {
		g.Groups[a.SID], g.byDN[foldDN(a.dn)] = a, a.SID
	}
	for sid, held := range memberOf {
		g.parents[sid] = g.known(held)
	}
	return g
}

func (g *Graph) known(groups []account.SID) []account.SID {
	return slices.DeleteFunc(slices.Clone(groups), func(s account.SID) bool { _, known := g.Groups[s]; return !known })
}

// Graph reads all groups of the domain.
func (d *Directory) Graph(ctx context.Context) (*Graph, error) {
	var list []Account
	named := map[account.SID][]string{} // what each belongs to, by name
	for e, err := range d.search(ctx, groups, withGroups) {
		if err != nil {
			return nil, err
		}
		if a, ok := toAccount(e); ok {
			list = append(list, a)
			named[a.SID] = e.GetAttributeValues("memberOf")
		}
	}
	g := NewGraph(d.realm, list, nil)
	for sid, names := range named {
		g.parents[sid] = g.byNames(names)
	}
	return g, nil
}

// byNames are the groups that a directory calls so; those that it does not
// show us are left out.
func (g *Graph) byNames(names []string) []account.SID {
	var list []account.SID
	for _, name := range names {
		if s, known := g.byDN[foldDN(name)]; known {
			list = append(list, s)
		}
	}
	return list
}

// foldDN makes names comparable: their case does not count (RFC 4517, section 4.2.15).
func foldDN(dn string) string { return strings.ToLower(dn) }

func (g *Graph) member(e *ldap.Entry) (Member, bool) {
	a, ok := toAccount(e)
	m := Member{Account: a, Direct: g.byNames(e.GetAttributeValues("memberOf"))}
	if a.Kind == account.User && a.primary != 0 { // directories do not list it with the others
		m.Direct = append(m.Direct, g.known([]account.SID{g.Realm.SID.Child(a.primary)})...)
	}
	return m, ok
}

// Membership is one step of belonging to a group.
type Membership struct {
	Group, Through account.SID // the group, and the account whose membership it is
}

// GroupsOf lists every group that an account belongs to, nearest first,
// however they are nested, each once, with the account through which it does.
// Of users, direct are the groups that they belong to directly; of groups that
// is known.
func (g *Graph) GroupsOf(s account.SID, direct []account.SID) []Membership {
	if _, group := g.Groups[s]; group {
		direct = g.parents[s]
	}
	found := make([]Membership, 0, 3*len(direct))
	seen := make(map[account.SID]struct{}, 3*len(direct)+1)
	seen[s] = struct{}{}
	for next, through := 0, s; ; next++ {
		for _, group := range direct {
			if _, known := seen[group]; !known {
				seen[group] = struct{}{}
				found = append(found, Membership{group, through})
			}
		}
		if next == len(found) {
			return found
		}
		through = found[next].Group
		direct = g.parents[through]
	}
}
