package acl

import (
	"slices"

	"bridgespan/core/account"
)

// Handed are the entries that a new file or folder in a folder with these
// permissions inherits ([MS-DTYP] 2.5.3.4). owner and group stand in for
// Creator Owner and Creator Group.
func (p Parts) Handed(folder bool, owner, group account.SID) []Entry {
	handed := []Entry{}
	for _, e := range p.Entries() {
		handed = append(handed, e.handed(folder, owner, group)...)
	}
	return handed
}

// HandsDownAs reports whether a folder with these permissions hands down the
// same as one with those of o: then nothing below it changes with them.
func (p Parts) HandsDownAs(o Parts) bool {
	var nobody account.SID
	for _, folder := range []bool{false, true} {
		if !slices.Equal(p.Handed(folder, nobody, nobody), o.Handed(folder, nobody, nobody)) {
			return false
		}
	}
	return true
}

// handed is what one entry becomes one level below: nothing, itself, or an
// entry that counts there and another that is only handed on.
func (e Entry) handed(folder bool, owner, group account.SID) []Entry {
	if e.Type != Allow && e.Type != Deny {
		return nil // object entries are about other things than files
	}
	counts := e.Flags&ObjectInherit != 0
	onward := Flags(0)
	if folder {
		counts = e.Flags&ContainerInherit != 0
		if e.Flags&NoPropagate == 0 {
			onward = e.Flags & (ObjectInherit | ContainerInherit)
		}
	}
	below := e
	below.Flags = Inherited | onward
	if !counts {
		if onward == 0 {
			return nil
		}
		below.Flags |= InheritOnly
		return []Entry{below}
	}
	here := below
	here.Mask = e.Mask.Mapped()
	switch e.Account {
	case account.CreatorOwner:
		here.Account = owner
	case account.CreatorGroup:
		here.Account = group
	}
	if here == below || onward == 0 {
		here.Flags = Inherited | onward
		if here.Account.IsZero() {
			return nil
		}
		return []Entry{here}
	}
	// What stands for someone or something else here must be handed on as it is.
	here.Flags = Inherited
	below.Flags |= InheritOnly
	if here.Account.IsZero() {
		return []Entry{below}
	}
	return []Entry{here, below}
}

// Explicit are the entries that were set on the object itself.
func (p Parts) Explicit() []Entry {
	explicit := []Entry{}
	for _, e := range p.Entries() {
		if e.Flags&Inherited == 0 {
			explicit = append(explicit, e)
		}
	}
	return explicit
}

// Below recomputes what an existing object inherits after the permissions of
// its folder became parent: explicit entries stay, inherited ones are replaced.
// A protected object stays as it is.
func (p Parts) Below(parent Parts, folder bool) Parts {
	if p.Protected() || p.Open() {
		return p
	}
	p = p.WithEntries(slices.Concat(p.Explicit(), parent.Handed(folder, p.Owner, p.Group)))
	p.Control |= DACLAutoInherited
	return p
}

// New is the descriptor of a new object in a folder with the permissions parent.
func New(parent Parts, folder bool, owner, group account.SID) Parts {
	p := Parts{Owner: owner, Group: group, Control: DACLAutoInherited}
	return p.WithEntries(parent.Handed(folder, owner, group))
}

// ReplacedBelow is what an object becomes when everything below a folder is
// made to inherit from it alone: explicit entries and protection are gone.
func (p Parts) ReplacedBelow(parent Parts, folder bool) Parts {
	p.Control &^= DACLProtected
	return p.WithEntries(nil).Below(parent, folder)
}

// Protect ends inheritance. keep makes what was inherited explicit, so that
// nobody loses anything; otherwise it goes.
func (p Parts) Protect(keep bool) Parts {
	if p.Open() {
		p.Control |= DACLProtected
		return p
	}
	entries := p.Explicit()
	if keep {
		entries = slices.Clone(p.Entries())
		for i := range entries {
			entries[i].Flags &^= Inherited
		}
	}
	p = p.WithEntries(Ordered(entries))
	p.Control |= DACLProtected
	p.Control &^= DACLAutoInherited
	return p
}

// Inherit begins inheritance from parent again. Explicit entries that parent
// hands down anyway are dropped.
func (p Parts) Inherit(parent Parts, folder bool) Parts {
	p.Control &^= DACLProtected
	handed := parent.Handed(folder, p.Owner, p.Group)
	explicit := slices.DeleteFunc(p.Explicit(), func(e Entry) bool {
		e.Flags |= Inherited
		return slices.Contains(handed, e)
	})
	return p.WithEntries(explicit).Below(parent, folder)
}
