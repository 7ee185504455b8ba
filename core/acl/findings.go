package acl

import (
	"bridgespan/core/account"
	"bridgespan/core/finding"
)

// OddityKind is something about permissions that a person should know.
type OddityKind string

const (
	NoList           OddityKind = "no-list"           // everybody may do everything
	EveryoneChanges  OddityKind = "everyone-changes"  // everybody may change it
	Disordered       OddityKind = "out-of-order"      // an entry stands after one that it belongs before
	OwnerMissing     OddityKind = "owner-missing"     // nobody owns it
	InheritanceCut   OddityKind = "inheritance-cut"   // it inherits nothing, deep in the tree
	StaleInheritance OddityKind = "inheritance-stale" // what it inherited is not what the folder above hands down
	UnresolvedThere  OddityKind = "unresolved"        // it names an account that nobody knows
	LocalThere       OddityKind = "local-account"     // it names an account of one server, and is to be kept in several
	ShareNarrower    OddityKind = "share-narrower"    // the share holds back what files grant
	ShareWider       OddityKind = "share-wider"       // the share lets through more than any file grants
	Unjudged         OddityKind = "unjudged"          // entries that file servers do not heed
)

// Oddity is one of them, at one object.
type Oddity struct {
	Kind    OddityKind
	Account account.SID // whom it is about, where it is about somebody
	Entry   int         // which entry, from 0; -1 when none
}

// everybody are the accounts that hold whoever signs in.
var everybody = []account.SID{account.Everyone, account.AuthenticatedUsers, account.Users, account.Anonymous, account.Guests}

// Oddities are what can be seen in the permissions by themselves.
// top is true for the top folder of a share, where protection is usual.
func (p Parts) Oddities(top bool) []Oddity {
	var found []Oddity
	if p.Owner.IsZero() {
		found = append(found, Oddity{OwnerMissing, account.SID{}, -1})
	}
	if p.Open() {
		return append(found, Oddity{NoList, account.SID{}, -1})
	}
	if p.Protected() && !top {
		found = append(found, Oddity{InheritanceCut, account.SID{}, -1})
	}
	if i := p.OutOfOrder(); i >= 0 {
		found = append(found, Oddity{Disordered, p.Entries()[i].Account, i})
	}
	for i, e := range p.Entries() {
		if e.Type != Allow && e.Type != Deny {
			found = append(found, Oddity{Unjudged, e.Account, i})
			break
		}
	}
	for _, s := range everybody {
		if p.Allows(account.Bare(s))&(WriteData|Delete) == WriteData|Delete {
			found = append(found, Oddity{EveryoneChanges, s, -1})
			break
		}
	}
	return found
}

// ShareOddities compare the share's permissions with those of its top folder:
// whom the share gives less than the folder, and whom more.
func ShareOddities(share, top Parts) []Oddity {
	var found []Oddity
	for _, s := range top.Accounts() {
		if s == account.CreatorOwner || s == account.CreatorGroup || s == account.OwnerRights {
			continue
		}
		t := account.Bare(s)
		t.Add(account.Everyone, account.SID{})
		t.Add(account.AuthenticatedUsers, account.SID{})
		file, through := top.Allows(t), share.Allows(t)
		if lost := file &^ through; lost&^(harmless|ReadControl) != 0 {
			found = append(found, Oddity{ShareNarrower, s, -1})
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
			found = append(found, Oddity{ShareWider, e.Account, i})
		}
	}
	return found
}

// words are what is found of each kind, what it means for people, and what to do about it.
var words = map[OddityKind][3]string{
	NoList:           {"there is no list of permissions", "whoever gets in may read, change and remove everything", "set permissions"},
	EveryoneChanges:  {"whoever signs in may change and remove it", "one mistake, or one stolen password, reaches all of it", "grant change to a group, and read to everybody"},
	Disordered:       {"an entry stands after one that it belongs before", "it is not heeded as people expect: a grant before it decides first", "put the entries in order: to set any permission here orders them all"},
	OwnerMissing:     {"nobody owns it", "nobody can mend its permissions without an administrator", "make somebody the owner"},
	InheritanceCut:   {"it inherits nothing from the folder above", "what is granted above does not reach it: people lose or keep access that nobody remembers", "see who differs, then begin inheritance again"},
	StaleInheritance: {"what it inherited is not what the folder above hands down now", "a change above did not reach it, or it was moved here: who is let in is not what the folder above says", "begin inheritance again"},
	UnresolvedThere:  {"it names an account that no server knows any more", "the entry lets nobody in, and nobody can tell for whom it was", "revoke it"},
	LocalThere:       {"it names an account of this server alone", "at another server, the entry means nothing", "grant a group of the domain instead"},
	ShareNarrower:    {"the share holds back what the files grant", "people lose it without a sign why", "let them through at the share"},
	ShareWider:       {"the share lets somebody through to whom the files grant nothing", "they see the share, and find every file in it closed", "grant them something, or take them off the share"},
	Unjudged:         {"it has entries of a kind that file servers do not heed", "they look like permissions, and decide nothing", "replace them by plain entries"},
}

// Finding tells of something of this kind; subject is the account that it is about, if any.
func (k OddityKind) Finding(subject string) finding.Finding {
	w := words[k]
	return finding.New(finding.Warn, string(k), subject, w[0], w[1], w[2])
}
