package sets

import (
	"bridgespan/core/account"
	"bridgespan/core/acl"
)

// mostAccounts bounds how many accounts are collected.
const mostAccounts = 2000

// AccountUses collects the accounts in the permissions of files and folders. The zero value is empty.
type AccountUses struct {
	List []AccountUse // in the order in which they were found
	More bool         // there were more than are collected
	at   map[account.SID]int
}

// AccountUse is an account in permissions.
type AccountUse struct {
	SID     account.SID
	Items   int64  // files and folders whose permissions name it
	Example string // path of the first of them
}

// Add adds the accounts of one descriptor.
func (u *AccountUses) Add(d acl.Descriptor, path string) {
	if d.IsZero() {
		return
	}
	for _, sid := range d.Parts().Accounts() {
		i, known := u.at[sid]
		if !known {
			if len(u.List) == mostAccounts {
				u.More = true
				continue
			}
			if u.at == nil {
				u.at = map[account.SID]int{}
			}
			i, u.at[sid] = len(u.List), len(u.List)
			u.List = append(u.List, AccountUse{SID: sid, Example: path})
		}
		u.List[i].Items++
	}
}
