// Package front keeps fronts at the host of a file service: folders, and links that the file
// service shows to its clients as referrals. What a front is to hold comes from the service; what it
// made, and it alone, the keeper takes away again.
package front

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/tree"
)

// Keeper keeps the fronts below one folder of this host, each in a folder with its share's name.
type Keeper struct {
	Folder  string  // below which the fronts are
	State   string  // folder in which it notes what it made
	Service Service // the file service beside it

	started string // another word after each start

	mu    sync.Mutex // held while a front is changed
	notes map[string]*notes

	configuring sync.Mutex // held while the configuration is changed: its tools take seconds
}

// errNoFronts: the mover keeps no fronts.
var errNoFronts = fmt.Errorf("this mover keeps no fronts: start it with --fronts FOLDER and --file-service CONFIGURATION: %w", tree.ErrUnsupported)

// Open makes a keeper ready.
func Open(folder, state, configuration string) (*Keeper, error) {
	full, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(full, 0o755); err != nil {
		return nil, err
	}
	if err := os.Chmod(full, 0o755); err != nil { // past the mask: people walk through it
		return nil, err
	}
	if _, err := os.Stat(configuration); err != nil {
		return nil, fmt.Errorf("the configuration of the file service: %w", err)
	}
	return &Keeper{Folder: full, State: state, Service: Service{configuration}, started: rand.Text()}, nil
}

// Path is the folder of a front on this host.
func (k *Keeper) Path(share string) string { return filepath.Join(k.Folder, share) }

// Found is what stands in the folder of a front.
type Found struct {
	Entries []front.Entry `json:"entries"`
	// Foreign are names that were not made by a keeper, the first of them; they are left alone.
	Foreign []string `json:"foreign,omitempty"`
	There   bool     `json:"there"` // whether the folder is there at all

	around map[string]bool // folders of ours in which something foreign is
}

// mostForeign is how many foreign names are told.
const mostForeign = 20

// Look reads what stands in the folder of a front.
func (k *Keeper) Look(ctx context.Context, share string) (found Found, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	found.Entries, found.around = []front.Entry{}, map[string]bool{}
	root, err := os.OpenRoot(k.Path(share))
	if errors.Is(err, fs.ErrNotExist) {
		return found, nil
	}
	if err != nil {
		return found, err
	}
	defer root.Close()
	made, err := k.made(share)
	if err != nil {
		return found, err
	}
	found.There = true
	err = look(ctx, root, ".", made, &found)
	return found, err
}

// look reads one folder, and those of ours in it.
func look(ctx context.Context, root *os.Root, folder string, made *notes, found *Found) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	f, err := root.Open(folder)
	if err != nil {
		return err
	}
	list, err := f.ReadDir(-1)
	f.Close()
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	for _, d := range list {
		at := path.Join(folder, d.Name())
		if strings.HasPrefix(d.Name(), besides) && d.Type()&fs.ModeSymlink != 0 { // of a writing that was broken off
			_ = root.Remove(at)
			continue
		}
		e, ours := front.Entry{Path: at}, made.has(at)
		if ours && d.Type()&fs.ModeSymlink != 0 {
			text, err := root.Readlink(at)
			if err != nil {
				return err
			}
			e.To, ours = readLink(text)
		} else if ours {
			ours = d.IsDir()
		}
		if !ours {
			found.foreign(at)
			continue
		}
		found.Entries = append(found.Entries, e)
		if d.IsDir() {
			if err := look(ctx, root, at, made, found); err != nil {
				return err
			}
		}
	}
	return nil
}

// foreign notes a name that is not ours.
func (f *Found) foreign(at string) {
	if len(f.Foreign) < mostForeign {
		f.Foreign = append(f.Foreign, at)
	}
	for at = path.Dir(at); at != "." && !f.around[at]; at = path.Dir(at) {
		f.around[at] = true
	}
}

// Outcome is a change that could not be done.
type Outcome struct {
	Path    string `json:"path"`
	Trouble string `json:"trouble"`
}

// besides begins the name of a link that is being written.
const besides = ".bspan-front-"

// Write does changes of a front in their order, each as a whole or not at all, and tells which could
// not be done. What it is about to make is noted first, so that it is known for ours whenever the
// writing is broken off. An error is of all of them.
func (k *Keeper) Write(ctx context.Context, share string, changes []front.Change) (failed []Outcome, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	root, err := os.OpenRoot(k.Path(share))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	made, err := k.made(share)
	if err != nil {
		return nil, err
	}
	in := &folders{top: root}
	defer in.close()
	if err := noteNew(in, made, changes); err != nil {
		return nil, err
	}
	var gone []string
	defer func() { err = errors.Join(err, made.remove(gone)) }()
	for i, c := range changes {
		if err := ctx.Err(); err != nil {
			return failed, err
		}
		err := change(in, made, c, i)
		switch {
		case err != nil:
			failed = append(failed, Outcome{c.Path, plain(err)})
		case c.Gone:
			gone = append(gone, c.Path)
		}
	}
	return failed, nil
}

// folders opens the folder of each path once for all that follow in it: changes come folder by folder.
type folders struct {
	top  *os.Root
	at   string
	root *os.Root
}

// of is the folder of a path, and the path's name in it.
func (f *folders) of(p string) (*os.Root, string, error) {
	folder, name := path.Dir(p), path.Base(p)
	if folder == "." {
		return f.top, name, nil
	}
	if f.root == nil || f.at != folder {
		f.close()
		root, err := f.top.OpenRoot(folder)
		if err != nil {
			return nil, "", err
		}
		f.at, f.root = folder, root
	}
	return f.root, name, nil
}

func (f *folders) close() {
	if f.root != nil {
		f.root.Close()
		f.root = nil
	}
}

// noteNew notes what is about to be made where nothing stands: what stands there and is not ours
// stays foreign.
func noteNew(in *folders, made *notes, changes []front.Change) error {
	var fresh []string
	fold := map[string]bool{} // that are about to be made
	for _, c := range changes {
		if c.Gone || made.has(c.Path) {
			continue
		}
		stands := fs.ErrNotExist
		if !fold[path.Dir(c.Path)] {
			root, name, err := in.of(c.Path)
			if err == nil {
				_, err = root.Lstat(name)
			}
			stands = err
		}
		if errors.Is(stands, fs.ErrNotExist) {
			fresh = append(fresh, c.Path)
			fold[c.Path] = !c.Link()
		}
	}
	return made.add(fresh)
}

// errForeign: something stands there that the keeper did not make.
var errForeign = errors.New("something stands there that was not made by Bridge Span, and is left alone")

func change(in *folders, made *notes, c front.Change, number int) error {
	root, name, err := in.of(c.Path)
	if err == nil && !made.has(c.Path) {
		if _, err = root.Lstat(name); err == nil {
			return errForeign
		}
	}
	switch {
	case c.Gone && errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	case !made.has(c.Path):
		return errForeign
	case c.Gone:
		in.close() // it may be what is removed
		return remove(in.top, c.Path)
	case c.Link():
		return writeLink(root, name, linkText(c.To), number)
	}
	return makeFolder(root, name)
}

func makeFolder(root *os.Root, at string) error {
	err := root.Mkdir(at, 0o755)
	if errors.Is(err, fs.ErrExist) {
		if d, statErr := root.Lstat(at); statErr == nil && d.IsDir() {
			return nil
		}
		return errForeign
	}
	if err != nil {
		return err
	}
	return root.Chmod(at, 0o755) // past the mask: people walk through it
}

// writeLink writes a link. One that is there is replaced by one that was written beside it, with one
// rename.
func writeLink(root *os.Root, name, text string, number int) error {
	err := root.Symlink(text, name)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if d, err := root.Lstat(name); err != nil || d.Mode()&fs.ModeSymlink == 0 {
		return cmp.Or(err, errForeign)
	}
	beside := fmt.Sprint(besides, number)
	_ = root.Remove(beside)
	if err := root.Symlink(text, beside); err != nil {
		return err
	}
	if err := root.Rename(beside, name); err != nil {
		return errors.Join(err, root.Remove(beside))
	}
	return nil
}

// remove removes a link or an empty folder of ours.
func remove(root *os.Root, at string) error {
	d, err := root.Lstat(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if d.Mode()&fs.ModeSymlink != 0 {
		text, err := root.Readlink(at)
		if err != nil {
			return err
		}
		if _, ours := readLink(text); !ours {
			return errForeign
		}
	} else if !d.IsDir() {
		return errForeign
	}
	return root.Remove(at)
}

func plain(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	var l *os.LinkError
	if errors.As(err, &l) {
		return l.Err.Error()
	}
	return err.Error()
}

// Make makes the folder of a front; one that is there must be empty, or a front's.
func (k *Keeper) Make(ctx context.Context, share string) error {
	found, err := k.Look(ctx, share)
	if err != nil {
		return err
	}
	if len(found.Foreign) > 0 {
		return fmt.Errorf("%w: in %s is %s", fs.ErrExist, k.Path(share), found.Foreign[0])
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if err := os.MkdirAll(k.Path(share), 0o755); err != nil {
		return err
	}
	return os.Chmod(k.Path(share), 0o755)
}

// Clear takes away all that was made of a front. Folders in which something foreign is stay with it, and
// are not ours any more.
func (k *Keeper) Clear(ctx context.Context, share string) ([]Outcome, error) {
	found, err := k.Look(ctx, share)
	if err != nil {
		return nil, err
	}
	if !found.There { // somebody has removed it: what is noted would make others' links ours one day
		return nil, k.forget(share)
	}
	gone := slices.DeleteFunc(front.Changes(found.Entries, nil), func(c front.Change) bool { return found.around[c.Path] })
	failed, err := k.Write(ctx, share, gone)
	if err != nil || len(failed) > 0 {
		return failed, err
	}
	if err := os.Remove(k.Path(share)); err != nil && len(found.Foreign) == 0 {
		return nil, err
	}
	return nil, k.forget(share)
}

// CheckShare checks the name of a front's share: it is a folder of the host, and a section of the
// file service's configuration.
func CheckShare(name string) error {
	if err := namespace.CheckElement("share", name); err != nil {
		return err
	}
	if len(name) > 80 || strings.ContainsAny(name, "[]%;=+,$") || strings.HasPrefix(name, ".") || strings.EqualFold(name, "global") || strings.EqualFold(name, "homes") || strings.EqualFold(name, "printers") || strings.EqualFold(name, "ipc") {
		return fmt.Errorf("%q cannot be the name of a share", name)
	}
	return nil
}

// CheckChanges checks what came from elsewhere.
func CheckChanges(changes []front.Change) error {
	for _, c := range changes {
		if c.Path == "" || namespace.CheckPath("path", c.Path) != nil {
			return fmt.Errorf("%w: %q cannot be a path of a front", fs.ErrInvalid, c.Path)
		}
		if len(c.To) > front.MostPlaces {
			return fmt.Errorf("%w: %d places for %q", fs.ErrInvalid, len(c.To), c.Path)
		}
		for _, place := range c.To {
			if err := front.CheckPlace(place); err != nil {
				return fmt.Errorf("%w: %w", fs.ErrInvalid, err)
			}
		}
		if len(linkText(c.To)) > mostLink {
			return fmt.Errorf("%w: the places for %q are %d bytes together, a link holds %d", fs.ErrInvalid, c.Path, len(linkText(c.To)), mostLink)
		}
	}
	return nil
}
