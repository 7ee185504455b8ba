package replication

import (
	"context"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// Store keeps the records of a set. What was saved stays, whatever ends. Its
// methods may be called side by side.
type Store interface {
	// Get returns the records of paths, in their order; of a path that has none,
	// one that knows of nothing there.
	Get(ctx context.Context, r replica.ID, keys ...string) ([]replica.Record, error)
	// Children lists the records of what is, or was, right in a folder, and of what is
	// being done there at paths that have none yet; "." is the top. The top itself has
	// none.
	Children(ctx context.Context, r replica.ID, folder string) ([]replica.Record, error)
	// ByFile lists the records of files and folders that had one of the numbers when last
	// seen.
	ByFile(ctx context.Context, r replica.ID, ids ...uint64) ([]replica.Record, error)
	// Alike lists the records of some of the files that were read and have a size
	// and a time.
	Alike(ctx context.Context, r replica.ID, size int64, modified time.Time) ([]replica.Record, error)
	// Chunks returns what a content is made of, as far as that is kept; else a list
	// without chunks.
	Chunks(ctx context.Context, d chunk.Digest) (chunk.List, error)
	// KeepChunks keeps what a content is made of, for as long as there is room.
	KeepChunks(ctx context.Context, l chunk.List) error
	// Partials lists what has come of files that were broken off on their way.
	Partials(ctx context.Context, r replica.ID) ([]chunk.Partial, error)
	// KeepPartial keeps how much of a file has come, in the place of what was kept of it.
	KeepPartial(ctx context.Context, r replica.ID, p chunk.Partial) error
	// ForgetPartial forgets what has come of a file.
	ForgetPartial(ctx context.Context, r replica.ID, key string) error
	// Orphans lists paths, at most limit, that are present although their folder is not.
	Orphans(ctx context.Context, r replica.ID, limit int) ([]string, error)
	// Unfinished lists the records with something pending.
	Unfinished(ctx context.Context, r replica.ID) ([]replica.Record, error)
	Save(ctx context.Context, c replica.Change) error
	// Backlog lists the paths that a lane has waited with longest, but those that
	// failed and are left alone for a while.
	Backlog(ctx context.Context, l replica.Lane, limit int) ([]replica.Ticket, error)
	// BacklogIn is Backlog for what is right in a folder, in any order.
	BacklogIn(ctx context.Context, l replica.Lane, folder string, limit int) ([]replica.Ticket, error)
	// Split puts paths into a backlog in the place of the whole folder that they are
	// in, unless that was put there again meanwhile, and returns their tickets.
	Split(ctx context.Context, l replica.Lane, whole replica.Ticket, left []string) ([]replica.Ticket, error)
	// Done takes tickets away, but those put there again meanwhile.
	Done(ctx context.Context, l replica.Lane, tickets []replica.Ticket) error
	// Postpone puts tickets behind the others, but those put there again meanwhile,
	// and leaves them alone for a while.
	Postpone(ctx context.Context, l replica.Lane, tickets []replica.Ticket, pause time.Duration) error
	// Failed is Postpone for what failed: it is left alone for longer each time.
	Failed(ctx context.Context, l replica.Lane, tickets []replica.Ticket) error
}
