// Package survey counts what is in a share: how much, of what kind, how old,
// how large, and which names and paths will be trouble elsewhere.
//
// A [Counter] takes one file or folder at a time in bounded memory. Counters of
// parts can be merged, so that a survey may work on several folders at once,
// stop, and go on from what it had counted. [Counter.Figures] gives what people
// see, and [Compare] what changed between two of them.
package survey

import (
	"cmp"
	"path"
	"slices"
	"strings"
	"time"
)

// Item is a file or folder as it is counted.
type Item struct {
	Path      string // from the top of what is surveyed
	Folder    bool
	Link      bool
	Other     bool
	Size      int64 // bytes
	Allocated int64 // bytes
	Modified  time.Time
}

// Class is a part of the files.
type Class struct {
	Name  string `json:"name"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Named is one file or folder with what makes it remarkable.
type Named struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size" doc:"Bytes of a file; characters of a path, in the list of the longest"`
	Modified time.Time `json:"modified"`
}

// NameTrouble is a kind of name that is trouble elsewhere.
type NameTrouble struct {
	Kind    NameKind `json:"kind"`
	Means   string   `json:"means"`
	Count   int64    `json:"count"`
	Samples []string `json:"samples"`
}

// Figures are the results of a survey.
type Figures struct {
	Files      int64         `json:"files"`
	Folders    int64         `json:"folders"`
	Others     int64         `json:"others" doc:"Links, devices and other things that are neither"`
	Bytes      int64         `json:"bytes" doc:"Logical size of all files"`
	Allocated  int64         `json:"allocatedBytes" doc:"Space that they occupy"`
	Unreadable int64         `json:"unreadable" doc:"Folders that could not be listed"`
	Unseen     int64         `json:"unseen" doc:"Files and folders whose permissions could not be read"`
	Trouble    []string      `json:"trouble" doc:"Some of what could not be read, and why"`
	Types      []Class       `json:"types" doc:"By ending of the name, most bytes first; at most 40 and the rest"`
	Ages       []Class       `json:"ages" doc:"By time since the last change, youngest first"`
	Sizes      []Class       `json:"sizes" doc:"By size of the file, smallest first"`
	Tops       []Class       `json:"tops" doc:"By folder at the top, most bytes first; at most 100 and the rest"`
	Largest    []Named       `json:"largest" doc:"The largest files"`
	Longest    []Named       `json:"longest" doc:"The longest paths"`
	Names      []NameTrouble `json:"names" doc:"Names that other systems refuse"`
	Deepest    int           `json:"deepest" doc:"How many folders deep it goes"`
	Recent     []Tally       `json:"recent" doc:"What was last changed on each of the last 90 days, latest first"`
	Now        time.Time     `json:"now" doc:"When it was counted: ages are counted back from here"`
}

// recentDays is for how many days changes are told apart.
const recentDays = 90

// ChangedSince is what was changed after t, as far as the times of the files
// tell: to the day within the last 90, and to the class of age before that.
func (f Figures) ChangedSince(t time.Time) (changed Tally) {
	days := f.Now.Sub(t).Hours() / 24
	for i, day := range f.Recent {
		if float64(i) < days {
			changed.add(day.Files, day.Bytes)
		}
	}
	for i, class := range f.Ages {
		if i > 0 && ages[i-1].days >= recentDays && ages[i-1].days < days {
			changed.add(class.Files, class.Bytes)
		}
	}
	return changed
}

// Bounds of what is remembered.
const (
	mostTypes   = 2000
	shownTypes  = 40
	mostTops    = 2000
	shownTops   = 100
	mostNamed   = 25
	mostSamples = 10
)

// Tally counts files and bytes.
type Tally struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
}

func (t *Tally) add(files, bytes int64) {
	t.Files += files
	t.Bytes += bytes
}

// Counter counts. The zero value is not ready: use NewCounter. Its fields are
// there for it to be kept as JSON while a survey is stopped.
type Counter struct {
	Now         time.Time             `json:"now"`
	Folders     int64                 `json:"folders"`
	Others      int64                 `json:"others"`
	Total       Tally                 `json:"total"`
	Allocated   int64                 `json:"allocated"`
	Unreadable  int64                 `json:"unreadable"`
	Unseen      int64                 `json:"unseen"`
	Trouble     []string              `json:"trouble"`
	Types       map[string]*Tally     `json:"types"`
	Tops        map[string]*Tally     `json:"tops"`
	Ages        []Tally               `json:"ages"`
	Sizes       []Tally               `json:"sizes"`
	Largest     []Named               `json:"largest"`
	Longest     []Named               `json:"longest"`
	NameCounts  map[NameKind]int64    `json:"nameCounts"`
	NameSamples map[NameKind][]string `json:"nameSamples"`
	Deepest     int                   `json:"deepest"`
	Recent      []Tally               `json:"recent"`
}

// ages are the classes of time since the last change, by their upper bound in days.
var ages = []struct {
	name string
	days float64
}{{"today", 1}, {"this week", 7}, {"this month", 30}, {"this quarter", 91}, {"this year", 365}, {"1–3 years", 3 * 365}, {"3–5 years", 5 * 365}, {"5–10 years", 10 * 365}, {"older", 0}}

// sizes are the classes of size, by their upper bound in bytes.
var sizes = []struct {
	name  string
	below int64
}{{"empty", 1}, {"under 4 KiB", 4 << 10}, {"4–64 KiB", 64 << 10}, {"64 KiB–1 MiB", 1 << 20}, {"1–16 MiB", 16 << 20}, {"16–256 MiB", 256 << 20}, {"256 MiB–4 GiB", 4 << 30}, {"larger", 0}}

// NewCounter counts ages back from now.
func NewCounter(now time.Time) *Counter {
	return &Counter{Now: now, Types: map[string]*Tally{}, Tops: map[string]*Tally{}, Ages: make([]Tally, len(ages)), Sizes: make([]Tally, len(sizes)), Recent: make([]Tally, recentDays),
		NameCounts: map[NameKind]int64{}, NameSamples: map[NameKind][]string{}}
}

// Add counts one item.
func (c *Counter) Add(i Item) {
	depth := strings.Count(i.Path, "/") + 1
	c.Deepest = max(c.Deepest, depth)
	for _, kind := range troubles(i.Path) {
		c.NameCounts[kind]++
		c.sample(kind, i.Path)
	}
	c.Longest = keep(c.Longest, Named{i.Path, int64(len([]rune(i.Path))), i.Modified})
	switch {
	case i.Folder:
		c.Folders++
		return
	case i.Link, i.Other:
		c.Others++
		return
	}
	c.Total.add(1, i.Size)
	c.Allocated += i.Allocated
	tally(c.Types, Ending(i.Path), mostTypes).add(1, i.Size)
	top, _, below := strings.Cut(i.Path, "/")
	if !below {
		top = "."
	}
	tally(c.Tops, top, mostTops).add(1, i.Size)
	age := c.Now.Sub(i.Modified)
	c.Ages[ageClass(age)].add(1, i.Size)
	if day := max(0, int(age.Hours()/24)); day < recentDays {
		c.Recent[day].add(1, i.Size)
	}
	c.Sizes[sizeClass(i.Size)].add(1, i.Size)
	c.Largest = keep(c.Largest, Named{i.Path, i.Size, i.Modified})
}

// Failed counts a folder that could not be listed (whole) or an item whose
// permissions could not be read.
func (c *Counter) Failed(whole bool, where string, why error) {
	if whole {
		c.Unreadable++
	} else {
		c.Unseen++
	}
	if len(c.Trouble) < mostSamples {
		c.Trouble = append(c.Trouble, where+": "+why.Error())
	}
}

func (c *Counter) sample(kind NameKind, where string) {
	if len(c.NameSamples[kind]) < mostSamples {
		c.NameSamples[kind] = append(c.NameSamples[kind], where)
	}
}

// rest gathers what is too various to be told apart.
const rest = "…"

func tally(m map[string]*Tally, name string, most int) *Tally {
	t, ok := m[name]
	if !ok {
		if len(m) >= most {
			name = rest
			if t, ok = m[name]; ok {
				return t
			}
		}
		t = &Tally{}
		m[name] = t
	}
	return t
}

// Ending is what a file's type is told by: the last part of its name, in lower case.
func Ending(name string) string {
	ending := strings.ToLower(path.Ext(path.Base(name)))
	if ending == "" || len(ending) > 12 || ending == strings.ToLower(path.Base(name)) || strings.ContainsAny(ending, " ()") {
		return "none"
	}
	return ending
}

func ageClass(age time.Duration) int {
	days := age.Hours() / 24
	for i, class := range ages[:len(ages)-1] {
		if days < class.days {
			return i
		}
	}
	return len(ages) - 1
}

func sizeClass(size int64) int {
	for i, class := range sizes[:len(sizes)-1] {
		if size < class.below {
			return i
		}
	}
	return len(sizes) - 1
}

// keep keeps the items with the largest sizes, largest first; of equal ones
// those that come first by name.
func keep(list []Named, n Named) []Named {
	if len(list) == mostNamed && !larger(n, list[mostNamed-1]) {
		return list
	}
	at, _ := slices.BinarySearchFunc(list, n, func(a, b Named) int {
		if larger(a, b) {
			return -1
		}
		return 1
	})
	list = slices.Insert(list, at, n)
	return list[:min(len(list), mostNamed)]
}

func larger(a, b Named) bool {
	return a.Size > b.Size || a.Size == b.Size && a.Path < b.Path
}

// Merge adds what another counter counted.
func (c *Counter) Merge(o *Counter) {
	c.Folders += o.Folders
	c.Others += o.Others
	c.Total.add(o.Total.Files, o.Total.Bytes)
	c.Allocated += o.Allocated
	c.Unreadable += o.Unreadable
	c.Unseen += o.Unseen
	c.Trouble = append(c.Trouble, o.Trouble[:min(len(o.Trouble), mostSamples-min(mostSamples, len(c.Trouble)))]...)
	for name, t := range o.Types {
		tally(c.Types, name, mostTypes).add(t.Files, t.Bytes)
	}
	for name, t := range o.Tops {
		tally(c.Tops, name, mostTops).add(t.Files, t.Bytes)
	}
	for i, t := range o.Ages {
		c.Ages[i].add(t.Files, t.Bytes)
	}
	for i, t := range o.Sizes {
		c.Sizes[i].add(t.Files, t.Bytes)
	}
	for _, n := range o.Largest {
		c.Largest = keep(c.Largest, n)
	}
	for _, n := range o.Longest {
		c.Longest = keep(c.Longest, n)
	}
	for kind, n := range o.NameCounts {
		c.NameCounts[kind] += n
	}
	for kind, samples := range o.NameSamples {
		for _, s := range samples {
			c.sample(kind, s)
		}
	}
	for i, t := range o.Recent {
		c.Recent[i].add(t.Files, t.Bytes)
	}
	c.Deepest = max(c.Deepest, o.Deepest)
}

// Figures are what was counted so far.
func (c *Counter) Figures() Figures {
	f := Figures{Files: c.Total.Files, Folders: c.Folders, Others: c.Others, Bytes: c.Total.Bytes, Allocated: c.Allocated, Unreadable: c.Unreadable, Unseen: c.Unseen,
		Trouble: append([]string{}, c.Trouble...), Types: classes(c.Types, shownTypes), Tops: classes(c.Tops, shownTops), Largest: append([]Named{}, c.Largest...), Longest: append([]Named{}, c.Longest...), Deepest: c.Deepest, Names: []NameTrouble{},
		Recent: slices.Clone(c.Recent), Now: c.Now}
	for i, t := range c.Ages {
		f.Ages = append(f.Ages, Class{ages[i].name, t.Files, t.Bytes})
	}
	for i, t := range c.Sizes {
		f.Sizes = append(f.Sizes, Class{sizes[i].name, t.Files, t.Bytes})
	}
	for _, k := range nameKinds {
		if n := c.NameCounts[k.kind]; n > 0 {
			f.Names = append(f.Names, NameTrouble{k.kind, k.means, n, c.NameSamples[k.kind]})
		}
	}
	return f
}

// classes orders classes by their bytes and gathers those beyond shown.
func classes(m map[string]*Tally, shown int) []Class {
	list := []Class{}
	for name, t := range m {
		list = append(list, Class{name, t.Files, t.Bytes})
	}
	slices.SortFunc(list, func(a, b Class) int {
		return cmp.Or(boolean(a.Name == rest)-boolean(b.Name == rest), cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(b.Files, a.Files), cmp.Compare(a.Name, b.Name))
	})
	if len(list) <= shown {
		return list
	}
	more := Class{Name: rest}
	for _, c := range list[shown:] {
		more.Files += c.Files
		more.Bytes += c.Bytes
	}
	return append(list[:shown:shown], more)
}

func boolean(b bool) int {
	if b {
		return 1
	}
	return 0
}
