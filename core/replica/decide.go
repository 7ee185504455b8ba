package replica

import "bridgespan/core/chunk"

// Step is what a lane does about one side of a record.
type Step uint8

const (
	// Nothing: the receiver has all that the sender has.
	Nothing Step = iota
	// Adopt: both hold the same, and the receiver notes that it has the sender's changes too.
	Adopt
	// Take: what the sender holds takes the place of what the receiver holds.
	Take
	// Keep: the receiver's wins a conflict. It stays as it is, and the lane back
	// brings it to the sender, where what loses is kept.
	Keep
)

func (s Step) String() string { return [...]string{"nothing", "adopt", "take", "keep"}[s] }

// Verdict is what a lane does about a path.
type Verdict struct {
	Content        Step
	ContentVersion Vector // of the receiver, afterwards
	// Conflict reports that each end had changes that the other lacked.
	Conflict bool
	// Spare reports that what the receiver holds goes to its attic, since it is
	// not what the sender's version came from, or is removed.
	Spare bool

	Permissions        Step
	PermissionsVersion Vector
}

// Idle reports whether there is nothing to do, not even in the records.
func (v *Verdict) Idle() bool { return v.Content == Nothing && v.Permissions == Nothing }

// Unread reports whether files must be read before Decide can tell: both are of
// one length, what they hold decides, and it is not known of one of them.
func Unread(from, to *Record) bool {
	if from.Kind != File || to.Kind != File || from.Size != to.Size || from.Digest.Known() && to.Digest.Known() || from.Prior() {
		return false
	}
	if to.Prior() {
		return true
	}
	order := from.Version.Compare(to.Version)
	return order == After || order == Concurrent
}

// Decide says what a lane does about a path, from the records of its sender and
// its receiver. The sender must be filled: what it does not know of is not there.
// What is [Unread] must have been read.
func Decide(from, to *Record) Verdict {
	var v Verdict
	if from.Prior() {
		return v
	}
	if to.Prior() {
		v.Content, v.ContentVersion = Take, from.Version
		v.Permissions, v.PermissionsVersion = Take, from.Permissions.Version
		if v.Spare = !to.SameBytes(&from.Content) && !(to.Kind == Folder && from.Kind == Folder); !v.Spare && to.Same(&from.Content) {
			v.Content = Adopt
		}
		return v
	}
	order := from.Version.Compare(to.Version)
	same := from.Content.Same(&to.Content) || order == Equal && sameButUnread(&from.Content, &to.Content)
	v.Content, v.ContentVersion = step(order, same, func() bool { return from.Content.compare(&to.Content) > 0 }), to.Version
	if v.Content != Keep {
		v.ContentVersion = from.Version.Join(to.Version)
	}
	v.Conflict = order == Concurrent && !same
	// What a removal removes, and what loses, is kept; what was only changed is not.
	v.Spare = v.Content == Take && to.Kind == File && (v.Conflict || order == Equal || from.Kind != File) && !to.SameBytes(&from.Content)

	p, q := &from.Permissions, &to.Permissions
	v.Permissions, v.PermissionsVersion = step(p.Version.Compare(q.Version), p.Same(q), func() bool { return p.compare(q) > 0 }), q.Version
	if v.Permissions != Keep {
		v.PermissionsVersion = p.Version.Join(q.Version)
	}
	return v
}

// sameButUnread reports whether two files of one version differ in nothing that
// people see, as far as they were read: one version has one content.
func sameButUnread(c, d *Content) bool {
	read, other := *c, *d
	if read.Kind != File || read.Digest.Known() && other.Digest.Known() {
		return false
	}
	read.Digest, other.Digest = chunk.Digest{1}, chunk.Digest{1}
	return read.Same(&other)
}

// step decides one side. wins reports whether the sender's wins a conflict.
// That versions are equal and what they stand for is not happens after a loser
// was changed into something earlier; it is decided like a conflict.
func step(order Order, same bool, wins func() bool) Step {
	switch {
	case order == Equal && same, order == Before:
		return Nothing
	case same:
		return Adopt
	case order == After:
		return Take
	case wins():
		return Take
	case order == Equal:
		return Nothing
	}
	return Keep
}
