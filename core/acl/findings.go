package acl

import (
	"bridgespan/core/account"
)

// FindingKind is something about permissions that a person should know.
type FindingKind string

const (
	NoList           FindingKind = "no-list"           // everybody may do everything
	EveryoneChanges  FindingKind = "everyone-changes"  // everybody may change it
	Disordered       FindingKind = "out-of-order"      // an entry stands after one that it belongs before
	OwnerMissing     FindingKind = "owner-missing"     // nobody owns it
	InheritanceCut   FindingKind = "inheritance-cut"   // it inherits nothing, deep in the tree
	StaleInheritance FindingKind = "inheritance-stale" // what it inherited is not what the folder above hands down
	UnresolvedThere  FindingKind = "unresolved"        // it names an account that nobody knows
	LocalThere       FindingKind = "local-account"     // it names an account of one server, and is to be kept in several
	ShareNarrower    FindingKind = "share-narrower"    // the share holds back what files grant
	ShareWider       FindingKind = "share-wider"       // the share lets through more than any file grants
	Unjudged         FindingKind = "unjudged"          // entries that file servers do not heed
)

// Finding is one of them, at one object.
type Finding struct {
	Kind    FindingKind
	Account account.SID // whom it is about, where it is about somebody
	Entry   int         // which entry, from 0; -1 when none
}

// everybody are the accounts that hold whoever signs in.
var everybody = []account.SID{account.Everyone, account.AuthenticatedUsers, account.Users, account.Anonymous, account.Guests}

// Findings are what can be seen in the permissions by themselves.
// top is true for the top folder of a share, where protection is usual.
func (p Parts) Findings(top bool) []Finding {
	var found []Finding
	if p.Owner.IsZero() {
		found = append(found, Finding{OwnerMissing, account.SID{}, -1})
	}
	if p.Open() {
		return append(found, Finding{NoList, account.SID{}, -1})
	}
	if p.Protected() && !top {
		found = append(found, Finding{InheritanceCut, account.SID{}, -1})
	}
	if i := p.OutOfOrder(); i >= 0 {
		found = append(found, Finding{Disordered, p.Entries()[i].Account, i})
	}
	for i, e := range p.Entries() {
		if e.Type != Allow && e.Type != Deny {
			found = append(found, Finding{Unjudged, e.Account, i})
			break
		}
	}
	for _, s := range everybody {
		if p.Allows(account.Bare(s))&(WriteData|Delete) == WriteData|Delete {
			found = append(found, Finding{EveryoneChanges, s, -1})
			break
		}
	}
	return found
}

// ShareFindings compare the share's permissions with those of its top folder:
// whom the share gives less than the folder, and whom more.
func ShareFindings(share, top Parts) []Finding {
	var found []Finding
	for _, s := range top.Accounts() {
		if s == account.CreatorOwner || s == account.CreatorGroup || s == account.OwnerRights {
			continue
		}
		t := account.Bare(s)
		t.Add(account.Everyone, account.SID{})
		t.Add(account.AuthenticatedUsers, account.SID{})
		file, through := top.Allows(t), share.Allows(t)
		if lost := file &^ through; lost&^(harmless|ReadControl) != 0 {
			found = append(found, Finding{ShareNarrower, s, -1})
		}
	}
	for i, e := range share.Entries() {
		if e.Type != Allow || e.Account == account.Everyone || e.Account == account.AuthenticatedUsers {
			continue
		}
		t := account.Bare(e.Account)
		t.Add(account.Everyone, account.SID{})
		t.Add(account.AuthenticatedUsers, account.SID{})
		if top.Allows(t)&ReadData == 0 && e.Mask.Mapped()&ReadData != 0 {
			found = append(found, Finding{ShareWider, e.Account, i})
		}
	}
	return found
}

// Meaning says in words what a finding means for people, and how to mend it.
func (k FindingKind) Meaning() (means, remedy string) {
	switch k {
	case NoList:
		return "there is no list of permissions: whoever gets in may read, change and remove everything", "set permissions: rights grant"
	case EveryoneChanges:
		return "whoever signs in may change and remove it", "grant change to a group, and read to everybody"
	case Disordered:
		return "an entry stands where it is not heeded as people expect: a grant before it decides first", "put the entries in order: set any permission here, which orders them all"
	case OwnerMissing:
		return "nobody owns it: nobody can mend its permissions without an administrator", "make somebody the owner: rights own"
	case InheritanceCut:
		return "what is granted above does not reach it: people lose or keep access that nobody remembers", "see who differs, then begin inheritance again: rights inherit"
	case StaleInheritance:
		return "what it inherited is not what the folder above hands down now: a change above did not reach it, or it was moved here", "begin inheritance again: rights inherit"
	case UnresolvedThere:
		return "it names an account that no server knows any more", "revoke it: rights revoke"
	case LocalThere:
		return "it names an account of this server alone: at another server, the entry means nothing", "grant a group of the domain instead"
	case ShareNarrower:
		return "the share holds back what the files grant: people lose it without a sign why", "let them through at the share: share edit"
	case ShareWider:
		return "the share lets somebody through to whom the files grant nothing", "grant them something, or take them off the share"
	case Unjudged:
		return "it has entries of a kind that file servers do not heed", "replace them by plain entries"
	}
	return "", ""
}
