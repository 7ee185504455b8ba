package replication

import (
	"context"

	"bridgespan/core/replica"
)

// Lane is one direction between two replicas.
type Lane struct{ From, To replica.ID }

// Ticket is a path that a lane still has to look at.
type Ticket struct {
	Key string
	Seq int64 // grows with every time the path is put there
}

// Kept is something that a replica keeps in its attic.
type Kept struct {
	Path  string // where it was, as it was spelled
	Attic string // where it is
	Why   Reason
}

// Reason is why something is in an attic.
type Reason string

const (
	Removed  Reason = "removed"  // it was removed at another replica
	Lost     Reason = "conflict" // it was changed here and elsewhere, and the other one won
	Replaced Reason = "replaced" // something of another kind took its place
	First    Reason = "first-fill"
)

// Change is what is saved together: all of it or nothing.
type Change struct {
	Replica replica.ID
	Records []replica.Record
	// Queue are the lanes that are to look at the paths of the records.
	Queue []Lane
	Kept  []Kept
}

// Store keeps the records of a set. What was saved stays, whatever ends.
type Store interface {
	// Get returns the record of a path, or one that knows of nothing there.
	Get(ctx context.Context, r replica.ID, key string) (replica.Record, error)
	// Children lists the records of what is, or was, right in a folder; "." is
	// the top. The top itself has none.
	Children(ctx context.Context, r replica.ID, folder string) ([]replica.Record, error)
	// ByFile lists the records of files that had a number when last seen.
	ByFile(ctx context.Context, r replica.ID, id uint64) ([]replica.Record, error)
	// Unfinished lists the records with something pending.
	Unfinished(ctx context.Context, r replica.ID) ([]replica.Record, error)
	Save(ctx context.Context, c Change) error
	// Backlog lists the paths that a lane has waited with longest.
	Backlog(ctx context.Context, l Lane, limit int) ([]Ticket, error)
	// Done takes tickets away, but those put there again meanwhile.
	Done(ctx context.Context, l Lane, tickets []Ticket) error
	// Postpone puts tickets behind the others.
	Postpone(ctx context.Context, l Lane, tickets []Ticket) error
}
