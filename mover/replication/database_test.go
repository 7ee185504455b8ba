package replication

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// memoryDatabase holds what a database holds of replica sets, in the forms that the
// records have there: rows, packs that are never changed, what is begun many paths to
// a row, and backlogs. It outlives the stores that keep things in it.
type memoryDatabase struct {
	rows      map[replica.ID]map[string]replica.Record
	packs     map[replica.ID][]memoryPack // in the order in which they were written
	begun     []memoryBegun
	backlog   map[replica.Lane]map[string]replica.Ticket
	seq       uint64
	kept      map[replica.ID][]replica.Kept
	lists     map[chunk.Digest]chunk.List
	partials  map[replica.ID]map[string]chunk.Partial
	later     map[laneKey]time.Time // until when tickets are left alone
	failures  map[string]int        // how often paths failed
	failed    []string              // keys of tickets that were to be left alone for a while
	saves     int                   // changes that were kept
	packLeast int
}

// laneKey is a path in the backlog of a lane.
type laneKey struct {
	lane replica.Lane
	key  string
}

// memoryPack holds records of one folder, in the order of their keys.
type memoryPack struct {
	folder  string
	records []replica.Record
}

// spans reports whether a pack holds paths between two.
func (p *memoryPack) spans(first, last string) bool {
	return p.records[0].Key <= last && p.records[len(p.records)-1].Key >= first
}

// memoryBegun is what one store began at a replica in one change.
type memoryBegun struct {
	id      int
	replica replica.ID
	paths   map[string]*replica.Pending
}

func newMemoryDatabase() *memoryDatabase {
	return &memoryDatabase{rows: map[replica.ID]map[string]replica.Record{}, packs: map[replica.ID][]memoryPack{}, backlog: map[replica.Lane]map[string]replica.Ticket{},
		kept: map[replica.ID][]replica.Kept{}, lists: map[chunk.Digest]chunk.List{}, partials: map[replica.ID]map[string]chunk.Partial{}, later: map[laneKey]time.Time{}, failures: map[string]int{}, packLeast: 4}
}

// record is what is kept of a path: its row, or else what the latest pack says.
func (d *memoryDatabase) record(r replica.ID, key string) replica.Record {
	if rec, ok := d.rows[r][key]; ok {
		return rec
	}
	for _, p := range slices.Backward(d.packs[r]) {
		if i := slices.IndexFunc(p.records, func(rec replica.Record) bool { return rec.Key == key }); i >= 0 {
			return p.records[i]
		}
	}
	return replica.Record{Key: key}
}

// all are the records of a replica by their keys.
func (d *memoryDatabase) all(r replica.ID) map[string]replica.Record {
	all := map[string]replica.Record{}
	for _, p := range d.packs[r] {
		for _, rec := range p.records {
			all[rec.Key] = rec
		}
	}
	maps.Copy(all, d.rows[r])
	return all
}

func (d *memoryDatabase) setRow(r replica.ID, rec replica.Record) {
	if d.rows[r] == nil {
		d.rows[r] = map[string]replica.Record{}
	}
	d.rows[r][rec.Key] = rec
}

// forget removes what is known of a replica.
func (d *memoryDatabase) forget(r replica.ID) {
	delete(d.rows, r)
	delete(d.packs, r)
	d.begun = slices.DeleteFunc(d.begun, func(b memoryBegun) bool { return b.replica == r })
}

// view is what one transaction sees of the others: what was kept before it began.
type view struct {
	rows  map[replica.ID]map[string]bool
	packs map[replica.ID]int
}

func (d *memoryDatabase) view() view {
	v := view{map[replica.ID]map[string]bool{}, map[replica.ID]int{}}
	for r, rows := range d.rows {
		v.rows[r] = map[string]bool{}
		for key := range rows {
			v.rows[r][key] = true
		}
	}
	for r, packs := range d.packs {
		v.packs[r] = len(packs)
	}
	return v
}

// keepRecords keeps records of changes, of one folder each in packs where there are
// enough of which the transaction sees nothing yet, and else as rows.
func (d *memoryDatabase) keepRecords(v view, together []replica.Change) {
	type at struct {
		replica replica.ID
		folder  string
	}
	folders := map[at][]replica.Record{}
	var order []at
	for _, c := range together {
		for _, rec := range c.Records {
			f := at{c.Replica, path.Dir(rec.Key)}
			if c.Begun {
				continue
			}
			if folders[f] == nil {
				order = append(order, f)
			}
			folders[f] = append(folders[f], rec)
		}
	}
	for _, f := range order {
		packed := d.packable(v, f.replica, f.folder, folders[f])
		for _, rec := range folders[f] {
			if !packed || rec.Pending != nil {
				d.setRow(f.replica, rec)
			}
		}
		if packed {
			list := slices.DeleteFunc(slices.Clone(folders[f]), func(rec replica.Record) bool { return rec.Pending != nil })
			slices.SortFunc(list, func(a, b replica.Record) int { return cmp.Compare(a.Key, b.Key) })
			d.packs[f.replica] = append(d.packs[f.replica], memoryPack{f.folder, list})
		}
	}
}

// packable reports whether records of one folder go into a pack.
func (d *memoryDatabase) packable(v view, r replica.ID, folder string, list []replica.Record) bool {
	keys := map[string]bool{}
	var packed []string
	for _, rec := range list {
		if keys[rec.Key] {
			return false
		}
		keys[rec.Key] = true
		if rec.Pending == nil {
			packed = append(packed, rec.Key)
		}
	}
	if len(packed) < d.packLeast {
		return false
	}
	first, last := slices.Min(packed), slices.Max(packed)
	for key := range v.rows[r] {
		if path.Dir(key) == folder && key >= first && key <= last {
			return false
		}
	}
	for _, p := range d.packs[r][:v.packs[r]] {
		if p.folder == folder && p.spans(first, last) {
			return false
		}
	}
	return true
}

// queueAll puts the paths of changes into backlogs, all with one number.
func (d *memoryDatabase) queueAll(together []replica.Change) {
	d.seq++
	for _, c := range together {
		for _, l := range c.Queue {
			if c.Whole != "" {
				d.queue(l, c.Whole, d.seq, len(c.Records))
				continue
			}
			for _, rec := range c.Records {
				d.queue(l, rec.Key, d.seq, 0)
			}
		}
	}
}

func (d *memoryDatabase) queue(l replica.Lane, key string, seq uint64, whole int) {
	if d.backlog[l] == nil {
		d.backlog[l] = map[string]replica.Ticket{}
	}
	delete(d.later, laneKey{l, key})
	d.backlog[l][key] = replica.Ticket{Key: key, Seq: seq, Whole: max(whole, d.backlog[l][key].Whole)}
}

// queueRecords puts all of some paths into a backlog.
func (d *memoryDatabase) queueRecords(l replica.Lane, keys []string) {
	d.seq++
	for _, key := range keys {
		d.queue(l, key, d.seq, 0)
	}
}

// take takes a ticket away, unless its path was put there again meanwhile.
func (d *memoryDatabase) take(l replica.Lane, t replica.Ticket) {
	if d.backlog[l][t.Key].Seq == t.Seq {
		delete(d.backlog[l], t.Key)
	}
}
