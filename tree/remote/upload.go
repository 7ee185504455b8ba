package remote

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"bridgespan/guard"
	"bridgespan/tree"
)

// An upload is one call. The caller says how many bytes may be sent: with the call, and for a longer file as the mover asks for
// more (answer.Wanted). It grants them by their total, in eight bytes, the highest first.
const (
	grantAtOnce = 1 << 20
	// grantAhead is how far ahead of its reading the mover asks, so that it does not wait for answers.
	grantAhead = 4 << 20
)

// Upload lets the mover write a file to a tree that its host opens.
func (t *Tree) Upload(ctx context.Context, u *tree.Upload) (tree.Uploaded, error) {
	if err := tree.CheckName("upload", u.To); err != nil {
		return tree.Uploaded{}, err
	}
	size := u.Expected.Size
	first := min(size, grantAtOnce)
	if err := pace(ctx, u, first); err != nil {
		return tree.Uploaded{}, err
	}
	c := call{Other: u.To, Expected: toWire(u.Expected), Digest: u.Digest, StoreID: u.StoreID, Put: putToWire(u.Options), Length: int(first)}
	if size > first {
		return t.uploadLong(ctx, u, c)
	}
	a, err := t.call(ctx, "upload", u.Name, c, nil)
	if err != nil {
		return tree.Uploaded{}, err
	}
	return t.uploaded(u, a)
}

func pace(ctx context.Context, u *tree.Upload, bytes int64) error {
	if u.Pace == nil || bytes == 0 {
		return nil
	}
	return u.Pace(ctx, int(bytes))
}

// uploadLong grants bytes for as long as the mover asks for them.
func (t *Tree) uploadLong(ctx context.Context, u *tree.Upload, c call) (tree.Uploaded, error) {
	if err := tree.CheckName("upload", u.Name); err != nil {
		return tree.Uploaded{}, err
	}
	c.Sub, c.Name = t.sub, u.Name
	talk, err := t.host.converse(ctx, t.folder, "upload", c)
	if err != nil {
		return tree.Uploaded{}, tree.PathError("upload", u.Name, err)
	}
	defer talk.end()
	granted := int64(c.Length)
	for {
		a, _, err := t.host.readLine(ctx, talk.answers)
		switch {
		case err != nil:
			return tree.Uploaded{}, tree.PathError("upload", u.Name, err)
		case a.Entry != nil || a.Away != nil:
			return t.uploaded(u, a)
		case a.Wanted <= granted: // it lives
			continue
		case a.Wanted > u.Expected.Size || a.Wanted > granted+grantAtOnce:
			return tree.Uploaded{}, tree.PathError("upload", u.Name, t.host.Distrust("it wants %d of %d bytes after %d", a.Wanted, u.Expected.Size, granted))
		}
		talk.watchdog.pause() // we owe it the grant
		if err := pace(ctx, u, a.Wanted-granted); err != nil {
			return tree.Uploaded{}, err
		}
		talk.watchdog.reset()
		granted = a.Wanted
		if _, err := talk.in.Write(binary.BigEndian.AppendUint64(nil, uint64(granted))); err != nil {
			return tree.Uploaded{}, tree.PathError("upload", u.Name, fmt.Errorf("%w: %w", tree.ErrUnreachable, err))
		}
	}
}

// uploaded is the outcome that a mover tells.
func (t *Tree) uploaded(u *tree.Upload, a answer) (done tree.Uploaded, err error) {
	if a.Away != nil {
		return tree.Uploaded{Failed: fmt.Errorf("%w: %w", tree.ErrUnreachable, a.Away.err())}, nil
	}
	if done.Entry, err = t.entryOf("upload", u.To, a); err != nil {
		return done, err
	}
	if copy(done.Digest[:], a.Digest) != len(done.Digest) {
		return done, tree.PathError("upload", u.Name, t.host.Distrust("a hash of %d bytes", len(a.Digest)))
	}
	return done, nil
}

// conversation is a call of which the answer is read while more is sent.
type conversation struct {
	in       io.Writer
	answers  *bufio.Reader
	watchdog *watchdog
	end      func()
}

// converse begins a conversation. The caller must end it.
func (h *Host) converse(ctx context.Context, folder, op string, c call) (*conversation, error) {
	line, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	ctx, dog := h.watch(ctx, op)
	more, in := io.Pipe()
	// The HTTP/2 client notices the end of the context when it next reads from the body.
	stop := context.AfterFunc(ctx, guard.Func(func() { more.CloseWithError(context.Cause(ctx)) }))
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, h.url("folders", folder, op), struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(append(line, '\n')), more), more})
	var response *http.Response
	if err == nil {
		response, err = h.do(request)
	}
	if err != nil {
		more.Close()
		dog.stop()
		return nil, err
	}
	answers, end, err := received(response, dog)
	if err != nil {
		more.Close()
		return nil, err
	}
	return &conversation{in, answers, dog, func() { stop(); in.Close(); end() }}, nil
}

// upload lets the host write a file to a tree that it opens.
func (s *served) upload() error {
	if s.folder.Upload == nil {
		return fmt.Errorf("%w: the mover opens no other trees", tree.ErrUnsupported)
	}
	for _, name := range []string{s.call.Name, s.call.Other} {
		if err := tree.CheckName("upload", name); err != nil {
			return err
		}
	}
	u := &tree.Upload{Name: s.call.Name, Expected: fromWire(s.call.Expected), Digest: s.call.Digest, StoreID: s.call.StoreID, To: s.call.Other, Options: s.call.Put.options()}
	if u.Expected.Size > int64(s.call.Length) {
		return s.uploadLong(u)
	}
	done, err := s.folder.Upload(s.ctx, s.call.Sub, s.tree, u)
	if err != nil {
		return err
	}
	return s.reply(uploadedToWire(done), nil)
}

func uploadedToWire(done tree.Uploaded) answer {
	if done.Failed != nil {
		f, _ := toFailure(done.Failed)
		return answer{Away: f}
	}
	return answer{Entry: toWire(done.Entry), Digest: done.Digest[:]}
}

// uploadLong uploads a file as far as its bytes are granted.
func (s *served) uploadLong(u *tree.Upload) error {
	s.packs = false // few bytes, and each is to be there at once
	g := &grants{out: s.lines(), from: s.content, size: u.Expected.Size, granted: int64(s.call.Length)}
	g.asked = g.granted
	if err := g.tell(answer{Begun: true}); err != nil {
		return nil // nobody reads any more
	}
	u.Pace = g.pace
	over := make(chan struct{})
	beats := guard.Result(func() error { return g.beat(over) })
	done, err := s.folder.Upload(s.ctx, s.call.Sub, s.tree, u)
	close(over)
	<-beats
	if err != nil {
		f, _ := toFailure(err)
		return g.out.end(answer{Error: f})
	}
	return g.out.end(uploadedToWire(done))
}

// grants are those of an upload.
type grants struct {
	from io.Reader
	size int64

	mu                   sync.Mutex // of out
	out                  *lines
	asked, granted, used int64
}

func (g *grants) tell(a answer) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.out.line(a); err != nil {
		return err
	}
	return g.out.flush()
}

// beat tells the caller now and then that the mover lives.
func (g *grants) beat(over <-chan struct{}) error {
	ticks := time.NewTicker(beatEvery)
	defer ticks.Stop()
	for {
		select {
		case <-over:
			return nil
		case <-ticks.C:
			if err := g.tell(answer{Begun: true}); err != nil {
				return err
			}
		}
	}
}

// pace waits until so many more bytes may be sent. One goroutine at a time may call it.
func (g *grants) pace(ctx context.Context, bytes int) error {
	g.used = min(g.used+int64(bytes), g.size)
	for g.asked < g.size && g.asked < g.used+grantAhead {
		g.asked = min(g.asked+grantAtOnce, g.size)
		if err := g.tell(answer{Wanted: g.asked}); err != nil {
			return err
		}
	}
	for g.granted < g.used {
		var total [8]byte
		if _, err := io.ReadFull(g.from, total[:]); err != nil {
			return fmt.Errorf("%w: the caller of the upload is gone: %w", tree.ErrTorn, err)
		}
		granted := binary.BigEndian.Uint64(total[:])
		if granted <= uint64(g.granted) || granted > uint64(g.asked) {
			return fmt.Errorf("%w: %d bytes are granted of %d", errCall, granted, g.asked)
		}
		g.granted = int64(granted)
	}
	return ctx.Err()
}
