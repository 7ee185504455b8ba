package records

import (
	"context"
	"path"
	"slices"
	"time"

	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records/pack"
)

// brief is as much of a record as tells whether it has to be carried.
type brief struct {
	kind                 replica.Kind
	version, permissions string
	size                 int64
}

// awaited reports whether what a sender has is to be carried to a receiver, and how
// many bytes of it: it has another version, or is to take the place of what the
// receiver held before it belonged to the set.
func awaited(sender, receiver brief) (waits bool, bytes int64) {
	if sender.version != receiver.version {
		return true, sender.size
	}
	return sender.permissions != receiver.permissions || receiver.kind != replica.None && receiver.version == "", 0
}

// How much of a backlog is counted at a time: all that is right in folders that wait as
// wholes is read of both ends.
const (
	countPaths  = 250
	countWholes = 16
)

// Backlog counts what a lane still has to carry: the paths that wait, by themselves or
// in a folder that waits as a whole, of which the receiver does not have the sender's
// version. What has come of large files does not have to be carried any more.
func (q Queries) Backlog(ctx context.Context, l replica.Lane) (model.Backlog, error) {
	c := backlogCount{Queries: q, lane: l}
	err := c.all(ctx)
	if err == nil && c.total.Bytes > 0 {
		err = c.arrived(ctx)
	}
	return c.total, err
}

// arrived takes off what has come of files that wait.
func (c *backlogCount) arrived(ctx context.Context) error {
	partials, err := c.partials(ctx, c.lane.To)
	if err != nil || len(partials) == 0 {
		return err
	}
	keys := make([]string, len(partials))
	for i := range partials {
		keys[i] = partials[i].Key
	}
	sender, receiver, err := c.ends(func(r replica.ID) (map[string]brief, error) { return c.briefs(ctx, r, keys) })
	if err != nil {
		return err
	}
	for _, p := range partials {
		_, bytes := awaited(sender[p.Key], receiver[p.Key])
		c.total.Bytes -= min(p.Bytes, bytes)
	}
	c.total.Bytes = max(c.total.Bytes, 0)
	return nil
}

type backlogCount struct {
	Queries
	lane  replica.Lane
	total model.Backlog
}

// waitingPath is a path in a backlog.
type waitingPath struct {
	folder, name []byte
	key          string
	whole        int
	since        time.Time
}

func (c *backlogCount) all(ctx context.Context) error {
	last := waitingPath{folder: []byte{}, name: []byte{}}
	for {
		rows, err := c.run.QueryContext(ctx, `SELECT folder, name_key, path_key, whole, queued FROM replica_backlog
			WHERE from_id = ? AND to_id = ? AND folder >= ? AND (folder > ? OR name_key > ?) ORDER BY folder, name_key LIMIT ?`,
			c.lane.From, c.lane.To, last.folder, last.folder, last.name, countPaths)
		page, err := collect(rows, err, func(s scanner) (w waitingPath, err error) {
			return w, s.Scan(&w.folder, &w.name, &w.key, &w.whole, &w.since)
		})
		if err != nil || len(page) == 0 {
			return err
		}
		if err := c.paths(ctx, page); err != nil {
			return err
		}
		wholes := slices.DeleteFunc(slices.Clone(page), func(w waitingPath) bool { return w.whole == 0 })
		if err := c.wholes(ctx, wholes); err != nil {
			return err
		}
		last = page[len(page)-1]
	}
}

func (c *backlogCount) add(files, bytes int64, since time.Time) {
	if files == 0 {
		return
	}
	c.total.Files, c.total.Bytes = c.total.Files+files, c.total.Bytes+bytes
	if c.total.Oldest == nil || since.Before(*c.total.Oldest) {
		c.total.Oldest = &since
	}
}

// paths counts those that wait by themselves.
func (c *backlogCount) paths(ctx context.Context, page []waitingPath) error {
	keys := make([]string, len(page))
	for i := range page {
		keys[i] = page[i].key
	}
	sender, receiver, err := c.ends(func(r replica.ID) (map[string]brief, error) { return c.briefs(ctx, r, keys) })
	if err != nil {
		return err
	}
	for i := range page {
		if waits, bytes := awaited(sender[page[i].key], receiver[page[i].key]); waits {
			c.add(1, bytes, page[i].since)
		}
	}
	return nil
}

// wholes counts what is right in folders that wait as wholes.
func (c *backlogCount) wholes(ctx context.Context, wholes []waitingPath) error {
	if len(wholes) == 0 {
		return nil
	}
	left, err := c.newcomers(ctx, wholes)
	if err != nil {
		return err
	}
	for some := range slices.Chunk(left, countWholes) {
		folders := make([]any, len(some))
		since := map[string]time.Time{}
		for i, w := range some {
			folders[i], since[w.key] = folderOf(w.key), w.since
		}
		if err := c.children(ctx, folders, since); err != nil {
			return err
		}
	}
	return nil
}

// newcomers counts what is right in folders of which the receiver knows nothing, and the
// sender what it knew at first: that is told with its packs. It returns the others.
func (c *backlogCount) newcomers(ctx context.Context, wholes []waitingPath) (others []waitingPath, err error) {
	folders := make([]any, len(wholes))
	for i, w := range wholes {
		folders[i] = folderOf(w.key)
	}
	in := ` AND folder IN (` + placeholders(len(folders)) + `)`
	ends := []any{c.lane.From, c.lane.To}
	args := slices.Concat(ends, folders, ends[1:], folders, ends, folders)
	rows, err := c.run.QueryContext(ctx, `SELECT DISTINCT folder FROM replica_records WHERE replica_id IN (?, ?)`+in+`
		UNION SELECT DISTINCT folder FROM replica_packs WHERE replica_id = ?`+in+`
		UNION SELECT DISTINCT folder FROM replica_backlog WHERE from_id = ? AND to_id = ?`+in, args...)
	busy := map[string]bool{}
	if _, err = collect(rows, err, func(s scanner) (hash []byte, err error) {
		err = s.Scan(&hash)
		busy[string(hash)] = true
		return hash, err
	}); err != nil {
		return nil, err
	}
	type told struct{ entries, bytes int64 }
	packed := map[string]told{}
	rows, err = c.run.QueryContext(ctx, `SELECT folder, SUM(entries), SUM(bytes) FROM replica_packs WHERE replica_id = ?`+in+` GROUP BY folder`, append(ends[:1:1], folders...)...)
	if _, err = collect(rows, err, func(s scanner) (t told, err error) {
		var hash []byte
		err = s.Scan(&hash, &t.entries, &t.bytes)
		packed[string(hash)] = t
		return t, err
	}); err != nil {
		return nil, err
	}
	for _, w := range wholes {
		hash := folderOf(w.key)
		if busy[string(hash)] {
			others = append(others, w)
			continue
		}
		told := packed[string(hash)]
		c.add(told.entries, told.bytes, w.since)
	}
	return others, nil
}

// children counts what is right in folders, which wait since some time, by what both ends
// know of it; but what waits by itself.
func (c *backlogCount) children(ctx context.Context, folders []any, since map[string]time.Time) error {
	sender, receiver, err := c.ends(func(r replica.ID) (map[string]brief, error) { return c.briefsIn(ctx, r, folders) })
	if err != nil {
		return err
	}
	for key := range receiver {
		if _, ok := sender[key]; !ok {
			sender[key] = brief{}
		}
	}
	rows, err := c.run.QueryContext(ctx, `SELECT path_key FROM replica_backlog WHERE from_id = ? AND to_id = ? AND folder IN (`+placeholders(len(folders))+`)`, append([]any{c.lane.From, c.lane.To}, folders...)...)
	own, err := collect(rows, err, func(s scanner) (key string, err error) { return key, s.Scan(&key) })
	if err != nil {
		return err
	}
	for _, key := range own {
		delete(sender, key)
	}
	for key, there := range sender {
		if waits, bytes := awaited(there, receiver[key]); waits {
			c.add(1, bytes, since[path.Dir(key)])
		}
	}
	return nil
}

// ends reads something of both ends of the lane.
func (c *backlogCount) ends(read func(replica.ID) (map[string]brief, error)) (sender, receiver map[string]brief, err error) {
	if sender, err = read(c.lane.From); err == nil {
		receiver, err = read(c.lane.To)
	}
	return sender, receiver, err
}

// briefs are the records of paths, in brief.
func (c *backlogCount) briefs(ctx context.Context, r replica.ID, keys []string) (map[string]brief, error) {
	where, args := within(``, keys)
	known, err := c.briefRows(ctx, r, where, args)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, key := range keys {
		if _, ok := known[key]; !ok {
			wanted[key] = true
		}
	}
	if len(wanted) == 0 {
		return known, nil
	}
	packs, err := c.packsOf(ctx, r, wanted)
	if err != nil {
		return nil, err
	}
	return known, eachEntry(packs, known, wanted, briefly)
}

// briefsIn are the records of what is right in folders, in brief.
func (c *backlogCount) briefsIn(ctx context.Context, r replica.ID, folders []any) (map[string]brief, error) {
	in := `folder IN (` + placeholders(len(folders)) + `)`
	known, err := c.briefRows(ctx, r, in, folders)
	if err != nil {
		return nil, err
	}
	packs, err := c.packs(ctx, `replica_id = ? AND `+in, append([]any{r}, folders...)...)
	if err != nil {
		return nil, err
	}
	return known, eachEntry(packs, known, nil, briefly)
}

func (c *backlogCount) briefRows(ctx context.Context, r replica.ID, where string, args []any) (map[string]brief, error) {
	known := map[string]brief{}
	rows, err := c.run.QueryContext(ctx, `SELECT path_key, kind, version, permissions_version, size FROM replica_records WHERE replica_id = ? AND `+where, append([]any{r}, args...)...)
	_, err = collect(rows, err, func(s scanner) (b brief, err error) {
		var key string
		err = s.Scan(&key, &b.kind, &b.version, &b.permissions, &b.size)
		known[key] = b
		return b, err
	})
	return known, err
}

// briefly is an entry of a pack in brief.
func briefly(row *packRow, e *pack.Entry) (brief, error) {
	return brief{e.Kind, row.Versions[e.Version], row.Versions[e.Permissions], e.Size}, nil
}
