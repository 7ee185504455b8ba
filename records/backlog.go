package records

import (
	"cmp"
	"context"
	"database/sql"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/replica"
	"bridgespan/model"
)

// queueAll puts the paths of changes into the backlogs of their lanes.
func queueAll(ctx context.Context, tx *Tx, together []*waitingChange) error {
	var seq uint64
	var queued bulk
	for _, w := range together {
		for _, lane := range w.change.Queue {
			if seq == 0 {
				var err error
				if seq, err = tx.ticketNumber(ctx); err != nil {
					return err
				}
			}
			if w.change.Whole != "" {
				queued.add(backlogRow(lane, w.change.Whole, seq, len(w.change.Records))...)
				continue
			}
			for i := range w.change.Records {
				queued.add(backlogRow(lane, w.change.Records[i].Key, seq, 0)...)
			}
		}
	}
	return queued.updating(ctx, tx, backlogColumns, backlogAgain)
}

// ticketNumber is one number for all tickets of a change: it has only to be
// another one the next time.
func (tx *Tx) ticketNumber(ctx context.Context) (n uint64, err error) {
	return n, tx.run.QueryRowContext(ctx, `SELECT UUID_SHORT()`).Scan(&n)
}

const backlogColumns = `replica_backlog (from_id, to_id, folder, name_key, path_key, seq, whole)`

// A path that waits already keeps since when, and stays one of a whole folder.
const backlogAgain = `seq = VALUES(seq), failed = 0, later = NULL, whole = GREATEST(whole, VALUES(whole))`

func backlogRow(lane replica.Lane, key string, seq uint64, whole int) []any {
	return []any{lane.From, lane.To, folderOf(path.Dir(key)), []byte(path.Base(key)), []byte(key), seq, whole}
}

// Backlog lists the paths that a lane has waited with longest.
func (s *Replication) Backlog(ctx context.Context, lane replica.Lane, limit int) ([]replica.Ticket, error) {
	return s.tickets(ctx, lane, notLater+` ORDER BY seq LIMIT ?`, limit)
}

// BacklogIn is Backlog for what is right in a folder.
func (s *Replication) BacklogIn(ctx context.Context, lane replica.Lane, folder string, limit int) ([]replica.Ticket, error) {
	return s.tickets(ctx, lane, `folder = ? AND `+notLater+` ORDER BY name_key LIMIT ?`, folderOf(folder), limit)
}

// notLater is the condition that a ticket is not left alone for a while.
const notLater = `(later IS NULL OR later <= UTC_TIMESTAMP(6))`

func (s *Replication) tickets(ctx context.Context, lane replica.Lane, which string, args ...any) ([]replica.Ticket, error) {
	rows, err := s.db.run.QueryContext(ctx, `SELECT path_key, seq, whole FROM replica_backlog WHERE from_id = ? AND to_id = ? AND `+which, append([]any{lane.From, lane.To}, args...)...)
	return collect(rows, err, func(s scanner) (t replica.Ticket, err error) { return t, s.Scan(&t.Key, &t.Seq, &t.Whole) })
}

// Done takes tickets away, but those put there again meanwhile.
func (s *Replication) Done(ctx context.Context, lane replica.Lane, tickets []replica.Ticket) error {
	return s.db.Change(ctx, func(tx *Tx) error {
		for part := range slices.Chunk(tickets, bulkRows) {
			where, args := theSame(part)
			if _, _, err := tx.exec(ctx, `DELETE FROM replica_backlog WHERE from_id = ? AND to_id = ? AND `+where, append([]any{lane.From, lane.To}, args...)...); err != nil {
				return err
			}
		}
		return nil
	})
}

// theSame is the condition that a ticket is one of some, not put there again.
func theSame(tickets []replica.Ticket) (where string, args []any) {
	same := map[uint64][]string{}
	for _, t := range tickets {
		same[t.Seq] = append(same[t.Seq], t.Key)
	}
	var any []string
	for seq, keys := range same {
		paths, some := within(``, keys)
		any, args = append(any, `seq = ? AND `+paths), append(append(args, seq), some...)
	}
	return `(` + strings.Join(any, ` OR `) + `)`, args
}

// Split puts paths into a backlog in the place of the whole folder that they are in,
// unless that was put there again meanwhile, and returns their tickets.
func (s *Replication) Split(ctx context.Context, lane replica.Lane, whole replica.Ticket, left []string) (tickets []replica.Ticket, err error) {
	err = s.db.Change(ctx, func(tx *Tx) error {
		tickets = tickets[:0]
		seq, err := tx.ticketNumber(ctx)
		if err != nil {
			return err
		}
		if _, _, err := tx.exec(ctx, `DELETE FROM replica_backlog WHERE from_id = ? AND to_id = ? AND seq = ? AND folder = ? AND name_key = ?`,
			lane.From, lane.To, whole.Seq, folderOf(path.Dir(whole.Key)), []byte(path.Base(whole.Key))); err != nil {
			return err
		}
		var rows bulk
		for _, key := range left {
			rows.add(backlogRow(lane, key, seq, 0)...)
			tickets = append(tickets, replica.Ticket{Key: key, Seq: seq})
		}
		return rows.updating(ctx, tx, backlogColumns, backlogAgain)
	})
	return tickets, err
}

// How long what failed is left alone: twice as long each time.
const (
	failedPause = 5 * time.Second
	failedMost  = 10 * time.Minute
)

// Postpone puts tickets behind the others, but those put there again meanwhile, and
// leaves them alone for a while.
func (s *Replication) Postpone(ctx context.Context, lane replica.Lane, tickets []replica.Ticket, pause time.Duration) error {
	if pause <= 0 {
		return s.putBehind(ctx, lane, tickets, `NULL`)
	}
	return s.putBehind(ctx, lane, tickets, `UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND`, pause.Microseconds())
}

// Failed is Postpone for what failed: it is left alone for longer each time.
func (s *Replication) Failed(ctx context.Context, lane replica.Lane, tickets []replica.Ticket) error {
	return s.putBehind(ctx, lane, tickets, `UTC_TIMESTAMP(6) + INTERVAL LEAST(? * POW(2, LEAST(failed, 20)), ?) MICROSECOND, failed = failed + 1`,
		cmp.Or(s.RetryFirst, failedPause).Microseconds(), cmp.Or(s.RetryMost, failedMost).Microseconds())
}

// putBehind gives tickets a new number, and leaves them alone until later.
func (s *Replication) putBehind(ctx context.Context, lane replica.Lane, tickets []replica.Ticket, later string, args ...any) error {
	return s.db.Change(ctx, func(tx *Tx) error {
		next, err := tx.ticketNumber(ctx)
		if err != nil {
			return err
		}
		for part := range slices.Chunk(tickets, bulkRows) {
			where, some := theSame(part)
			all := slices.Concat([]any{next}, args, []any{lane.From, lane.To}, some)
			if _, _, err := tx.exec(ctx, `UPDATE replica_backlog SET seq = ?, later = `+later+` WHERE from_id = ? AND to_id = ? AND `+where, all...); err != nil {
				return err
			}
		}
		return nil
	})
}

// Waiting is a ticket that waits in a backlog.
type Waiting struct {
	Lane  replica.Lane
	Since time.Time
}

// waitsTogether is of how many paths one query asks whether they wait.
const waitsTogether = 200

// Waits finds, for each of some paths, the ticket that has waited longest in a backlog into
// or out of one of two replicas: of the path itself, or of the whole folder that it is in. A
// path of which none waits is missing from the result.
func (q Queries) Waits(ctx context.Context, a, b replica.ID, keys []string) (map[string]Waiting, error) {
	found := map[string]Waiting{}
	if len(keys) == 0 {
		return found, nil
	}
	rows, err := q.run.QueryContext(ctx, `SELECT from_id, to_id FROM replica_lanes WHERE from_id IN (?, ?) OR to_id IN (?, ?)`, a, b, a, b)
	lanes, err := collect(rows, err, func(s scanner) (l replica.Lane, err error) { return l, s.Scan(&l.From, &l.To) })
	if err != nil {
		return nil, err
	}
	for _, lane := range lanes {
		for some := range slices.Chunk(keys, waitsTogether) {
			if err := q.waitsIn(ctx, lane, some, found); err != nil {
				return nil, err
			}
		}
	}
	return found, nil
}

// backlogPlace is where the ticket of a path stands in a backlog.
type backlogPlace struct{ folder, name string }

func backlogPlaceOf(key string) backlogPlace {
	return backlogPlace{string(folderOf(path.Dir(key))), path.Base(key)}
}

// waitsIn adds to found what waits in one lane.
func (q Queries) waitsIn(ctx context.Context, lane replica.Lane, keys []string, found map[string]Waiting) error {
	of := map[backlogPlace][]string{}
	where, args := make([]string, 0, 2*len(keys)), []any{lane.From, lane.To}
	add := func(key, ticket, condition string) {
		at := backlogPlaceOf(ticket)
		if of[at] == nil || condition == "" {
			where = append(where, "(folder = ? AND name_key = ?"+condition+")")
			args = append(args, []byte(at.folder), []byte(at.name))
		}
		of[at] = append(of[at], key)
	}
	for _, key := range keys {
		add(key, key, "")
		add(key, path.Dir(key), " AND whole > 0")
	}
	type ticket struct {
		at    backlogPlace
		whole int
		since time.Time
	}
	rows, err := q.run.QueryContext(ctx, `SELECT folder, name_key, whole, queued FROM replica_backlog WHERE from_id = ? AND to_id = ? AND (`+strings.Join(where, " OR ")+`)`, args...)
	tickets, err := collect(rows, err, func(s scanner) (t ticket, err error) {
		return t, s.Scan(&t.at.folder, &t.at.name, &t.whole, &t.since)
	})
	for _, t := range tickets {
		for _, key := range of[t.at] {
			own := backlogPlaceOf(key) == t.at
			if last, ok := found[key]; (own || t.whole > 0) && (!ok || t.since.Before(last.Since)) {
				found[key] = Waiting{lane, t.since}
			}
		}
	}
	return err
}

// Waiting lists what waits in a lane's backlog, in the order in which it is looked at.
// Paths are spelled as the sender has them.
func (q Queries) Waiting(ctx context.Context, lane replica.Lane, limit int) ([]model.WaitingPath, error) {
	var keys []string
	rows, err := q.run.QueryContext(ctx, `SELECT path_key, whole, queued, failed, later FROM replica_backlog WHERE from_id = ? AND to_id = ? ORDER BY seq LIMIT ?`, lane.From, lane.To, limit)
	list, err := collect(rows, err, func(s scanner) (w model.WaitingPath, err error) {
		var key []byte
		var later sql.NullTime
		if err = s.Scan(&key, &w.Within, &w.Since, &w.Tried, &later); err == nil {
			keys = append(keys, string(key))
			w.NextTry = timeIn(later)
		}
		return w, err
	})
	if err != nil {
		return nil, err
	}
	known, err := q.knownOf(ctx, lane.From, keys)
	if err != nil {
		return nil, err
	}
	partials, err := q.partials(ctx, lane.To)
	if err != nil {
		return nil, err
	}
	arrived := map[string]int64{}
	for _, p := range partials {
		arrived[p.Key] = p.Bytes
	}
	for i, key := range keys {
		list[i].Path = spelledOf(known, key)
		switch rec := known[key]; rec.Kind {
		case replica.None:
			list[i].Kind = model.WaitingGone
		case replica.Folder:
			list[i].Kind = model.WaitingFolder
		default:
			list[i].Kind, list[i].Bytes, list[i].Arrived = model.WaitingFile, rec.Size, min(arrived[key], rec.Size)
		}
	}
	return list, nil
}

// knownOf are the records of paths, and of the folders that they are in.
func (q Queries) knownOf(ctx context.Context, r replica.ID, keys []string) (map[string]replica.Record, error) {
	wanted := map[string]bool{}
	for _, key := range keys {
		for ; key != "." && !wanted[key]; key = path.Dir(key) {
			wanted[key] = true
		}
	}
	all := make([]string, 0, len(wanted))
	for key := range wanted {
		all = append(all, key)
	}
	records, err := q.replicaRecords(ctx, r, all, &descriptors{})
	return byKey(records), err
}

// spelledOf is how a path is spelled, as far as that is known.
func spelledOf(known map[string]replica.Record, key string) string {
	var names []string
	for ; key != "."; key = path.Dir(key) {
		name := known[key].Name
		if name == "" {
			name = path.Base(key)
		}
		names = append([]string{name}, names...)
	}
	if len(names) == 0 {
		return "."
	}
	return strings.Join(names, "/")
}
