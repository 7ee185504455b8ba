package directory

import (
	"context"
	"fmt"
	"iter"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"bridgespan/core/account"
)

var wanted = []string{"objectSid", "sAMAccountName", "displayName", "description", "objectClass", "userAccountControl", "primaryGroupID", "groupType"}

// withGroups is wanted, and which groups the account belongs to.
var withGroups = append([]string{"memberOf"}, wanted...)

// Filters of the kinds of accounts ([MS-ADTS] 6.1): people, not machines.
const (
	people      = "(&(objectCategory=person)(objectClass=user))"
	groups      = "(objectClass=group)"
	allAccounts = "(|" + people + groups + ")"
)

// pageSize is how many accounts are asked for at once; directories give no more than 1,000.
const pageSize = 500

// Accounts lists accounts whose name contains part (all when it is ""), at
// most limit, in no order, and reports whether there are more.
func (d *Directory) Accounts(ctx context.Context, part string, limit int) (list []Account, more bool, err error) {
	filter := allAccounts
	if part != "" {
		some := "*" + ldap.EscapeFilter(part) + "*"
		filter = "(&" + filter + "(|(sAMAccountName=" + some + ")(displayName=" + some + ")))"
	}
	for e, err := range d.search(ctx, filter, wanted) {
		if err != nil {
			return nil, false, err
		}
		if len(list) == limit {
			return list, true, nil
		}
		if a, ok := toAccount(e); ok {
			list = append(list, a)
		}
	}
	return list, false, nil
}

// search finds entries of the domain, some at a time (RFC 2696), however many
// there are.
func (d *Directory) search(ctx context.Context, filter string, attributes []string) iter.Seq2[*ldap.Entry, error] {
	return func(yield func(*ldap.Entry, error) bool) {
		control := ldap.NewControlPaging(pageSize)
		for {
			if err := ctx.Err(); err != nil {
				yield(nil, err)
				return
			}
			result, err := d.conn.Search(ldap.NewSearchRequest(d.base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, attributes, []ldap.Control{control}))
			if err != nil {
				yield(nil, classify(err))
				return
			}
			for _, e := range result.Entries {
				if !yield(e, nil) {
					return
				}
			}
			next, ok := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
			if !ok || len(next.Cookie) == 0 {
				return
			}
			control.SetCookie(next.Cookie)
		}
	}
}

func toAccount(e *ldap.Entry) (Account, bool) {
	s, err := sidOf(e)
	if err != nil {
		return Account{}, false
	}
	flags, _ := strconv.ParseInt(e.GetAttributeValue("userAccountControl"), 10, 64)
	kind, _ := strconv.ParseInt(e.GetAttributeValue("groupType"), 10, 64)
	primary, _ := strconv.ParseUint(e.GetAttributeValue("primaryGroupID"), 10, 32)
	a := Account{SID: s, Name: e.GetAttributeValue("sAMAccountName"), FullName: e.GetAttributeValue("displayName"), Note: e.GetAttributeValue("description"),
		Kind: account.User, Disabled: flags&2 != 0, dn: e.DN, primary: uint32(primary)}
	switch {
	case kind&4 != 0:
		a.Kind = account.LocalGroup
	case kind != 0:
		a.Kind = account.Group
	}
	return a, true
}

// ByName finds an account by its short name or by name@realm.
func (d *Directory) ByName(ctx context.Context, name string) (Account, error) {
	escaped := ldap.EscapeFilter(name)
	return d.find(ctx, "(&(|(objectClass=user)"+groups+")(|(sAMAccountName="+escaped+")(userPrincipalName="+escaped+")))")
}

// BySID finds an account by its number.
func (d *Directory) BySID(ctx context.Context, s account.SID) (Account, error) {
	return d.find(ctx, "(objectSid="+escapeBytes(s.Binary())+")")
}

func escapeBytes(b []byte) string {
	var text strings.Builder
	for _, c := range b {
		fmt.Fprintf(&text, `\%02x`, c)
	}
	return text.String()
}

func (d *Directory) find(ctx context.Context, filter string) (Account, error) {
	if err := ctx.Err(); err != nil {
		return Account{}, err
	}
	e, err := d.one(d.base, ldap.ScopeWholeSubtree, filter, wanted...)
	if err != nil {
		return Account{}, err
	}
	a, ok := toAccount(e)
	if !ok {
		return a, ErrNotFound
	}
	return a, nil
}

// Members lists the accounts that belong to a group directly, with those for
// whom it is the primary group.
func (d *Directory) Members(ctx context.Context, group Account) (list []Account, err error) {
	filter := "(memberOf=" + ldap.EscapeFilter(group.dn) + ")"
	if relative, ok := group.SID.Relative(); ok {
		filter = "(|" + filter + "(primaryGroupID=" + strconv.FormatUint(uint64(relative), 10) + "))"
	}
	for e, err := range d.search(ctx, "(&(|(objectClass=user)"+groups+")"+filter+")", wanted) {
		if err != nil {
			return nil, err
		}
		if a, ok := toAccount(e); ok {
			list = append(list, a)
		}
	}
	return list, nil
}

// tokenGroups is what the directory itself computes as an account's groups
// ([MS-ADTS] 3.1.1.4.5.19): the measure of Graph.GroupsOf.
func (d *Directory) tokenGroups(a Account) ([]account.SID, error) {
	e, err := d.one(a.dn, ldap.ScopeBaseObject, "(objectClass=*)", "tokenGroups")
	if err != nil {
		return nil, err
	}
	var sids []account.SID
	for _, raw := range e.GetRawAttributeValues("tokenGroups") {
		s, _, err := account.ReadSID(raw)
		if err != nil {
			return nil, err
		}
		sids = append(sids, s)
	}
	return sids, nil
}
