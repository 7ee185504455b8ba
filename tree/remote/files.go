package remote

import (
	"crypto/rand"
	"fmt"
	"io"
	"sync"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// files are those that callers have open. One that is not used for long is
// closed: its caller is gone.
type files struct {
	mu   sync.Mutex
	open map[string]*openFile
}

type openFile struct {
	tree.Content
	used time.Time
	busy int
}

const (
	idleMost  = 5 * time.Minute
	filesMost = 4096
)

// add keeps an open file, under a name that nobody guesses.
// It returns an error when too many are open.
func (f *files) add(c tree.Content) (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sweep(time.Now())
	if len(f.open) >= filesMost {
		return "", fmt.Errorf("the mover has %d files open, and opens no more", filesMost)
	}
	if f.open == nil {
		f.open = map[string]*openFile{}
	}
	name := rand.Text()
	f.open[name] = &openFile{Content: c, used: time.Now()}
	return name, nil
}

// sweep closes what was not used for long; when there are very many, sooner.
func (f *files) sweep(now time.Time) {
	most := idleMost
	if len(f.open) >= filesMost/2 {
		most /= 10
	}
	for name, o := range f.open {
		if o.busy == 0 && now.Sub(o.used) > most {
			o.Close()
			delete(f.open, name)
		}
	}
}

// use takes an open file; the caller must call done.
func (f *files) use(name string) (o *openFile, done func(), err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	o = f.open[name]
	if o == nil {
		return nil, nil, errClosed
	}
	o.busy++
	return o, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		o.busy--
		o.used = time.Now()
	}, nil
}

func (f *files) close(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if o := f.open[name]; o != nil && o.busy == 0 {
		o.Close()
		delete(f.open, name)
	}
}

// Close closes all open files.
func (h *Handler) Close() {
	h.files.mu.Lock()
	defer h.files.mu.Unlock()
	for name, o := range h.files.open {
		o.Close()
		delete(h.files.open, name)
	}
}

// open opens a file. A short one that is the same before and after it was read is
// sent at once.
func (s *served) open() error {
	c, err := s.tree.Open(s.ctx, s.call.Name)
	if err != nil {
		return err
	}
	e := c.Entry()
	if e.Size <= int64(min(s.call.Length, inline)) && e.Residency == tree.Whole {
		all := make([]byte, e.Size)
		n, err := c.ReadAt(all, 0)
		same, bad := tree.Unchanged(s.ctx, s.tree, s.call.Name, c)
		if (err == nil || err == io.EOF) && bad == nil && same && n == len(all) {
			defer c.Close()
			return s.reply(answer{Entry: toWire(e)}, all)
		}
	}
	file, err := s.files.add(c)
	if err != nil {
		c.Close()
		return err
	}
	return s.reply(answer{Entry: toWire(e), File: file}, nil)
}

func (s *served) read() error {
	f, done, err := s.files.use(s.call.File)
	if err != nil {
		return err
	}
	defer done()
	buffer := make([]byte, max(0, min(s.call.Length, mostRead)))
	n, err := f.ReadAt(buffer, s.call.At)
	if err != nil && err != io.EOF {
		return err
	}
	s.send(buffer[:n])
	return nil
}

func (s *served) current() error {
	f, done, err := s.files.use(s.call.File)
	if err != nil {
		return err
	}
	defer done()
	if c, ok := tree.As[tree.Current](f.Content); ok {
		return s.answered(c.Current(s.ctx))
	}
	return s.answered(s.tree.Stat(s.ctx, s.call.Name))
}

func (s *served) sum() error {
	f, done, err := s.files.use(s.call.File)
	if err != nil {
		return err
	}
	defer done()
	d, err := tree.Sum(s.ctx, f.Content, s.call.Hash, nil)
	if err != nil {
		return err
	}
	return s.reply(answer{Digest: d[:]}, nil)
}

func (s *served) chunks() error {
	f, done, err := s.files.use(s.call.File)
	if err != nil {
		return err
	}
	defer done()
	sizes := chunk.For(f.Entry().Size)
	if s.call.Sizes != nil {
		sizes = *s.call.Sizes
	}
	l, err := tree.Chunks(s.ctx, f.Content, sizes)
	if err != nil {
		return err
	}
	return s.reply(answer{Digest: l.Digest[:], Chunks: len(l.Chunks)}, chunksToWire(l.Chunks))
}

func (s *served) close() error {
	s.files.close(s.call.File)
	return s.done(nil)
}
