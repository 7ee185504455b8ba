package acl

import "slices"

// Stale reports whether what the object inherited is not what the folder above
// hands down now: it was moved here, or the folder was changed by a program
// that did not pass the change on. Order and what stands for the creator are
// not judged. A protected object inherits nothing and is never stale.
func (p Parts) Stale(parent Parts, folder bool) bool {
	if p.Protected() || p.Open() || parent.Open() {
		return false
	}
	handed := parent.Handed(folder, p.Owner, p.Group)
	var has []Entry
	for _, e := range p.Entries() {
		if e.Flags&Inherited != 0 {
			has = append(has, e)
		}
	}
	return !covers(handed, has) || !covers(has, handed)
}

// covers reports whether every entry of b says something that an entry of a says.
func covers(a, b []Entry) bool {
	for _, e := range b {
		if !slices.ContainsFunc(a, func(o Entry) bool {
			return o.Type == e.Type && o.Account == e.Account && o.Mask.Mapped() == e.Mask.Mapped() && o.Flags&^NoPropagate == e.Flags&^NoPropagate
		}) {
			return false
		}
	}
	return true
}
