package replication

import (
	"context"

	"bridgespan/core/replica"
)

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
	Save(ctx context.Context, c replica.Change) error
	// Backlog lists the paths that a lane has waited with longest.
	Backlog(ctx context.Context, l replica.Lane, limit int) ([]replica.Ticket, error)
	// Done takes tickets away, but those put there again meanwhile.
	Done(ctx context.Context, l replica.Lane, tickets []replica.Ticket) error
	// Postpone puts tickets behind the others.
	Postpone(ctx context.Context, l replica.Lane, tickets []replica.Ticket) error
}
