package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"sync"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records/pack"
)

const dedupVolumeColumns = `SELECT id, name, places, profile, compression, proof, created, COALESCE(counted, 0) FROM dedup_volumes`

func scanDedupVolume(s scanner) (v model.DedupVolume, err error) {
	var places, proof []byte
	if err = s.Scan(&v.ID, &v.Name, &places, &v.Profile, &v.Compression, &proof, &v.Created, &v.Counted); err == nil {
		err = json.Unmarshal(places, &v.Places)
	}
	if err == nil && proof != nil {
		err = json.Unmarshal(proof, &v.Proof)
	}
	return v, err
}

func noDedupVolume(name string) error {
	return notFound("volume", name, "list those that were estimated with: bspan dedup list")
}

// DedupVolumes lists the volumes that were estimated, by name.
func (q Queries) DedupVolumes(ctx context.Context, p Page) ([]model.DedupVolume, error) {
	rows, err := q.run.QueryContext(ctx, dedupVolumeColumns+` WHERE name_key > ? ORDER BY name_key LIMIT ?`, p.After, p.Limit)
	return collect(rows, err, scanDedupVolume)
}

// DedupVolumeNumbered finds a volume by its number.
func (q Queries) DedupVolumeNumbered(ctx context.Context, id int64) (model.DedupVolume, error) {
	return one(q.run.QueryRowContext(ctx, dedupVolumeColumns+` WHERE id = ?`, id), scanDedupVolume,
		fault.New(fault.NotFound, "begin anew with: bspan dedup estimate", "the volume was forgotten"))
}

// DedupVolume finds a volume that was estimated.
func (q Queries) DedupVolume(ctx context.Context, name string) (model.DedupVolume, error) {
	return one(q.run.QueryRowContext(ctx, dedupVolumeColumns+` WHERE name_key = ?`, []byte(namespace.Key(name))), scanDedupVolume, noDedupVolume(name))
}

// AddDedupVolume adds a volume, and returns its number.
func (tx *Tx) AddDedupVolume(ctx context.Context, v model.DedupVolume) (int64, error) {
	places, err := json.Marshal(v.Places)
	if err != nil {
		return 0, err
	}
	_, id, err := tx.exec(ctx, `INSERT INTO dedup_volumes (name, name_key, places, profile, compression, created) VALUES (?, ?, ?, ?, ?, ?)`,
		v.Name, []byte(namespace.Key(v.Name)), places, v.Profile, v.Compression, v.Created)
	return id, taken(err, "name", "volume", v.Name)
}

// KeepProof keeps what the last proof of a volume came to.
func (tx *Tx) KeepProof(ctx context.Context, volume int64, p model.ProofPoint) error {
	proof, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `UPDATE dedup_volumes SET proof = ? WHERE id = ?`, proof, volume)
	return err
}

// ReadOtherwise notes that a volume is read in another way: what was read is unread then.
func (tx *Tx) ReadOtherwise(ctx context.Context, v model.DedupVolume) error {
	if _, _, err := tx.exec(ctx, `UPDATE dedup_volumes SET profile = ?, compression = ?, counted = NULL WHERE id = ?`, v.Profile, v.Compression, v.ID); err != nil {
		return err
	}
	_, _, err := tx.exec(ctx, `UPDATE dedup_files SET unread = ?, digest = NULL, summary = NULL WHERE volume_id = ? AND NOT is_folder`, dedup.NotYet, v.ID)
	return err
}

// ReadWhole lets all of a volume be read again of whose chunks a sample is kept alone,
// except for files so large that no more ever is.
func (tx *Tx) ReadWhole(ctx context.Context, volume int64) error {
	again, _, err := tx.exec(ctx, `UPDATE dedup_files SET unread = ?, digest = NULL, summary = NULL, level = 0 WHERE volume_id = ? AND NOT is_folder AND level > 0 AND parts < ?`,
		dedup.NotYet, volume, dedup.MostMarks/2/partMarks-1)
	if err == nil && again > 0 {
		_, _, err = tx.exec(ctx, `UPDATE dedup_volumes SET counted = NULL WHERE id = ?`, volume)
	}
	return err
}

// RemoveDedupVolume forgets a volume, and all that was read of it.
func (tx *Tx) RemoveDedupVolume(ctx context.Context, id int64) error {
	_, _, err := tx.exec(ctx, `DELETE FROM dedup_volumes WHERE id = ?`, id)
	return err
}

// Dedup are the records of a volume's files: the store of its estimates.
type Dedup struct {
	db     *DB
	volume int64

	once   sync.Once
	failed error
	// unread are the folders right in which something was unread at first.
	unread map[string]bool

	mu      sync.Mutex
	changed bool // it is noted that the records are not what was counted any more
}

// change notes, before the records are changed, that they are not what was counted.
func (d *Dedup) change(ctx context.Context) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.changed {
		return nil
	}
	_, _, err := d.db.exec(ctx, `UPDATE dedup_volumes SET counted = NULL WHERE id = ?`, d.volume)
	d.changed = err == nil
	return err
}

// Dedup returns the records of the files of a volume, for one piece of work.
func (db *DB) Dedup(volume int64) *Dedup { return &Dedup{db: db, volume: volume} }

func dedupFolder(place int, folder string) []byte { return folderOf(fmt.Sprint(place, ":", folder)) }

const dedupColumns = `SELECT place, path, is_folder, size, allocated, modified, file_id, owner, unread, digest, parts, `

func scanDedup(s scanner) (dedup.Record, error) {
	r, _, err := scanDedupParts(s)
	return r, err
}

// scanDedupParts is scanDedup with how many parts more a summary has.
func scanDedupParts(s scanner) (r dedup.Record, parts int, err error) {
	var modified int64
	var unread sql.NullString
	var digest, summary []byte
	if err := s.Scan(&r.Place, &r.Path, &r.Folder, &r.Size, &r.Allocated, &modified, &r.ID, &r.Owner, &unread, &digest, &parts, &summary); err != nil {
		return r, 0, err
	}
	r.Modified, r.Unread = pack.FromNano(modified), unread.String
	if summary != nil {
		err = r.Summary.UnmarshalBinary(summary)
	}
	copy(r.Summary.Digest[:], digest)
	return r, parts, err
}

// rest reads the parts of a summary that are not with its file.
func (d *Dedup) rest(ctx context.Context, r *dedup.Record, parts int) error {
	rows, err := d.db.run.QueryContext(ctx, `SELECT summary FROM dedup_parts WHERE volume_id = ? AND folder = ? AND name = ? AND part <= ? ORDER BY part`,
		d.volume, dedupFolder(r.Place, path.Dir(r.Path)), []byte(path.Base(r.Path)), parts)
	list, err := collect(rows, err, func(s scanner) (part dedup.Summary, err error) {
		var b []byte
		if err = s.Scan(&b); err == nil {
			err = part.UnmarshalBinary(b)
		}
		return part, err
	})
	if err == nil && len(list) != parts {
		err = fmt.Errorf("the summary of %s has %d parts of %d", r.Path, len(list), parts)
	}
	for _, part := range list {
		r.Summary.Marks = append(r.Summary.Marks, part.Marks...)
	}
	return err
}

// Children lists what is known right in a folder, without summaries.
func (d *Dedup) Children(ctx context.Context, place int, folder string) ([]dedup.Record, error) {
	rows, err := d.db.run.QueryContext(ctx, dedupColumns+`NULL FROM dedup_files WHERE volume_id = ? AND folder = ?`, d.volume, dedupFolder(place, folder))
	return collect(rows, err, scanDedup)
}

// Sum is the sum of the listing with which a folder agrees; zero when there is none,
// or something right in it was unread when this was first asked. It is kept as the
// digest of the folder.
func (d *Dedup) Sum(ctx context.Context, place int, folder string) (sum [16]byte, err error) {
	d.once.Do(func() {
		rows, err := d.db.run.QueryContext(ctx, `SELECT DISTINCT folder FROM dedup_files WHERE volume_id = ? AND unread IS NOT NULL`, d.volume)
		list, err := collect(rows, err, func(s scanner) (key string, err error) { return key, s.Scan(&key) })
		d.unread, d.failed = map[string]bool{}, err
		for _, key := range list {
			d.unread[key] = true
		}
	})
	if d.failed != nil || folder == "." || d.unread[string(dedupFolder(place, folder))] {
		return sum, d.failed
	}
	var kept []byte
	err = d.db.run.QueryRowContext(ctx, `SELECT digest FROM dedup_files WHERE volume_id = ? AND folder = ? AND name = ? AND is_folder`, d.volume, dedupFolder(place, path.Dir(folder)), []byte(path.Base(folder))).Scan(&kept)
	if errors.Is(err, sql.ErrNoRows) {
		return sum, nil
	}
	copy(sum[:], kept)
	return sum, unavailable(err)
}

// KeepSum keeps the sum of the listing of a folder.
func (d *Dedup) KeepSum(ctx context.Context, place int, folder string, sum [16]byte) error {
	_, _, err := d.db.exec(ctx, `UPDATE dedup_files SET digest = ? WHERE volume_id = ? AND folder = ? AND name = ? AND is_folder`, sum[:], d.volume, dedupFolder(place, path.Dir(folder)), []byte(path.Base(folder)))
	return err
}

// partMarks is how many marks are kept together: they are to fit into one statement,
// however a server is set up.
const partMarks = 50_000

// keepRest keeps the parts of a summary that do not go with its file, and returns how
// many these are.
func (d *Dedup) keepRest(ctx context.Context, r *dedup.Record) (parts int, err error) {
	for first := partMarks; first < len(r.Summary.Marks); first += partMarks {
		s := dedup.Summary{Level: r.Summary.Level, Marks: r.Summary.Marks[first:min(first+partMarks, len(r.Summary.Marks))]}
		b, err := s.AppendBinary(nil)
		if err != nil {
			return parts, err
		}
		parts++
		if _, _, err := d.db.exec(ctx, `REPLACE INTO dedup_parts (volume_id, folder, name, part, summary) VALUES (?, ?, ?, ?, ?)`, d.volume, dedupFolder(r.Place, path.Dir(r.Path)), []byte(path.Base(r.Path)), parts, b); err != nil {
			return parts, err
		}
	}
	return parts, nil
}

// mostStatement is how many bytes of summaries one statement carries.
const mostStatement = 4 << 20

// Save keeps records.
func (d *Dedup) Save(ctx context.Context, records []dedup.Record) error {
	if err := d.change(ctx); err != nil {
		return err
	}
	for len(records) > 0 {
		var rows values
		size, n := 0, 0
		for n < len(records) && n < bulkRows && size < mostStatement {
			r := &records[n]
			var unread, digest, summary any
			parts := 0
			switch {
			case r.Folder:
			case r.Unread != "":
				unread = short(r.Unread, 200)
			default:
				var err error
				if parts, err = d.keepRest(ctx, r); err != nil {
					return err
				}
				first := r.Summary
				first.Marks = first.Marks[:min(len(first.Marks), partMarks)]
				b, err := first.AppendBinary(nil)
				if err != nil {
					return err
				}
				size += len(b)
				digest, summary = r.Summary.Digest[:], b
			}
			rows.add(d.volume, dedupFolder(r.Place, path.Dir(r.Path)), []byte(path.Base(r.Path)), r.Place, []byte(r.Path), r.Folder, r.Size, r.Allocated, pack.ToNano(r.Modified), r.ID, r.Owner, unread, digest, summary, parts, r.Summary.Level)
			n++
		}
		if err := d.db.Change(ctx, func(tx *Tx) error { return rows.replacing(ctx, tx, "dedup_files") }); err != nil {
			return err
		}
		records = records[n:]
	}
	return nil
}

// Forget drops what is right in a folder under some names, with all below.
func (d *Dedup) Forget(ctx context.Context, place int, folder string, names []string) error {
	if err := d.change(ctx); err != nil {
		return err
	}
	for _, name := range names {
		at := path.Join(folder, name)
		below, err := d.Children(ctx, place, at)
		if err != nil {
			return err
		}
		var inside []string
		for _, b := range below {
			inside = append(inside, path.Base(b.Path))
		}
		if err := d.Forget(ctx, place, at, inside); err != nil {
			return err
		}
	}
	for len(names) > 0 {
		part := names[:min(len(names), bulkRows)]
		args := []any{d.volume, dedupFolder(place, folder)}
		for _, name := range part {
			args = append(args, []byte(name))
		}
		if _, _, err := d.db.exec(ctx, `DELETE FROM dedup_files WHERE volume_id = ? AND folder = ? AND name IN (`+placeholders(len(part))+`)`, args...); err != nil {
			return err
		}
		names = names[len(part):]
	}
	return nil
}

// Unread lists files whose content is not known, after the last that was listed before.
func (d *Dedup) Unread(ctx context.Context, after *dedup.Record, limit int) ([]dedup.Record, error) {
	where, args := ``, []any{d.volume}
	if after != nil {
		folder := dedupFolder(after.Place, path.Dir(after.Path))
		where, args = ` AND (folder > ? OR folder = ? AND name > ?)`, append(args, folder, folder, []byte(path.Base(after.Path)))
	}
	rows, err := d.db.run.QueryContext(ctx, dedupColumns+`NULL FROM dedup_files FORCE INDEX (PRIMARY) WHERE volume_id = ?`+where+` AND unread IS NOT NULL ORDER BY folder, name LIMIT ?`, append(args, limit)...)
	return collect(rows, err, scanDedup)
}

// each streams records.
func (d *Dedup) each(ctx context.Context, do func(dedup.Record) error, query string, args ...any) error {
	rows, err := d.db.run.QueryContext(ctx, query, args...)
	if err != nil {
		return unavailable(err)
	}
	defer rows.Close()
	for rows.Next() {
		r, parts, err := scanDedupParts(rows)
		if err == nil && parts > 0 && len(r.Summary.Marks) > 0 {
			err = d.rest(ctx, &r, parts)
		}
		if err == nil {
			err = do(r)
		}
		if err != nil {
			return err
		}
	}
	return unavailable(rows.Err())
}

// Each streams the files, as they lie in the database.
func (d *Dedup) Each(ctx context.Context, do func(dedup.Record) error) error {
	return d.each(ctx, do, dedupColumns+`summary FROM dedup_files FORCE INDEX (PRIMARY) WHERE volume_id = ? AND NOT is_folder ORDER BY folder, name`, d.volume)
}

// several are the values of a column that occur more than once, read from its index
// alone.
func several(column, index string) string {
	return `(SELECT ` + column + ` AS again FROM dedup_files FORCE INDEX (` + index + `) WHERE volume_id = ? GROUP BY ` + column + ` HAVING COUNT(*) > 1) s`
}

// Equals streams the files of whose digest there are several, without marks, in the
// order of their digests.
func (d *Dedup) Equals(ctx context.Context, do func(dedup.Record) error) error {
	return d.each(ctx, do, dedupColumns+`NULL FROM `+several("digest", "same")+` STRAIGHT_JOIN dedup_files f FORCE INDEX (same) ON f.volume_id = ? AND f.digest = s.again WHERE NOT is_folder ORDER BY digest, folder, name`, d.volume, d.volume)
}

// Files is how many files there are.
func (d *Dedup) Files(ctx context.Context) (n int64, err error) {
	err = d.db.run.QueryRowContext(ctx, `SELECT COUNT(*) FROM dedup_files WHERE volume_id = ? AND NOT is_folder`, d.volume).Scan(&n)
	return n, unavailable(err)
}

// Doubles lists the files whose number another one has, too.
func (d *Dedup) Doubles(ctx context.Context) ([]dedup.Record, error) {
	rows, err := d.db.run.QueryContext(ctx, dedupColumns+`NULL FROM `+several("file_id", "numbered")+` STRAIGHT_JOIN dedup_files f FORCE INDEX (numbered) ON f.volume_id = ? AND f.file_id = s.again WHERE s.again <> 0 AND NOT is_folder`, d.volume, d.volume)
	return collect(rows, err, scanDedup)
}

var _ dedup.Records = (*Dedup)(nil)

// KeepEstimate keeps what an estimate of a volume came to.
func (tx *Tx) KeepEstimate(ctx context.Context, volume int64, e model.EstimatePoint) error {
	totals, err := json.Marshal(e.Totals)
	if err != nil {
		return err
	}
	if _, _, err := tx.exec(ctx, `UPDATE dedup_volumes SET counted = ? WHERE id = ?`, e.Run, volume); err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `REPLACE INTO dedup_estimates (run_id, volume_id, at, totals, capacity, free, read_bytes, read_ms, busy_ms) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, e.Run, volume, e.At, totals, e.Capacity, e.Free, e.ReadBytes, e.ReadMs, e.BusyMs)
	return err
}

// Estimates lists what the latest estimates of a volume came to, the newest first.
func (q Queries) Estimates(ctx context.Context, volume int64, limit int) ([]model.EstimatePoint, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT run_id, at, totals, capacity, free, read_bytes, read_ms, busy_ms FROM dedup_estimates WHERE volume_id = ? ORDER BY at DESC, run_id DESC LIMIT ?`, volume, limit)
	return collect(rows, err, func(s scanner) (e model.EstimatePoint, err error) {
		var totals []byte
		if err = s.Scan(&e.Run, &e.At, &totals, &e.Capacity, &e.Free, &e.ReadBytes, &e.ReadMs, &e.BusyMs); err == nil {
			err = json.Unmarshal(totals, &e.Totals)
		}
		return e, err
	})
}
