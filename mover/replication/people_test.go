package replication

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"strings"
	"time"

	"bridgespan/core/acl"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

var (
	folders = []string{".", "a", "b", "a/deep", "B/Sub"}
	files   = []string{"one", "two", "Three", "x"}
)

// usual are the permissions of what nobody gave others.
var usual = func() acl.Descriptor {
	d, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;S-1-5-21-1-2-3-999)")
	if err != nil {
		panic(err)
	}
	return d
}()

// work is one thing that people do at a replica. What does not go is not done.
func (w *world) work() {
	w.tick()
	w.people = true
	defer func() { w.people = false }()
	i := w.random.IntN(len(w.trees))
	t, ctx := w.trees[i], context.Background()
	defer w.watch(i)()
	if w.deep {
		w.roam(i)
		w.serve(t)
		return
	}
	folder := folders[w.random.IntN(len(folders))]
	name := path.Join(folder, files[w.random.IntN(len(files))])
	if !fits(t, name) || !fits(t, path.Dir(name)) {
		return
	}
	var err error
	var did string
	switch w.random.IntN(11) {
	case 0, 1, 2, 3:
		_ = tree.MkdirAll(ctx, t, folder)
		w.write(i, name)
	case 4:
		w.drops(t, name)
		err = t.Remove(ctx, name)
		did = "removes " + name
	case 5:
		if folder != "." {
			for e := range tree.Walk(ctx, t, folder, tree.Plain) {
				w.drops(t, e.Path)
			}
			err = tree.RemoveAll(ctx, t, folder)
			did = "removes " + folder + " with all"
		}
	case 6:
		to := path.Join(folders[w.random.IntN(len(folders))], files[w.random.IntN(len(files))])
		if !fits(t, to) {
			return
		}
		if keyOf(to) != keyOf(name) {
			w.drops(t, to)
		}
		err = t.Rename(ctx, name, to, true)
		did = fmt.Sprintf("renames %s to %s", name, to)
	case 7:
		to := folders[w.random.IntN(len(folders))]
		if fits(t, to) && folder != "." && to != "." && !strings.HasPrefix(strings.ToLower(to)+"/", strings.ToLower(folder)+"/") {
			err = t.Rename(ctx, folder, to, false)
			did = fmt.Sprintf("renames %s to %s", folder, to)
		}
	case 8:
		if w.busy || t.Objects { // seen only between two steps of the engine; clients of an object store set none
			return
		}
		d, bad := acl.Parse(fmt.Sprintf("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;S-1-5-21-1-2-3-%d)", 1000+w.random.IntN(4)))
		if bad != nil {
			panic(bad)
		}
		err = t.Apply(ctx, name, tree.Meta{Descriptor: d})
		did = "permits " + name
	case 9:
		err = t.Mkdir(ctx, folder)
		did = "makes " + folder
	case 10:
		to := path.Join(folders[w.random.IntN(len(folders))], files[w.random.IntN(len(files))])
		if !fits(t, to) || !fits(t, path.Dir(to)) || keyOf(to) == keyOf(name) {
			return
		}
		var text []byte
		if text, err = tree.ReadFile(ctx, t, name); err != nil {
			return
		}
		var was tree.Entry
		if was, err = t.Stat(ctx, name); err == nil {
			w.drops(t, to)
			_, err = t.Put(ctx, to, strings.NewReader(string(text)), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: was.Modified}})
		}
		if w.dropped[string(text)] && err == nil { // it is there again
			w.dropped[string(text)] = false
		}
		did = fmt.Sprintf("copies %s to %s", name, to)
	}
	w.serve(t)
	if did != "" && err == nil {
		w.log("%v %s %s", w.clock.Format(time.TimeOnly), w.replicas[i].Name, did)
	}
}

// serve does what a file server does: it gives what was made the usual permissions.
func (w *world) serve(t *memory.Tree) {
	for e := range tree.Walk(context.Background(), t, ".", tree.WithDescriptors) {
		if !own(e.Path) && e.Descriptor.IsZero() {
			if err := t.Apply(context.Background(), e.Path, tree.Meta{Descriptor: usual, Modified: e.Modified}); err != nil {
				panic(err)
			}
		}
	}
}

// mostDeep is how many folders people make in each other.
const mostDeep = 5

// roam is one thing that people do in a tree of folders: they write, overwrite, rename
// and remove files and folders, and move them into each other.
func (w *world) roam(i int) {
	t, ctx := w.trees[i], context.Background()
	var files []string
	folders := []string{"."}
	for e := range tree.Walk(ctx, t, ".", tree.Plain) {
		switch {
		case own(e.Path):
		case e.Kind == tree.Folder:
			folders = append(folders, e.Path)
		default:
			files = append(files, e.Path)
		}
	}
	drawn := func(list []string) string { return list[w.random.IntN(len(list))] }
	below := func(folder, ending string) string {
		return path.Join(folder, fmt.Sprintf("n%d%s", w.random.IntN(12), ending))
	}
	done := func(err error, format string, args ...any) {
		if err == nil {
			w.log("%v %s %s", w.clock.Format(time.TimeOnly), w.replicas[i].Name, fmt.Sprintf(format, args...))
		}
	}
	switch n := w.random.IntN(100); {
	case n < 30 || len(files) == 0:
		w.write(i, below(drawn(folders), ".txt"))
	case n < 50:
		if folder := drawn(folders); strings.Count(folder, "/") < mostDeep-1 {
			name := below(folder, "")
			done(t.Mkdir(ctx, name), "makes %s", name)
		}
	case n < 60:
		w.write(i, drawn(files))
	case n < 66:
		from, to := drawn(files), below(drawn(folders), ".txt")
		done(t.Rename(ctx, from, to, false), "renames %s to %s", from, to)
	case n < 86 && len(folders) > 1:
		from, to := drawn(folders[1:]), below(drawn(folders), "")
		done(t.Rename(ctx, from, to, false), "renames %s to %s", from, to)
	case n < 94:
		name := drawn(files)
		w.drops(t, name)
		done(t.Remove(ctx, name), "removes %s", name)
	case len(folders) > 1:
		folder := drawn(folders[1:])
		for e := range tree.Walk(ctx, t, folder, tree.Plain) {
			w.drops(t, e.Path)
		}
		done(tree.RemoveAll(ctx, t, folder), "removes %s with all", folder)
	}
}

// fits reports whether nobody would be confused by a name: that it is not
// there already in other case.
func fits(t *memory.Tree, name string) bool {
	for ; name != "."; name = path.Dir(name) {
		for e, err := range t.List(context.Background(), path.Dir(name), tree.Plain) {
			if err == nil && e.Name != path.Base(name) && keyOf(e.Name) == keyOf(path.Base(name)) {
				return false
			}
		}
	}
	return true
}

// watch looks at a replica, and returns what notes all that people changed there
// since.
func (w *world) watch(i int) (note func()) {
	look := func() map[string]string {
		shown := map[string]string{}
		for e := range tree.Walk(context.Background(), w.trees[i], ".", tree.WithDescriptors) {
			shown[keyOf(e.Path)] = fmt.Sprint(e.ID, e.Name, e.Modified, e.Descriptor)
		}
		return shown
	}
	before := look()
	return func() {
		after := look()
		maps.DeleteFunc(after, func(key, now string) bool {
			was, ok := before[key]
			delete(before, key)
			return ok && was == now
		})
		for _, changed := range []map[string]string{before, after} {
			for key := range changed {
				w.worked[i][key] = true
			}
		}
	}
}

// meddle lets people write just where the engine is at work.
func (w *world) meddle(i int) {
	name, ok := w.touchedLast[i]
	if !ok || w.random.IntN(2) == 0 {
		w.work()
		return
	}
	w.tick()
	w.people = true
	defer func() { w.people = false }()
	if e, err := w.trees[i].Stat(context.Background(), name); err != nil || e.Kind != tree.File {
		return
	}
	w.write(i, name)
}

// write lets people write a file.
func (w *world) write(i int, name string) {
	t, ctx := w.trees[i], context.Background()
	w.content++
	own := fmt.Sprintf("content %d", w.content)
	at := w.random.IntN(len(w.filler) + 1)
	text := w.filler[:at] + own + w.filler[at:]
	w.drops(t, name)
	if _, err := t.Put(ctx, name, strings.NewReader(text), tree.PutOptions{Replace: true}); err != nil {
		return
	}
	w.dropped[text] = false
	w.worked[i][keyOf(name)] = true
	// What is written just while the engine renames it is there under the new name.
	for _, r := range w.replicas {
		for key, rec := range w.database.all(r.ID) {
			w.worked[i][key] = w.worked[i][key] || w.busy && rec.Moved == keyOf(name)
		}
	}
	w.log("%v %s writes %s: %s", w.clock.Format(time.TimeOnly), w.replicas[i].Name, name, own)
}

// drops notes that people do away with what is at a name.
func (w *world) drops(t *memory.Tree, name string) {
	if e, err := t.Stat(context.Background(), name); err != nil || e.Kind == tree.Folder {
		return
	}
	text, err := tree.ReadFile(context.Background(), t, name)
	if errors.Is(err, tree.ErrNoContent) {
		return
	}
	if err != nil {
		panic(err)
	}
	w.dropped[string(text)] = true
}
