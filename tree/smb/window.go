package smb

import (
	"context"
	"errors"
	"fmt"
	"io"

	"bridgespan/tree"
)

// A server copies within itself (FSCTL_SRV_COPYCHUNK, [MS-SMB2] 3.3.5.15.6), where
// nothing crosses the network. The protocol library offers that for whole files. Its
// first request is right for a range all the same: of a file below one window it copies
// the length of the file, from where that stands to where the other one stands; of a
// longer one a whole window. Then it asks for the same again, as often as the file is
// long. So ranges are copied by windows, and the library is stopped after each.
const window = 16 << 20 // bytes

// windows copies windows of one file to another one, one at a time.
type windows struct {
	source, target *remoteFile
	size           int64 // bytes of the source
	looks          *looks
	asks           int64 // how often the library looks until it has copied the first window; 0 when not known
}

// step is a window: from where, and to where.
type step struct{ from, to int64 }

// open opens two files to copy from one to the other.
func (c *copying) open(source, target string, flags int) (*windows, error) {
	w := &windows{looks: &looks{Context: c.lasting}, asks: c.tree.asks.Load()}
	share := c.share.WithContext(w.looks)
	var err error
	if w.source, err = share.Open(source); err != nil {
		return nil, err
	}
	if w.target, err = share.OpenFile(target, flags, 0o666); err != nil {
		return nil, errors.Join(err, w.source.Close())
	}
	if w.size, err = w.source.Seek(0, io.SeekEnd); err != nil {
		return nil, errors.Join(err, w.Close())
	}
	return w, nil
}

// Close closes both files.
func (w *windows) Close() error { return errors.Join(w.source.Close(), w.target.Close()) }

// copy copies one window; of a source that is shorter, all.
func (w *windows) copy(ctx context.Context, s step) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	n, err := w.once(s, w.asks)
	switch {
	case errors.Is(err, errOnce) && w.size > window:
		return nil
	case err == nil && n != min(w.size, window):
		return fmt.Errorf("%w: the server copied %d of %d bytes", tree.ErrTorn, n, w.size)
	}
	return err
}

// once lets the library copy until it has looked at its context so often; 0 for ever.
func (w *windows) once(s step, looks int64) (int64, error) {
	if _, err := w.source.Seek(s.from, io.SeekStart); err != nil {
		return 0, err
	}
	if _, err := w.target.Seek(s.to, io.SeekStart); err != nil {
		return 0, err
	}
	w.looks.taken, w.looks.most = 0, looks
	n, err := w.source.WriteTo(w.target)
	w.looks.most = 0
	return n, err
}

// copies finds out whether the server copies within itself, and returns ErrUnsupported
// unless it does: the library reads and writes all of a file then, over the network and
// unasked. That shows when it is asked for what lies beyond the end, which no server
// copies. Until it has that answer, it looks at its context as often as until it has
// copied a window.
func (t *Tree) copies(w *windows) error {
	if w.asks > 0 {
		return nil
	}
	if w.size < 2 {
		return tree.ErrUnsupported
	}
	_, err := w.once(step{from: w.size - 1}, 0)
	switch {
	case err == nil:
		return tree.ErrUnsupported
	case !isRefusal(err):
		return err
	}
	w.asks = w.looks.taken
	t.asks.Store(w.asks)
	return nil
}

// errOnce is why a copy ended after its first window.
var errOnce = errors.New("a window was copied")

// looks is a context that has ended when it was looked at so often. The library looks at
// it before each request that it sends, and in the same goroutine: where it ends between
// two of them, the second is not sent, and nothing is under way any more.
type looks struct {
	context.Context
	taken, most int64 // most is 0 where only Context ends
}

func (l *looks) Done() <-chan struct{} {
	l.taken++
	if l.spent() {
		return ended
	}
	return l.Context.Done()
}

func (l *looks) Err() error {
	if l.spent() {
		return errOnce
	}
	return l.Context.Err()
}

func (l *looks) spent() bool { return l.most > 0 && l.taken > l.most }

var ended = func() <-chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()
