package acl

import "bridgespan/core/account"

// Translate returns a descriptor in which every account is the one that to says:
// owner, group, and those of all entries. The entries stay in their order, and
// what they let or forbid as it is.
func (d Descriptor) Translate(to func(account.SID) account.SID) (Descriptor, error) {
	if d.IsZero() {
		return d, nil
	}
	p := d.Parts()
	p.Owner, p.Group = translated(p.Owner, to), translated(p.Group, to)
	for _, list := range []**List{&p.DACL, &p.SACL} {
		if *list == nil {
			continue
		}
		copied := **list
		copied.Entries = make([]Entry, len(copied.Entries))
		for i, e := range (*list).Entries {
			e.Account = translated(e.Account, to)
			copied.Entries[i] = e
		}
		*list = &copied
	}
	return p.Descriptor()
}

func translated(s account.SID, to func(account.SID) account.SID) account.SID {
	if s.IsZero() {
		return s
	}
	return to(s)
}
