package dedup

import (
	"cmp"
	"context"
	"time"
)

// Record is what is known of a file or folder of a volume.
type Record struct {
	Place     int    // of those that the volume is made of
	Path      string // from the top of the place
	Folder    bool
	Size      int64 // bytes
	Allocated int64 // bytes that it occupies; 0 where unknown
	Modified  time.Time
	ID        uint64 // the server's number of the file; 0 where unknown
	Owner     string // a SID; "" where unknown
	// Unread says why its content is not known; "" once it is.
	Unread string
	// Summary is what was read. Where many records are listed, it is left out.
	Summary Summary
}

// Records are the records of a volume as an estimate is counted from them.
type Records interface {
	// Each calls do with every file, every time in the same order.
	Each(ctx context.Context, do func(Record) error) error
	// Equals calls do with every file of whose digest there are several, without its
	// marks, in the order of their digests.
	Equals(ctx context.Context, do func(Record) error) error
	// Files is how many files there are.
	Files(ctx context.Context) (int64, error)
	// Doubles lists the files whose number another one has, too.
	Doubles(ctx context.Context) ([]Record, error)
}

// Found is what is found of a volume.
type Found struct {
	Totals     Totals       `json:"totals"`
	WholeFiles int64        `json:"wholeFilesSaving" doc:"What would be saved by storing equal files once, and nothing else"`
	Curve      []AgePoint   `json:"curve" doc:"What would be saved with other least ages"`
	Where      Breakdown    `json:"where"`
	Twins      []Twins      `json:"twins" doc:"The largest sets of equal files"`
	Suggested  []Suggestion `json:"suggested" doc:"What might be left out"`
	Until      time.Time    `json:"until,omitzero" doc:"When a file comes to be counted otherwise because of its age, if none changes before; absent for never"`
}

// At is what was found, as it would be found at a later time, if nothing has changed
// since; ok is false when some file is counted otherwise by then.
func (f Found) At(now time.Time) (then Found, ok bool) {
	if now.Before(f.Totals.Now) || !f.Until.IsZero() && !now.Before(f.Until) {
		return f, false
	}
	f.Totals.Now = now
	return f, true
}

// Means are what counting may use.
type Means struct {
	// Budget is the memory to count in, in bytes.
	Budget int64
	// Scratch makes files for what does not fit into that: all is counted then,
	// exactly. When it is nil, what does not fit is told from a sample.
	Scratch Scratch
	// Passed is told now and then how many files were passed over, of how many; each
	// is passed over more than once. It may be nil.
	Passed func(done, all int64)
}

// passes is how often files are passed over: to be counted, and to see where the saving
// is.
const passes = 2

// Analyse counts an estimate from records. places are the names of the volume's
// places, and servers those of their servers.
func Analyse(ctx context.Context, records Records, places, servers []string, policy Policy, means Means, now time.Time) (found Found, err error) {
	a := &analysis{ctx: ctx, records: records, places: places, servers: servers}
	if err := a.begin(means, passes); err != nil {
		return Found{}, err
	}
	if means.Scratch == nil {
		a.estimator, err = NewEstimator(policy, means.Budget, now)
	} else if err = CheckBudget(means.Budget); err == nil {
		exact := newSpill(means.Budget, means.Scratch)
		defer func() { err = cmp.Or(err, exact.close()) }()
		a.estimator, err = newEstimator(policy, exact, now)
	}
	if err != nil {
		return Found{}, err
	}
	return a.found()
}

// found counts what is found.
func (a *analysis) found() (Found, error) {
	e := a.estimator
	// What went wrong with the files of a spill ends the pass: there may be hours of it left.
	checked := func(do func(*File)) func(*File) error {
		return func(f *File) error {
			do(f)
			return e.marks.failed()
		}
	}
	if err := a.each(checked(e.Count)); err != nil {
		return Found{}, err
	}
	if err := e.Settle(); err != nil {
		return Found{}, err
	}
	if err := a.each(checked(e.Share)); err != nil {
		return Found{}, err
	}
	r := Found{Totals: e.Totals(), Curve: e.Curve(), Where: e.Breakdown(), Until: e.Until()}
	whole := e.NewWholeFiles()
	err := a.records.Equals(a.ctx, func(rec Record) error { whole.Add(a.file(&rec)); return nil })
	r.WholeFiles, r.Twins = whole.Result()
	r.Suggested = Suggest(r.Where.Types)
	return r, err
}

// Pooled tells what volumes would take alone, and together.
type Pooled struct {
	Alone    []Kept   `json:"alone" doc:"Each volume by itself"`
	Together Kept     `json:"together" doc:"All of them on one volume"`
	Gain     int64    `json:"gain" doc:"What keeping them together spares, beside what each saves alone"`
	Shares   []Kept   `json:"shares" doc:"Each share by itself"`
	Common   []Common `json:"common" doc:"Shares that have most in common: they should live together"`
}

// Member is a volume of a pool.
type Member struct {
	Name            string
	Records         Records
	Places, Servers []string
}

// PoolVolumes counts what volumes have in common. They must have been read with one profile.
func PoolVolumes(ctx context.Context, members []Member, policy Policy, means Means, now time.Time) (r Pooled, err error) {
	var names []string
	for _, m := range members {
		names = append(names, m.Places...)
	}
	pool, err := NewPool(policy, len(names), means, now)
	if err != nil {
		return r, err
	}
	defer func() { err = cmp.Or(err, pool.Close()) }()
	if err := countPool(ctx, pool, members, means); err != nil {
		return r, err
	}
	if err := pool.sum(); err != nil {
		return r, err
	}
	r = Pooled{Alone: []Kept{}, Shares: []Kept{}}
	var all []int
	for _, m := range members {
		first := len(all)
		for range m.Places {
			all = append(all, len(all))
		}
		r.Alone = append(r.Alone, pool.keep(m.Name, all[first:]...))
	}
	for i, name := range names {
		r.Shares = append(r.Shares, pool.keep(name, i))
	}
	r.Together = pool.keep("together", all...)
	r.Gain = -r.Together.Stored.Bytes
	for _, k := range r.Alone {
		r.Gain += k.Stored.Bytes
	}
	r.Common = pool.commons(names)
	return r, nil
}

// countPool counts the files of all members; their places are the groups of the pool.
func countPool(ctx context.Context, pool *Pool, members []Member, means Means) error {
	var done, all int64
	for _, m := range members {
		files, err := m.Records.Files(ctx)
		if err != nil {
			return err
		}
		all += files
	}
	group := 0
	for _, m := range members {
		a := &analysis{ctx: ctx, records: m.Records, places: m.Places, servers: m.Servers, done: done, all: all, passed: means.Passed}
		if err := a.findLinks(); err != nil {
			return err
		}
		if err := a.each(func(f *File) error { return pool.Count(group+f.place, f) }); err != nil {
			return err
		}
		done, group = a.done, group+len(m.Places)
	}
	return nil
}

type analysis struct {
	ctx       context.Context
	records   Records
	places    []string
	servers   []string
	estimator *Estimator
	done, all int64 // files passed over
	passed    func(done, all int64)
	first     map[link]string // of files with several names: the one that is counted
}

// link is what a file with several names is known by: its number is unique on its
// volume alone, and a server may have several of these.
type link struct {
	server   string
	id       uint64
	size     int64
	modified int64
}

func (a *analysis) linkOf(r *Record) link {
	return link{a.servers[r.Place], r.ID, r.Size, r.Modified.UnixNano()}
}

func (a *analysis) path(r *Record) string { return a.places[r.Place] + "/" + r.Path }

func (a *analysis) findLinks() error {
	list, err := a.records.Doubles(a.ctx)
	times := map[link]int{}
	for i := range list {
		times[a.linkOf(&list[i])]++
	}
	a.first = map[link]string{}
	for i := range list {
		l, at := a.linkOf(&list[i]), a.path(&list[i])
		if first, ok := a.first[l]; times[l] > 1 && (!ok || at < first) {
			a.first[l] = at
		}
	}
	return err
}

func (a *analysis) file(r *Record) *File {
	f := &File{place: r.Place, Path: a.path(r), Inside: r.Path, Size: r.Size, Allocated: r.Allocated, Modified: r.Modified, Owner: r.Owner, Unread: r.Unread, Summary: r.Summary}
	if first, ok := a.first[a.linkOf(r)]; ok && first != f.Path {
		f.Link = true
	}
	return f
}

// tellEvery is how many files are passed over before that is told.
const tellEvery = 512

// begin finds out what must be known before files are counted.
func (a *analysis) begin(means Means, passes int64) error {
	a.passed = means.Passed
	if a.passed != nil {
		files, err := a.records.Files(a.ctx)
		if err != nil {
			return err
		}
		a.all = passes * files
	}
	return a.findLinks()
}

func (a *analysis) pass() {
	if a.done++; a.passed != nil && a.done%tellEvery == 0 {
		a.passed(min(a.done, a.all), a.all)
	}
}

func (a *analysis) each(do func(*File) error) error {
	return a.records.Each(a.ctx, func(r Record) error {
		a.pass()
		return do(a.file(&r))
	})
}
