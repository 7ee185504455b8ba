// Package estimate looks through a volume for the deduplication estimator: it lists
// the places that make up the volume, reads the files that are new or have changed,
// and keeps what package core/dedup makes of each in a [Store]. From there the
// estimate is counted, under any policy, without the volume being read again.
//
// It never writes to the volume. What was read is kept while it goes on, so that
// work that stopped at any moment goes on from there; files that somebody holds open
// are tried again, and told of when that does not help.
package estimate

import (
	"context"
	"encoding/binary"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/dedup"
	"bridgespan/guard"
	"bridgespan/tree"
)

// Place is a share of the volume, or a folder of one. Several are parts of one volume.
type Place struct {
	Server string
	Name   string // that people know it by, such as fern/herbarium
	Tree   tree.Tree
}

// same reports whether a file is as it was when it was read.
func same(r *dedup.Record, e tree.Entry) bool {
	if r.Folder || e.Kind == tree.Folder {
		return r.Folder && e.Kind == tree.Folder
	}
	return r.Size == e.Size && r.Modified.Equal(e.Modified) && (r.ID == 0 || e.ID == 0 || r.ID == e.ID)
}

// Store keeps the records of a volume. Its methods may be called from several
// goroutines.
type Store interface {
	// Children lists what is known right in a folder, without summaries.
	Children(ctx context.Context, place int, folder string) ([]dedup.Record, error)
	// Sum is the sum of the listing with which what is right in a folder agrees; zero
	// when there is none, or something in it is unread.
	Sum(ctx context.Context, place int, folder string) ([16]byte, error)
	// KeepSum keeps that.
	KeepSum(ctx context.Context, place int, folder string, sum [16]byte) error
	// Save keeps records, in place of those with their paths.
	Save(ctx context.Context, records []dedup.Record) error
	// Forget drops what is right in a folder under some names, with all below.
	Forget(ctx context.Context, place int, folder string, names []string) error
	// Unread lists files whose content is not known, in an order of its own, after
	// the last of those that were listed before; nil for the first.
	Unread(ctx context.Context, after *dedup.Record, limit int) ([]dedup.Record, error)
}

// Progress is how far the work is.
type Progress struct {
	Found, FoundBytes int64 // files that were listed
	ToRead            int64 // bytes of those that are to be read
	Files, Bytes      int64 // that were read
	Saved             int64 // bytes of what was read that was there already, about
	Trouble           int64 // that could not be read
	Unlisted          int64 // folders that could not be listed
}

// Work looks through a volume.
type Work struct {
	Places      []Place
	Store       Store
	Profile     dedup.Profile
	Compression dedup.Compression
	// Budget bounds the memory that prints are counted in, in bytes.
	Budget int64
	// Whole keeps all that was read of each file, though it does not fit into that.
	Whole bool
	// Readers is how many files are read side by side; 0 is one.
	Readers int
	// Wants reports whether a file is to be read; nil wants all.
	Wants func(r *dedup.Record) bool
	// Admit waits until another folder may be listed, or another file read; nil never
	// does.
	Admit func(ctx context.Context) error
	// Pace waits until so many bytes may be read; nil never does.
	Pace func(ctx context.Context, bytes int) error
	// Tries is how often a file in use is tried, and Pause how long between. Waits is
	// told of how many files are waited for, and 0 when it goes on; nil is not.
	Tries int
	Pause time.Duration
	Waits func(files int64)

	progress struct{ found, foundBytes, toRead, files, bytes, saved, trouble, unlisted atomic.Int64 }
	mu       sync.Mutex // of what follows
	table    *dedup.Table
	troubles []string
}

// Progress tells how far the work is.
func (w *Work) Progress() Progress {
	p := &w.progress
	return Progress{p.found.Load(), p.foundBytes.Load(), p.toRead.Load(), p.files.Load(), p.bytes.Load(), p.saved.Load(), p.trouble.Load(), p.unlisted.Load()}
}

// mostTroubles is of how many troubles the paths are told.
const mostTroubles = 50

// Troubles are some of the paths that could not be listed or read, and why.
func (w *Work) Troubles() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]string{}, w.troubles...)
}

func (w *Work) trouble(r *dedup.Record, why string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.troubles) < mostTroubles {
		w.troubles = append(w.troubles, w.Places[r.Place].Name+"/"+r.Path+": "+why)
	}
}

// ownFolder is where Bridge Span keeps what is on its way and what was replaced: it
// is no content of the volume.
const ownFolder = ".bspan"

// listers is how many folders are listed side by side.
const listers = 4

// Look lists the volume and finds what is new, changed or gone. It returns an error
// when a place cannot be listed at all; a folder that cannot be is told of, and what
// is known of it stays.
func (w *Work) Look(ctx context.Context) error {
	group, run := guard.WithContext(ctx)
	group.SetLimit(listers)
	for place := range w.Places {
		if err := w.folder(run, group, place, "."); err != nil {
			return errors.Join(err, group.Wait())
		}
	}
	return group.Wait()
}

// folder looks at one folder, and goes on below.
func (w *Work) folder(ctx context.Context, group *guard.Group, place int, folder string) error {
	if err := w.admit(ctx); err != nil {
		return err
	}
	listed, err := w.list(ctx, place, folder)
	switch {
	case err != nil && (folder == "." || ctx.Err() != nil || errors.Is(err, tree.ErrUnreachable)):
		return err
	case err != nil && errors.Is(err, fs.ErrNotExist):
		return nil // the next look finds it gone
	case err != nil:
		w.progress.unlisted.Add(1)
		w.trouble(&dedup.Record{Place: place, Path: folder}, plainly(err))
		return nil
	}
	sum := sumOf(listed)
	before, err := w.Store.Sum(ctx, place, folder)
	if err != nil {
		return err
	}
	if before != sum {
		if err := w.compare(ctx, place, folder, listed); err != nil {
			return err
		}
		if err := w.Store.KeepSum(ctx, place, folder, sum); err != nil {
			return err
		}
	} else {
		for _, e := range listed {
			if e.Kind == tree.File {
				w.found(&dedup.Record{Place: place, Path: inside(folder, e.Name), Size: e.Size, Modified: e.Modified})
			}
		}
	}
	for _, e := range listed {
		if e.Kind != tree.Folder {
			continue
		}
		below := inside(folder, e.Name)
		if !group.TryGo(func() error { return w.folder(ctx, group, place, below) }) {
			if err := w.folder(ctx, group, place, below); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *Work) admit(ctx context.Context) error {
	if w.Admit == nil {
		return nil
	}
	return w.Admit(ctx)
}

// list lists the files and folders right in a folder.
func (w *Work) list(ctx context.Context, place int, folder string) (listed []tree.Entry, err error) {
	for e, err := range w.Places[place].Tree.List(ctx, folder, tree.Plain) {
		if err != nil && e.Name == "" {
			return nil, err
		}
		if (e.Kind == tree.File || e.Kind == tree.Folder) && (folder != "." || e.Name != ownFolder) {
			listed = append(listed, e)
		}
	}
	slices.SortFunc(listed, func(a, b tree.Entry) int { return strings.Compare(a.Name, b.Name) })
	return listed, nil
}

// sumOf is a sum of what a listing tells, that is another for another listing.
func sumOf(listed []tree.Entry) (sum [16]byte) {
	h := blake3.New()
	var b []byte
	for i := range listed {
		e := &listed[i]
		b = binary.AppendUvarint(b[:0], uint64(len(e.Name)))
		b = append(b, e.Name...)
		b = append(b, byte(e.Kind))
		if e.Kind == tree.File {
			b = binary.AppendVarint(b, e.Size)
			b = binary.AppendVarint(b, e.Modified.UnixNano())
			b = binary.AppendUvarint(b, e.ID)
		}
		_, _ = h.Write(b)
	}
	var whole [32]byte
	copy(sum[:], h.Sum(whole[:0]))
	return sum
}

func inside(folder, name string) string {
	if folder == "." {
		return name
	}
	return folder + "/" + name
}

// compare keeps what is not as it was.
func (w *Work) compare(ctx context.Context, place int, folder string, listed []tree.Entry) error {
	known, err := w.Store.Children(ctx, place, folder)
	if err != nil {
		return err
	}
	were := make(map[string]*dedup.Record, len(known))
	for i := range known {
		were[known[i].Path] = &known[i]
	}
	var changed []dedup.Record
	for _, e := range listed {
		at := inside(folder, e.Name)
		was := were[at]
		delete(were, at)
		rec := dedup.Record{Place: place, Path: at, Size: e.Size, Allocated: e.Allocated, Modified: e.Modified, ID: e.ID, Unread: dedup.NotYet}
		if e.Residency == tree.Stub {
			rec.Unread = dedup.StubOnly
		}
		if e.Kind == tree.Folder {
			rec = dedup.Record{Place: place, Path: at, Folder: true}
		}
		filled := was != nil && was.Unread == dedup.StubOnly && e.Residency == tree.Whole
		if was != nil && same(was, e) && !filled {
			rec = *was
		} else {
			if was != nil && was.Folder != rec.Folder { // what was below goes
				if err := w.Store.Forget(ctx, place, folder, []string{e.Name}); err != nil {
					return err
				}
			}
			changed = append(changed, rec)
		}
		if !rec.Folder {
			w.found(&rec)
		}
	}
	var gone []string
	for at := range were {
		gone = append(gone, at[strings.LastIndexByte(at, '/')+1:])
	}
	if len(gone) > 0 {
		if err := w.Store.Forget(ctx, place, folder, gone); err != nil {
			return err
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return w.Store.Save(ctx, changed)
}

// found counts a file that was listed.
func (w *Work) found(r *dedup.Record) {
	w.progress.found.Add(1)
	w.progress.foundBytes.Add(r.Size)
	if wanted := w.wants(r); wanted && r.Unread != "" {
		w.progress.toRead.Add(r.Size)
	}
}

func (w *Work) wants(r *dedup.Record) bool { return r.Size > 0 && (w.Wants == nil || w.Wants(r)) }

// plainly is an error without the path that it happened at, in few words.
func plainly(err error) string {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "no permission to read"
	case errors.Is(err, tree.ErrInUse):
		return "in use"
	case errors.Is(err, tree.ErrStub):
		return dedup.StubOnly
	}
	var at *fs.PathError
	if errors.As(err, &at) {
		err = at.Err
	}
	text := err.Error()
	return text[:min(len(text), 150)]
}
