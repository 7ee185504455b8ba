package replica

import (
	"bridgespan/core/acl"
)

// Lane is one direction between two replicas.
type Lane struct{ From, To ID }

// Ticket is a path that a lane still has to look at.
type Ticket struct {
	Key string
	Seq uint64 // another one every time the path is put there, growing as a rule
	// Whole says that it stands for all that is right in the folder, too, which was
	// so many paths when it was put there; 0 for the path alone.
	Whole int
}

// Reason is why something is in an attic.
type Reason string

const (
	Removed  Reason = "removed"    // it was removed at another replica
	Lost     Reason = "conflict"   // it was changed here and elsewhere, and the other one won
	Replaced Reason = "replaced"   // something of another kind took its place
	First    Reason = "first-fill" // it was here before the replica belonged to the set
)

// Kept is something that a replica keeps in its attic.
type Kept struct {
	Path  string // where it was
	Attic string // where it is
	Why   Reason
	Size  int64 // bytes
	// Descriptor are the permissions that it is given again when it is restored; zero when
	// it still has them.
	Descriptor acl.Descriptor
}

// Change is what is kept together of a replica: all of it or nothing.
type Change struct {
	Replica ID
	Records []Record
	// Begun says that the records differ from what is kept in what is pending
	// alone, and that each will be saved again soon. A store may keep that in a
	// shorter form.
	Begun bool
	// Queue are the lanes that are to look at the paths of the records.
	Queue []Lane
	// Whole is the folder that all of the records are, or are right in, when the lanes
	// are to look at it as a whole: once, in the place of each of the paths.
	Whole string
	Kept  []Kept
}
