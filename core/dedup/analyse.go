package dedup

import (
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
	// ByAge calls each with every file, the oldest first, of those last changed
	// after from and not after to; zero times are no bound.
	ByAge(ctx context.Context, from, to time.Time, each func(Record) error) error
	// ByDigest calls each with every file that was read, without its marks, in the
	// order of their digests.
	ByDigest(ctx context.Context, each func(Record) error) error
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
}

// Analyse counts an estimate from records. places are the names of the volume's
// places, and servers those of their servers.
func Analyse(ctx context.Context, records Records, places, servers []string, policy Policy, budget int64, now time.Time) (Found, error) {
	a := &analysis{ctx: ctx, records: records, places: places, servers: servers}
	var err error
	if a.estimator, err = NewEstimator(policy, budget, now); err != nil {
		return Found{}, err
	}
	if err := a.findLinks(); err != nil {
		return Found{}, err
	}
	// The table is to hold what is in policy alone while shares of it are told.
	oldest := now.AddDate(0, 0, -policy.Rules.MinDays)
	if err := a.each(time.Time{}, oldest, a.estimator.Count); err != nil {
		return Found{}, err
	}
	a.estimator.Totals()
	if err := a.each(time.Time{}, oldest, a.estimator.Share); err != nil {
		return Found{}, err
	}
	r := Found{Where: a.estimator.Breakdown()}
	if err := a.each(oldest, time.Time{}, a.estimator.Count); err != nil {
		return Found{}, err
	}
	whole := a.estimator.NewWholeFiles()
	err = records.ByDigest(ctx, func(rec Record) error { whole.Add(a.file(&rec)); return nil })
	if err != nil {
		return Found{}, err
	}
	r.Totals, r.Curve, r.Suggested = a.estimator.Totals(), a.estimator.Curve(), Suggest(r.Where.Types)
	r.WholeFiles, r.Twins = whole.Result()
	return r, nil
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
func PoolVolumes(ctx context.Context, members []Member, policy Policy, budget int64, now time.Time) (Pooled, error) {
	var names []string
	for _, m := range members {
		names = append(names, m.Places...)
	}
	pool, err := NewPool(policy, len(names), budget, now)
	if err != nil {
		return Pooled{}, err
	}
	r := Pooled{Alone: []Kept{}, Shares: []Kept{}}
	var all []int
	for _, m := range members {
		a := &analysis{ctx: ctx, records: m.Records, places: m.Places, servers: m.Servers}
		if err := a.findLinks(); err != nil {
			return Pooled{}, err
		}
		first := len(all)
		err := m.Records.ByAge(ctx, time.Time{}, time.Time{}, func(rec Record) error {
			pool.Count(first+rec.Place, a.file(&rec))
			return nil
		})
		if err != nil {
			return Pooled{}, err
		}
		for range m.Places {
			all = append(all, len(all))
		}
	}
	first := 0
	for _, m := range members {
		r.Alone = append(r.Alone, pool.Keep(m.Name, all[first:first+len(m.Places)]...))
		first += len(m.Places)
	}
	for i, name := range names {
		r.Shares = append(r.Shares, pool.Keep(name, i))
	}
	r.Together = pool.Keep("together", all...)
	r.Gain = -r.Together.Stored.Bytes
	for _, k := range r.Alone {
		r.Gain += k.Stored.Bytes
	}
	r.Common = pool.Commons(names)
	return r, nil
}

type analysis struct {
	ctx       context.Context
	records   Records
	places    []string
	servers   []string
	estimator *Estimator
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
	f := &File{Path: a.path(r), Inside: r.Path, Size: r.Size, Allocated: r.Allocated, Modified: r.Modified, Owner: r.Owner, Unread: r.Unread, Summary: r.Summary}
	if first, ok := a.first[a.linkOf(r)]; ok && first != f.Path {
		f.Link = true
	}
	return f
}

func (a *analysis) each(from, to time.Time, do func(*File)) error {
	return a.records.ByAge(a.ctx, from, to, func(r Record) error {
		do(a.file(&r))
		return nil
	})
}
