package estimate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"bridgespan/core/dedup"
	"bridgespan/guard"
	"bridgespan/mover/pack"
	"bridgespan/tree"
)

// Bounds of the reading.
const (
	batch      = 500      // files that are taken up at once
	keepFiles  = 200      // that are kept together
	keepMarks  = 200_000  // marks of files that are kept together
	smallFile  = 64 << 10 // bytes of a file that is read at once
	roundsMost = 10
)

// InUse is why a file was not read that somebody holds open.
const InUse = "in use"

// Read reads what is unread and wanted. It ends with an error when a place does not
// answer, or the store does not; files that cannot be read are told of.
func (w *Work) Read(ctx context.Context) error {
	var err error
	if w.table, err = dedup.NewTable(w.Budget); err != nil {
		return err
	}
	defer func() { w.table = nil }() // who counts next wants the memory
	for try := range max(w.Tries, 1) {
		if try > 0 && !w.wait(ctx) {
			return ctx.Err()
		}
		w.progress.trouble.Store(0)
		again, err := w.round(ctx, try)
		if err != nil || !again || try == roundsMost {
			return err
		}
	}
	return nil
}

// wait waits for the next try, and reports whether ctx goes on.
func (w *Work) wait(ctx context.Context) bool {
	if w.Waits != nil {
		w.Waits(w.progress.trouble.Load())
		defer w.Waits(0)
	}
	timer := time.NewTimer(w.Pause)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// round tries all that is unread once. again is true when something may be read at
// another time.
func (w *Work) round(ctx context.Context, try int) (again bool, err error) {
	group, run := guard.WithContext(ctx)
	todo := make(chan dedup.Record)
	keeper := &keeper{work: w}
	var mu sync.Mutex
	for range max(w.Readers, 1) {
		group.Go(func() error {
			cutter, err := dedup.NewCutter(w.Profile)
			if err != nil {
				return err
			}
			packer, err := pack.NewPacker()
			if err != nil {
				return err
			}
			reader := dedup.NewReader(cutter, w.Compression, w.level(), func(chunk []byte) int { return len(packer.Pack(chunk)) })
			reader.Known(w.packed)
			for rec := range todo {
				if err := w.admit(run); err != nil {
					return err
				}
				retry, err := w.file(run, reader, &rec, try)
				if err != nil {
					return err
				}
				if retry {
					mu.Lock()
					again = true
					mu.Unlock()
				}
				if err := keeper.add(run, rec); err != nil {
					return err
				}
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(todo)
		return w.feed(run, todo)
	})
	err = group.Wait()
	// What was read is kept also when the rest was broken off.
	return again, errors.Join(err, keeper.flush(context.WithoutCancel(ctx)))
}

// feed hands out what is unread and wanted.
func (w *Work) feed(ctx context.Context, todo chan<- dedup.Record) error {
	var last *dedup.Record
	for {
		list, err := w.Store.Unread(ctx, last, batch)
		if err != nil || len(list) == 0 {
			return err
		}
		for i := range list {
			if !w.wants(&list[i]) {
				continue
			}
			select {
			case todo <- list[i]:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		last = &list[len(list)-1]
	}
}

// file reads a file and puts what came of it into its record. retry is true when it
// may go at another time.
func (w *Work) file(ctx context.Context, reader *dedup.Reader, rec *dedup.Record, try int) (retry bool, err error) {
	reader.SetLevel(w.level())
	summary, entry, err := w.summarise(ctx, reader, rec)
	var gone bool
	switch {
	case ctx.Err() != nil:
		return false, ctx.Err()
	case errors.Is(err, tree.ErrUnreachable):
		return false, err
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, tree.ErrKind):
		gone = true
		rec.Unread = "gone while the volume was read"
	case errors.Is(err, errChanged):
		rec.Unread, retry = "changed while it was read", true
	case err != nil:
		rec.Unread = plainly(err)
		retry = errors.Is(err, tree.ErrInUse)
	default:
		rec.Size, rec.Allocated, rec.Modified, rec.Unread, rec.Summary = entry.Size, entry.Allocated, entry.Modified, "", summary
		rec.Owner = w.owner(ctx, rec)
		w.progress.files.Add(1)
		w.count(rec)
		return false, nil
	}
	if !gone {
		w.progress.trouble.Add(1)
		if !retry || try == max(w.Tries, 1)-1 {
			w.trouble(rec, rec.Unread)
		}
	}
	return retry, nil
}

var errChanged = errors.New("it changed while it was read")

// summarise reads a file.
func (w *Work) summarise(ctx context.Context, reader *dedup.Reader, rec *dedup.Record) (dedup.Summary, tree.Entry, error) {
	t := w.Places[rec.Place].Tree
	content, err := w.open(ctx, t, rec)
	if err != nil {
		return dedup.Summary{}, tree.Entry{}, err
	}
	defer content.Close()
	entry := content.Entry()
	var stream io.Reader = io.NewSectionReader(content, 0, entry.Size)
	if entry.Size > smallFile {
		ahead := tree.Stream(ctx, content, 0)
		defer ahead.Close()
		stream = ahead
	}
	if w.Pace != nil {
		stream = tree.Paced(ctx, stream, w.Pace)
	}
	var read int64
	s, err := reader.Read(stream, func(n int) {
		read += int64(n)
		w.progress.bytes.Add(int64(n))
	})
	if err == nil && read != entry.Size {
		err = fmt.Errorf("%w: %d of %d bytes", errChanged, read, entry.Size)
	}
	if err == nil {
		var same bool
		if same, err = tree.Unchanged(ctx, t, rec.Path, content); err == nil && !same {
			err = errChanged
		}
	}
	if errors.Is(err, tree.ErrTorn) {
		err = errChanged
	}
	if err != nil {
		w.progress.bytes.Add(-read)
	}
	if entry.Allocated == 0 {
		entry.Allocated = rec.Allocated
	}
	return s, entry, err
}

// open opens a file; a small one is taken to be as it was listed until it was read.
func (w *Work) open(ctx context.Context, t tree.Tree, rec *dedup.Record) (tree.Content, error) {
	if rec.Unread == dedup.StubOnly {
		return nil, tree.PathError("open", rec.Path, tree.ErrStub)
	}
	t = tree.Resident(t)
	if rec.Size > smallFile {
		return t.Open(ctx, rec.Path)
	}
	return tree.OpenExpected(ctx, t, rec.Path, tree.Entry{Kind: tree.File, Size: rec.Size, Allocated: rec.Allocated, Modified: rec.Modified, ID: rec.ID})
}

// owner is who a file belongs to, where that can be told.
func (w *Work) owner(ctx context.Context, rec *dedup.Record) string {
	t := w.Places[rec.Place].Tree
	if !t.Capabilities().Descriptors {
		return ""
	}
	d, err := t.Descriptor(ctx, rec.Path)
	if err != nil || d.IsZero() {
		return ""
	}
	return d.Parts().Owner.String()
}

// count counts what was read, and gives up marks when there are too many.
func (w *Work) count(rec *dedup.Record) {
	w.mu.Lock()
	defer w.mu.Unlock()
	s := &rec.Summary
	w.table.Raise(s.Level)
	var again int64
	for _, m := range s.Marks {
		if m.Print.Kept(w.table.Level()) && !w.table.Add(m) {
			again += int64(m.Length)
		}
	}
	w.progress.saved.Add(again << w.table.Level())
	if !w.Whole {
		s.Thin(w.table.Level())
	}
}

// packed is how far a chunk compresses that was read before.
func (w *Work) packed(p *dedup.Print) uint32 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.table.Packed(p)
}

// level is which part of the marks is kept of the files that come.
func (w *Work) level() uint8 {
	if w.Whole {
		return 0
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.table.Level()
}

// keeper keeps records, many at once.
type keeper struct {
	work  *Work
	mu    sync.Mutex
	list  []dedup.Record
	marks int
}

func (k *keeper) add(ctx context.Context, rec dedup.Record) error {
	k.mu.Lock()
	k.list, k.marks = append(k.list, rec), k.marks+len(rec.Summary.Marks)
	if len(k.list) < keepFiles && k.marks < keepMarks {
		k.mu.Unlock()
		return nil
	}
	full := k.list
	k.list, k.marks = nil, 0
	k.mu.Unlock()
	return k.work.Store.Save(ctx, full)
}

func (k *keeper) flush(ctx context.Context) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.list) == 0 {
		return nil
	}
	return k.work.Store.Save(ctx, k.list)
}
