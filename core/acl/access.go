package acl

import (
	"bridgespan/core/account"
)

// Object is what access is judged on: a file or folder with all that has a say in it.
type Object struct {
	Permissions Parts
	// Parent are the permissions of the folder that holds it; nil for the top
	// of a share. Whoever may remove what is in a folder may remove the object.
	Parent *Parts
	// Share are the permissions of the share through which people come; nil
	// when all come through.
	Share *Parts
}

// Source says which rule granted or denied some rights.
type Source string

const (
	ByEntry     Source = "entry"       // an entry of the object's own list
	ByShare     Source = "share"       // the share's permissions: lets through or holds back
	ByOwner     Source = "owner"       // owners may always read and change permissions
	ByParent    Source = "parent"      // an entry of the folder above: remove what is in it
	ByPrivilege Source = "privilege"   // a privilege at the server
	ByNoList    Source = "no-list"     // there is no list: everybody may do everything
	ByProtocol  Source = "protocol"    // the server never asks for it
	ByDefault   Source = "not-granted" // no entry grants it
)

// Reason is one step of a decision.
type Reason struct {
	Source  Source
	Granted bool
	Mask    Mask // the rights that it decided
	// Entry is the number of the deciding entry, from 0, in the list that the
	// source names; -1 when none.
	Entry int
	// Account is whom that entry names.
	Account account.SID
}

// Decision is what a token may do to an object, and why.
type Decision struct {
	// Granted is what share and file permissions grant together.
	Granted Mask
	// File and Share are what each of them grants alone.
	File, Share Mask
	Reasons     []Reason
}

// Effective is what a token may do to the object ([MS-DTYP] 2.5.3.2, and the
// rules of file servers for owners, for removing and for reading attributes).
// It allocates nothing.
func (o Object) Effective(t *account.Token) Mask { return o.decide(t, nil) }

// Explain is Effective with its reasons. Each right of AllAccess is decided by
// exactly one reason about the file, and held back by at most one about the share.
func (o Object) Explain(t *account.Token) Decision {
	d := Decision{Reasons: []Reason{}}
	d.Granted = o.decide(t, &d)
	return d
}

func (o Object) decide(t *account.Token, d *Decision) Mask {
	share := AllAccess
	if o.Share != nil {
		share = o.Share.judge(t, nil) | passing(t.Privileges)
	}
	file := o.file(t, share, d)
	if d != nil {
		d.File, d.Share = file, share
		if o.Share != nil {
			d.explainShare(*o.Share, t, file, share)
		}
	}
	return file & share
}

// explainShare gives the share's reasons: what its entries decide, as far as the file would grant it.
func (d *Decision) explainShare(share Parts, t *account.Token, file, granted Mask) {
	var own Decision
	share.judge(t, &own)
	if by := passing(t.Privileges); by != 0 {
		own.settle(Reason{Source: ByPrivilege, Granted: true, Mask: by, Entry: -1})
	}
	for _, r := range own.Reasons {
		if r.Mask &= file; r.Mask == 0 {
			continue
		}
		if r.Source == ByPrivilege && r.Granted {
			continue // says nothing that the file does not say
		}
		r.Source = ByShare
		d.Reasons = append(d.Reasons, r)
	}
}

// passing are the rights that privileges let through a share whatever its
// permissions say: what backup reads and restore writes.
func passing(p account.Privileges) (m Mask) {
	if p.Backup {
		m |= ReadAccess | Execute
	}
	if p.Restore {
		m |= WriteAccess | WriteControl | TakeOwnership | Delete
	}
	if p.TakeOwnership {
		m |= TakeOwnership
	}
	return m
}

// file judges the file. The share has a say in it where another right stands in
// for one: removing by way of the folder above needs that right through the share.
func (o Object) file(t *account.Token, share Mask, d *Decision) Mask {
	granted := o.Permissions.judge(t, d)
	if granted&ReadAttr == 0 { // file servers show attributes to whoever sees the folder
		granted |= ReadAttr
		d.settle(Reason{Source: ByProtocol, Granted: true, Mask: ReadAttr, Entry: -1})
	}
	if granted&Delete == 0 && o.Parent != nil {
		var above *Decision
		if d != nil {
			above = &Decision{}
		}
		if o.Parent.judge(t, above)&share&DeleteChild != 0 {
			granted |= Delete
			d.settle(above.find(DeleteChild, Delete))
		}
	}
	return granted
}

// find returns the reason that decided a right, as one for another right at the folder below.
func (d *Decision) find(right, as Mask) Reason {
	if d == nil {
		return Reason{}
	}
	for _, r := range d.Reasons {
		if r.Mask&right != 0 {
			r.Source, r.Mask = ByParent, as
			return r
		}
	}
	return Reason{Source: ByParent, Granted: true, Mask: as, Entry: -1}
}

// settle adds a reason that overrules what was decided before about the same rights.
func (d *Decision) settle(r Reason) {
	if d == nil {
		return
	}
	kept := d.Reasons[:0]
	for _, old := range d.Reasons {
		if old.Mask &^= r.Mask; old.Mask != 0 {
			kept = append(kept, old)
		}
	}
	d.Reasons = append(kept, r)
}

// judge walks the list in order: for each right the first entry that names an
// account of the token decides.
func (p Parts) judge(t *account.Token, d *Decision) Mask {
	if p.Open() {
		d.add(Reason{Source: ByNoList, Granted: true, Mask: AllAccess, Entry: -1})
		return AllAccess
	}
	var granted, denied Mask
	owns := !p.Owner.IsZero() && t.Has(p.Owner)
	if t.Privileges.TakeOwnership {
		granted |= TakeOwnership
		d.add(Reason{Source: ByPrivilege, Granted: true, Mask: TakeOwnership, Entry: -1})
	}
	if owns && !p.limitsOwner() {
		granted |= ReadControl | WriteControl
		d.add(Reason{Source: ByOwner, Granted: true, Mask: ReadControl | WriteControl, Entry: -1, Account: p.Owner})
	}
	for i, e := range p.DACL.Entries {
		if !e.Effective() || !t.Has(e.Account) && !(owns && e.Account == account.OwnerRights) {
			continue
		}
		decides := e.Mask.Mapped() & AllAccess &^ (granted | denied)
		if decides == 0 {
			continue
		}
		if e.Type == Allow {
			granted |= decides
		} else {
			denied |= decides
		}
		d.add(Reason{Source: ByEntry, Granted: e.Type == Allow, Mask: decides, Entry: i, Account: e.Account})
	}
	if rest := AllAccess &^ (granted | denied); rest != 0 {
		d.add(Reason{Source: ByDefault, Mask: rest, Entry: -1})
	}
	return granted
}

func (d *Decision) add(r Reason) {
	if d != nil {
		d.Reasons = append(d.Reasons, r)
	}
}

// limitsOwner reports whether an entry says what owners may do, in place of
// the right that they have otherwise.
func (p Parts) limitsOwner() bool {
	for _, e := range p.Entries() {
		if e.Effective() && e.Account == account.OwnerRights {
			return true
		}
	}
	return false
}

// Allows is what the permissions grant to a token by themselves.
func (p Parts) Allows(t *account.Token) Mask { return p.judge(t, nil) }
