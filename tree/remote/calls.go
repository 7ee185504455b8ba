package remote

import (
	"bufio"
	"encoding/json"
	"io"
	"net/http"
	"time"
	"unicode/utf8"

	"bridgespan/guard"
	"bridgespan/tree"
)

func (s *served) openFolder() error {
	e, err := s.tree.Stat(s.ctx, ".")
	if err != nil {
		return err
	}
	c := s.tree.Capabilities()
	return s.reply(answer{Entry: toWire(e), Capabilities: &c}, nil)
}

func (s *served) stat() error { return s.answered(s.tree.Stat(s.ctx, s.call.Name)) }

// list sends the entries of a folder. An error after the first of them is a line
// like them.
func (s *served) list() error {
	out := s.lines()
	begun := false
	for e, err := range s.tree.List(s.ctx, s.call.Name, s.call.Detail) {
		if err != nil && e.Name == "" {
			if !begun {
				return err
			}
			f, _ := toFailure(err)
			return out.end(answer{Error: f})
		}
		a := answer{Entry: toWire(e)}
		if err == nil && !utf8.ValidString(e.Name) {
			err = tree.CheckName("list", e.Name)
		}
		if err != nil {
			a.Error, _ = toFailure(err)
		}
		begun = true
		if out.line(a) != nil {
			return nil // nobody reads any more
		}
	}
	return out.end(answer{Last: true})
}

func (s *served) put() error {
	return s.answered(s.tree.Put(s.ctx, s.call.Name, s.content, s.call.Put.options()))
}

func (s *served) stage() error {
	return s.answered(tree.Stage(s.ctx, s.tree, s.call.Name, s.content, s.call.Put.options()))
}

func (s *served) protect() error { return s.done(tree.Protect(s.ctx, s.tree, s.call.Name)) }

func (s *served) flush() error { return s.done(tree.Flush(s.ctx, s.tree)) }

func (s *served) assemble() error {
	return s.answered(tree.Assemble(s.ctx, s.tree, s.call.Name, s.call.Other, s.call.Parts, tree.InOrder{Reader: s.content}, s.call.Put.options()))
}

func (s *served) exchange() error {
	return s.done(tree.Exchange(s.ctx, s.tree, s.call.Name, s.call.Other))
}

func (s *served) mayWrite() error {
	return s.done(tree.MayWrite(s.ctx, s.tree, s.call.Name))
}

func (s *served) mkdir() error { return s.done(s.tree.Mkdir(s.ctx, s.call.Name)) }

func (s *served) rename() error {
	return s.done(s.tree.Rename(s.ctx, s.call.Name, s.call.Other, s.call.Replace))
}

func (s *served) remove() error { return s.done(s.tree.Remove(s.ctx, s.call.Name)) }

func (s *served) descriptor() error {
	d, err := s.tree.Descriptor(s.ctx, s.call.Name)
	if err != nil {
		return err
	}
	return s.reply(answer{Descriptor: d}, nil)
}

func (s *served) apply() error {
	return s.done(s.tree.Apply(s.ctx, s.call.Name, s.call.Meta.meta()))
}

func (s *served) space() error {
	space, err := s.tree.Space(s.ctx)
	if err != nil {
		return err
	}
	return s.reply(answer{Space: &space}, nil)
}

// beatEvery is how often a caller that watches is told that nothing changed.
const beatEvery = 20 * time.Second

// watch sends a line for each folder in which something changes, until nobody
// reads them any more.
func (s *served) watch() error {
	if _, ok := s.tree.(tree.Watcher); !ok {
		return tree.ErrUnsupported
	}
	s.packs = false // few bytes, and each is to be there at once
	out := s.lines()
	news := make(chan answer)
	guard.Go(func() {
		defer close(news)
		pass := func(folder string, err error) bool {
			a := answer{Folder: folder, Begun: folder == "" && err == nil}
			if err != nil {
				a.Folder = ""
				a.Error, _ = toFailure(err)
			}
			select {
			case news <- a:
				return true
			case <-s.ctx.Done():
				return false
			}
		}
		if err := guard.Do(func() { tree.Watch(s.ctx, s.tree)(pass) }); err != nil {
			pass("", err)
		}
	})
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		var a answer
		select {
		case <-beat.C:
		case next, ok := <-news:
			if !ok {
				return nil
			}
			a = next
		}
		if out.line(a) != nil || out.flush() != nil {
			for range news { // it ends with the call
			}
			return nil
		}
	}
}

// lines are the answer of a call that sends several.
type lines struct {
	w    http.ResponseWriter
	out  *bufio.Writer
	pack *packer
}

func (s *served) lines() *lines {
	l := &lines{w: s.w}
	if s.packs {
		s.w.Header().Set("Content-Encoding", encoding)
	}
	s.w.Header().Set("Content-Type", "application/x-ndjson")
	return l
}

func (l *lines) begin() {
	if l.out != nil {
		return
	}
	var w io.Writer = l.w
	if l.w.Header().Get("Content-Encoding") != "" {
		l.pack = newPacker(l.w)
		w = l.pack
	}
	l.out = bufio.NewWriterSize(w, 32<<10)
}

func (l *lines) line(a answer) error {
	l.begin()
	text, err := json.Marshal(a)
	if err == nil {
		_, err = l.out.Write(append(text, '\n'))
	}
	return err
}

// flush sends what was written on its way.
func (l *lines) flush() error {
	err := l.out.Flush()
	if l.pack != nil && err == nil {
		err = l.pack.Flush()
	}
	if f, ok := l.w.(http.Flusher); ok {
		f.Flush()
	}
	return err
}

// end sends the last line. That it does not arrive is the caller's to see.
func (l *lines) end(a answer) error {
	_ = l.line(a)
	_ = l.out.Flush()
	if l.pack != nil {
		_ = l.pack.Close()
	}
	return nil
}
