package records

import (
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/records/pack"
)

// Records of paths in one folder of which nothing was known before are kept in packs,
// many to a row. A pack is written once and never changed: what becomes of a path later
// is a row of its own, which stands above the pack.

// A pack is made of packLeast records in one folder at least, and of packMost at
// most: to read one of them, all are read.
const (
	packLeast = 4
	packMost  = 256
	// What keys hold, as the schema has it.
	longestName, longestPath = 1020, 8192
	// mostInStatement is how many bytes of packs one statement adds, if it is more than one.
	mostInStatement = 1 << 20
)

// folderAt is a folder of a replica.
type folderAt struct {
	replica replica.ID
	folder  string
}

// packing parts the records of changes into those that are kept in packs and those
// that are rows.
type packing struct {
	folders map[folderAt][]*replica.Record
	order   []folderAt
	rows    []packingRow
}

type packingRow struct {
	replica replica.ID
	rec     *replica.Record
}

func (p *packing) add(r replica.ID, rec *replica.Record) {
	at := folderAt{r, path.Dir(rec.Key)}
	if p.folders == nil {
		p.folders = map[folderAt][]*replica.Record{}
	}
	if p.folders[at] == nil {
		p.order = append(p.order, at)
	}
	p.folders[at] = append(p.folders[at], rec)
}

// part leaves to packs what may be in some, in the order of names, and makes rows of
// the rest: of what is too little, and of what there are records of already.
func (p *packing) part(ctx context.Context, q Queries) error {
	for _, at := range p.order {
		p.partFolder(at)
	}
	taken, err := q.taken(ctx, p.folders)
	for _, at := range taken {
		p.unpack(at)
	}
	return err
}

func (p *packing) partFolder(at folderAt) {
	list := p.folders[at]
	if len(list) < packLeast || doubles(list) { // of two of one path the later one counts
		p.unpack(at)
		return
	}
	slices.SortFunc(list, func(a, b *replica.Record) int { return strings.Compare(a.Key, b.Key) })
	packed := list[:0]
	for _, rec := range list {
		if mayBePacked(rec) {
			packed = append(packed, rec)
		} else {
			p.rows = append(p.rows, packingRow{at.replica, rec})
		}
	}
	if p.folders[at] = packed; len(packed) < packLeast {
		p.unpack(at)
	}
}

func doubles(list []*replica.Record) bool {
	seen := make(map[string]bool, len(list))
	for _, rec := range list {
		if seen[rec.Key] {
			return true
		}
		seen[rec.Key] = true
	}
	return false
}

// mayBePacked reports whether a record is one that packs can hold and that is not asked
// for by what packs do not tell. What is too long is left to rows, which refuse it.
func mayBePacked(rec *replica.Record) bool {
	return rec.Pending == nil && len(path.Base(rec.Key)) <= longestName && len(rec.Key) <= longestPath && len(rec.Name) <= longestName && len(rec.Moved) <= longestPath
}

func (p *packing) unpack(at folderAt) {
	for _, rec := range p.folders[at] {
		p.rows = append(p.rows, packingRow{at.replica, rec})
	}
	delete(p.folders, at)
}

// taken lists the folders in which there is a record between the first and the last
// of some, which are in order.
func (q Queries) taken(ctx context.Context, folders map[folderAt][]*replica.Record) (taken []folderAt, err error) {
	if len(folders) == 0 {
		return nil, nil
	}
	var inRows, inPacks []string
	var rowArgs, packArgs []any
	names := map[string]folderAt{}
	for at, list := range folders {
		hash := folderOf(at.folder)
		names[packName(at.replica, hash)] = at
		first, last := []byte(path.Base(list[0].Key)), []byte(path.Base(list[len(list)-1].Key))
		inRows, rowArgs = append(inRows, `replica_id = ? AND folder = ? AND name_key BETWEEN ? AND ?`), append(rowArgs, at.replica, hash, first, last)
		inPacks, packArgs = append(inPacks, `replica_id = ? AND folder = ? AND first_name <= ? AND last_name >= ?`), append(packArgs, at.replica, hash, last, first)
	}
	rows, err := q.run.QueryContext(ctx, `SELECT DISTINCT replica_id, folder FROM replica_records WHERE `+strings.Join(inRows, ` OR `)+`
		UNION SELECT DISTINCT replica_id, folder FROM replica_packs WHERE `+strings.Join(inPacks, ` OR `), append(rowArgs, packArgs...)...)
	return collect(rows, err, func(s scanner) (at folderAt, err error) {
		var r replica.ID
		var hash []byte
		err = s.Scan(&r, &hash)
		return names[packName(r, hash)], err
	})
}

func packName(r replica.ID, hash []byte) string {
	return string(binary.BigEndian.AppendUint64(slices.Clone(hash), uint64(r)))
}

// keepPacks writes what is left to packs, and returns the marks of each.
func (tx *Tx) keepPacks(ctx context.Context, p *packing, ids DescriptorIDs) (made []markedPack, err error) {
	var waiting [][]any
	var sizes []int
	for _, at := range p.order {
		for list := range slices.Chunk(p.folders[at], packMost) {
			content, err := pack.Records(list, ids.numbers(ctx, tx.Queries))
			if err != nil {
				return nil, err
			}
			marks := marksOf(list)
			entries, bytes := toTell(list)
			waiting = append(waiting, []any{at.replica, folderOf(at.folder), []byte(path.Base(list[0].Key)), []byte(path.Base(list[len(list)-1].Key)), []byte(at.folder), entries, bytes, marks.bytes(), content})
			sizes = append(sizes, len(content))
			made = append(made, markedPack{replica: at.replica, marks: marks})
		}
	}
	for done := 0; done < len(waiting); {
		n := inOneStatement(sizes[done:])
		rows, err := tx.statement(ctx, packStatement(n)).QueryContext(ctx, slices.Concat(waiting[done:done+n]...)...)
		numbers, err := collect(rows, err, func(s scanner) (id int64, err error) { return id, s.Scan(&id) })
		if err == nil && len(numbers) != n {
			err = fmt.Errorf("the database tells %d numbers of %d packs", len(numbers), n)
		}
		if err != nil {
			return nil, err
		}
		for _, id := range numbers {
			made[done].id = id
			done++
		}
	}
	return made, nil
}

// inOneStatement is how many of the packs of some sizes, in bytes, one statement adds.
func inOneStatement(sizes []int) int {
	for _, n := range packCounts {
		if n == 1 || n <= len(sizes) && sum(sizes[:n]) <= mostInStatement {
			return n
		}
	}
	return 1
}

func sum(list []int) (all int) {
	for _, n := range list {
		all += n
	}
	return all
}

// toTell counts what of records a replica that knows of nothing has to be told, and
// the bytes of that.
func toTell(list []*replica.Record) (entries, bytes int64) {
	for _, rec := range list {
		if len(rec.Version) > 0 {
			bytes += rec.Size
		}
		if len(rec.Version) > 0 || len(rec.Permissions.Version) > 0 {
			entries++
		}
	}
	return entries, bytes
}

// packRow is a pack as it is stored.
type packRow struct {
	id     int64
	folder string
	*pack.Pack
}

// key is the path of an entry.
func (p *packRow) key(e *pack.Entry) string { return replica.Below(p.folder, string(e.Key)) }

// packs reads packs, those that were written first first.
func (q Queries) packs(ctx context.Context, where string, args ...any) ([]packRow, error) {
	rows, err := q.run.QueryContext(ctx, packColumns+where+` ORDER BY id`, args...)
	return collect(rows, err, scanPack)
}

const packColumns = `SELECT id, path, content FROM replica_packs WHERE `

func scanPack(s scanner) (p packRow, err error) {
	var content sql.RawBytes
	if err = s.Scan(&p.id, &p.folder, &content); err == nil {
		p.Pack, err = pack.Read(content)
	}
	return p, err
}

// packsOf reads the packs in which paths may be.
func (q Queries) packsOf(ctx context.Context, r replica.ID, keys map[string]bool) ([]packRow, error) {
	type span struct{ first, last string }
	folders := map[string]span{}
	for key := range keys {
		name, folder := path.Base(key), path.Dir(key)
		s, ok := folders[folder]
		if !ok {
			s = span{name, name}
		}
		folders[folder] = span{min(s.first, name), max(s.last, name)}
	}
	var where []string
	args := []any{r}
	for folder, s := range folders {
		where = append(where, `folder = ? AND first_name <= ? AND last_name >= ?`)
		args = append(args, folderOf(folder), []byte(s.last), []byte(s.first))
	}
	return q.packs(ctx, `replica_id = ? AND (`+strings.Join(where, ` OR `)+`)`, args...)
}

// unpackInto adds the records of packs to those that are known, which stand above
// them: all of them, or those that are wanted.
func (q Queries) unpackInto(ctx context.Context, packs []packRow, permissions *descriptors, known map[string]replica.Record, wanted map[string]bool) error {
	return eachEntry(packs, known, wanted, func(row *packRow, e *pack.Entry) (replica.Record, error) { return q.unpack(ctx, row, e, permissions) })
}

// unpack reads the record that an entry of a pack holds.
func (q Queries) unpack(ctx context.Context, row *packRow, e *pack.Entry, permissions *descriptors) (replica.Record, error) {
	return row.Record(row.folder, e, func(id int64) (acl.Descriptor, error) { return permissions.numbered(ctx, q, id) })
}

// entriesOf is how many entries packs have.
func entriesOf(packs []packRow) (n int) {
	for i := range packs {
		n += len(packs[i].Entries)
	}
	return n
}

// eachEntry adds to what is known by path what read makes of the entries of packs: of
// all that are not known yet, or of those of them that are wanted.
func eachEntry[T any](packs []packRow, known map[string]T, wanted map[string]bool, read func(*packRow, *pack.Entry) (T, error)) error {
	for i := range slices.Backward(packs) { // of two packs with a path, the later one counts
		row := &packs[i]
		for k := range row.Entries {
			e := &row.Entries[k]
			key := row.key(e)
			if _, above := known[key]; above || wanted != nil && !wanted[key] {
				continue
			}
			one, err := read(row, e)
			if err != nil {
				return err
			}
			known[key] = one
		}
	}
	return nil
}

// eachPack reads all packs of a replica, some at a time.
func (q Queries) eachPack(ctx context.Context, r replica.ID, each func([]packRow) error) error {
	for after := int64(0); ; {
		packs, err := q.packs(ctx, `id IN (SELECT id FROM (SELECT id FROM replica_packs WHERE replica_id = ? AND id > ? ORDER BY id LIMIT ?) AS page)`, r, after, mostPacks)
		if err != nil || len(packs) == 0 {
			return err
		}
		if err := each(packs); err != nil {
			return err
		}
		after = packs[len(packs)-1].id
	}
}

// rowsBeside are the paths in the folders of packs of which the records are rows.
func (q Queries) rowsBeside(ctx context.Context, r replica.ID, packs []packRow) (map[string]bool, error) {
	args := []any{r}
	for _, row := range packs {
		args = append(args, folderOf(row.folder))
	}
	beside := map[string]bool{}
	rows, err := q.run.QueryContext(ctx, `SELECT path_key FROM replica_records WHERE replica_id = ? AND folder IN (`+placeholders(len(packs))+`)`, args...)
	_, err = collect(rows, err, func(s scanner) (key string, err error) {
		err = s.Scan(&key)
		beside[key] = true
		return key, err
	})
	return beside, err
}

// Files and folders in packs are found by their numbers, and by their sizes and times, with the
// help of marks: short sums of these, kept with each pack. Those of a replica are
// read when they are first asked for, and are remembered: 16 bytes a file, at most.

type marks []uint32

// Kinds of marks.
const (
	markNumber = iota
	markAlike
)

func mark(kind byte, numbers ...uint64) uint32 {
	var text [1 + 2*8]byte
	text[0] = kind
	b := text[:1]
	for _, n := range numbers {
		b = binary.LittleEndian.AppendUint64(b, n)
	}
	return crc32.ChecksumIEEE(b)
}

func numberMark(file uint64) uint32 { return mark(markNumber, file) }

func alikeMark(size int64, modified time.Time) uint32 {
	return mark(markAlike, uint64(size), uint64(pack.ToNano(modified)))
}

// marksOf are the marks of what is present among records: of what has a number, and of
// the files that were read.
func marksOf(list []*replica.Record) (all marks) {
	for _, rec := range list {
		if rec.Kind == replica.None {
			continue
		}
		if rec.Seen.ID != 0 {
			all = append(all, numberMark(rec.Seen.ID))
		}
		if rec.Kind == replica.File && rec.Digest.Known() {
			all = append(all, alikeMark(rec.Size, rec.Modified))
		}
	}
	return all
}

// bytes is the form in which marks are kept.
func (m marks) bytes() []byte {
	b := make([]byte, 0, 4*len(m))
	for _, one := range m {
		b = binary.LittleEndian.AppendUint32(b, one)
	}
	return b
}

func marksIn(b []byte) (m marks) {
	for ; len(b) >= 4; b = b[4:] {
		m = append(m, binary.LittleEndian.Uint32(b))
	}
	return m
}

// markedPack is a pack of a replica with its marks.
type markedPack struct {
	replica replica.ID
	id      int64
	marks   marks
}

// packFinder finds packs by marks. The zero value has read those of no replica.
type packFinder struct {
	mu       sync.Mutex
	replicas map[replica.ID]*markIndex
}

// markIndex has the marks of a replica, each with the place of its pack behind it.
type markIndex struct {
	packs  []int64
	sorted []uint64
	fresh  []uint64 // those that came later
}

func (x *markIndex) add(p markedPack) {
	at := uint64(len(x.packs))
	x.packs = append(x.packs, p.id)
	for _, m := range p.marks {
		x.fresh = append(x.fresh, uint64(m)<<32|at)
	}
	if len(x.fresh) > 4096+len(x.sorted)/8 {
		x.sorted = append(x.sorted, x.fresh...)
		slices.Sort(x.sorted)
		x.fresh = nil
	}
}

// find lists the packs with one of some marks.
func (x *markIndex) find(wanted ...uint32) (ids []int64) {
	for _, m := range wanted {
		i, _ := slices.BinarySearch(x.sorted, uint64(m)<<32)
		for ; i < len(x.sorted) && uint32(x.sorted[i]>>32) == m; i++ {
			ids = append(ids, x.packs[uint32(x.sorted[i])])
		}
	}
	asked := make(map[uint32]bool, len(wanted))
	for _, m := range wanted {
		asked[m] = true
	}
	for _, f := range x.fresh {
		if asked[uint32(f>>32)] {
			ids = append(ids, x.packs[uint32(f)])
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// noted learns of packs that were written.
func (f *packFinder) noted(made []markedPack) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range made {
		if x := f.replicas[p.replica]; x != nil {
			x.add(p)
		}
	}
}

// find lists the packs of a replica with one of some marks.
func (f *packFinder) find(ctx context.Context, q Queries, r replica.ID, wanted ...uint32) ([]int64, error) {
	f.mu.Lock() // what is written meanwhile is noted after it was read, maybe twice
	defer f.mu.Unlock()
	x := f.replicas[r]
	if x == nil {
		var err error
		if x, err = q.readMarks(ctx, r); err != nil {
			return nil, err
		}
		if f.replicas == nil {
			f.replicas = map[replica.ID]*markIndex{}
		}
		f.replicas[r] = x
	}
	return x.find(wanted...), nil
}

func (q Queries) readMarks(ctx context.Context, r replica.ID) (*markIndex, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id, marks FROM replica_packs WHERE replica_id = ?`, r)
	x := &markIndex{}
	_, err = collect(rows, err, func(s scanner) (none struct{}, err error) {
		var b []byte
		p := markedPack{replica: r}
		if err = s.Scan(&p.id, &b); err == nil {
			p.marks = marksIn(b)
			x.add(p)
		}
		return none, err
	})
	return x, err
}
