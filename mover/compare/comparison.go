package compare

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/verify"
	"bridgespan/guard"
	"bridgespan/mover/gate"
	"bridgespan/tree"
)

// Level is how thoroughly two trees are compared.
type Level string

const (
	Names  Level = "names"  // listings: names, sizes, times and permissions
	Sample Level = "sample" // and the contents of a random sample of files
	Full   Level = "full"   // and every byte
)

// Comparison compares two trees.
type Comparison struct {
	First, Second Side
	Level         Level
	// Sample is how many files the sample has; Random chooses them.
	Sample int
	Random *rand.Rand
	// Permissions compares owners and permissions, and Attributes those of the mask.
	Permissions bool
	Attributes  tree.Attributes
	// Local reports whether an account means something at one side alone; nil reports none.
	Local func(account.SID) bool
	// Gate passes contents as fast as they may be read; nil always does.
	Gate *gate.Gate
	// Explain marks those of some differences with which nothing is wrong, before they are
	// counted. It may be nil.
	Explain func(ctx context.Context, found []verify.Difference)
	// Sink takes what is found.
	Sink Sink

	walk Walk

	mu      sync.Mutex // of what follows, and of the state: contents are read side by side
	state   *State
	waiting []verify.Difference // not explained yet
	flushed time.Time
}

// Sink takes what a comparison finds. Its methods are called one at a time.
type Sink interface {
	// Compared counts a path of either side; first is nil where that has nothing.
	Compared(first *verify.Item)
	// Found takes differences. What is not Explained counts.
	Found(found []verify.Difference)
	// Read takes the checksum (SHA-256) of a file of so many bytes that was read at both
	// sides; ok is false when the first could not be read.
	Read(path string, size int64, sum [32]byte, ok bool)
	// Progress reports how much of all is behind, from 0 to 1.
	Progress(fraction float64)
	// Checkpoint keeps what was found so far, with the state. An error is ignored: the next
	// checkpoint may succeed.
	Checkpoint(ctx context.Context) error
}

// State is what an interrupted comparison needs to resume. It is kept as JSON.
type State struct {
	After string `json:"after"` // the path up to which all was compared
	// Chosen are the files of the sample, and Met of how many they were chosen.
	Chosen []Chosen `json:"chosen,omitempty"`
	Met    int64    `json:"met"`
}

// Chosen is a file of a sample.
type Chosen struct {
	Path string `json:"path"`
	Size int64  `json:"size"`
}

// Bounds of a comparison.
const (
	checkpointEvery = 5 * time.Second
	flushEvery      = time.Second
	mostWaiting     = 500 // differences that are explained together
	sideBySide      = 6   // files that are read at a time
)

// Run compares what is not compared yet, and keeps state current.
func (c *Comparison) Run(ctx context.Context, state *State) error {
	if c.Local == nil {
		c.Local = verify.Nobody
	}
	c.state, c.flushed = state, time.Now()
	c.walk = Walk{First: c.First, Second: c.Second, Detail: c.detail(), After: state.After}
	group, gctx := readers(ctx)
	saved, last := time.Now(), state.After
	for p, err := range c.walk.Pairs(ctx) {
		if err != nil {
			if bad := group.Wait(); bad != nil {
				return errors.Join(err, bad)
			}
			if last != "" { // else nothing was compared that could be kept
				c.interrupt(context.WithoutCancel(ctx), last)
			}
			return err
		}
		if c.walk.Resumable() {
			last = p.Path
		}
		if f, read := c.pair(p); read {
			group.Go(func() error { return c.contents(gctx, f) })
		}
		c.flush(ctx, false)
		c.report()
		if time.Since(saved) > checkpointEvery && c.walk.Resumable() {
			if err := group.Wait(); err != nil { // what is kept as done must have been read
				return err
			}
			c.interrupt(ctx, p.Path)
			group, gctx = readers(ctx)
			saved = time.Now()
		}
	}
	for _, f := range state.Chosen {
		group.Go(func() error { return c.contents(gctx, f) })
	}
	if err := errors.Join(group.Wait(), ctx.Err()); err != nil {
		return err
	}
	c.flush(ctx, true)
	return nil
}

func readers(ctx context.Context) (*guard.Group, context.Context) {
	group, gctx := guard.WithContext(ctx)
	group.SetLimit(sideBySide)
	return group, gctx
}

func (c *Comparison) detail() tree.Detail {
	if c.Permissions {
		return tree.WithDescriptors
	}
	return tree.Plain
}

// pair compares one path, and reports whether its content is to be read now.
func (c *Comparison) pair(p Pair) (f Chosen, read bool) {
	first, second := c.item(&c.First, p.First), c.item(&c.Second, p.Second)
	found := verify.Compare(first, second, c.Local)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Sink.Compared(first)
	c.waiting = append(c.waiting, found...)
	if p.First == nil || p.Second == nil || p.First.Kind != tree.File || p.Second.Kind != tree.File || first.Size != second.Size || first.Unread+second.Unread != "" {
		return f, false
	}
	f = Chosen{p.Path, first.Size}
	if c.Level == Sample {
		c.choose(f)
	}
	return f, c.Level == Full
}

// item is what is compared of an entry; nil of none.
func (c *Comparison) item(s *Side, e *tree.Named) *verify.Item {
	if e == nil {
		return nil
	}
	i := &verify.Item{Path: e.Path, Folder: e.Kind == tree.Folder, Size: e.Size, Modified: e.Modified, Attributes: uint32(e.Attributes & c.Attributes)}
	if c.Permissions {
		i.Descriptor = e.Descriptor
	}
	if e.Unread != nil {
		i.Unread = s.Name + ": " + Unreadable(e.Unread)
	}
	return i
}

// choose chooses files for the sample, each with the same probability (Vitter, "Random
// Sampling with a Reservoir", algorithm R, 1985).
func (c *Comparison) choose(f Chosen) {
	s := c.state
	s.Met++
	if len(s.Chosen) < c.Sample {
		s.Chosen = append(s.Chosen, f)
	} else if i := c.Random.Int64N(s.Met); i < int64(c.Sample) {
		s.Chosen[i] = f
	}
}

// flush explains and passes on what waits for that: all, or when it is much or has waited.
func (c *Comparison) flush(ctx context.Context, all bool) {
	c.mu.Lock()
	if !all && len(c.waiting) < mostWaiting && time.Since(c.flushed) < flushEvery {
		c.mu.Unlock()
		return
	}
	found := c.waiting
	c.waiting, c.flushed = nil, time.Now()
	c.mu.Unlock()
	if len(found) == 0 {
		return
	}
	if c.Explain != nil {
		c.Explain(ctx, found)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Sink.Found(found)
}

func (c *Comparison) report() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Sink.Progress(c.walk.Seen())
}

// interrupt keeps that all up to a path was compared.
func (c *Comparison) interrupt(ctx context.Context, after string) {
	c.flush(ctx, true)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.state.After = after
	_ = c.Sink.Checkpoint(ctx)
}

// Again compares one path once more, by what both sides have there now: the content, too,
// when withContent is true and nothing else differs.
func (c *Comparison) Again(ctx context.Context, path string, withContent bool) (first, second *verify.Item, found []verify.Difference, err error) {
	var items [2]*verify.Item
	for i, s := range []*Side{&c.First, &c.Second} {
		e, err := s.at(ctx, path, c.detail())
		if err != nil {
			return nil, nil, nil, &SideError{i, s.Name, err}
		}
		items[i] = c.item(s, e)
	}
	first, second = items[0], items[1]
	if first == nil && second == nil {
		return nil, nil, nil, nil
	}
	found = verify.Compare(first, second, c.Local)
	if withContent && len(found) == 0 && first != nil && !first.Folder {
		found, err = c.compareContent(ctx, path)
	}
	return first, second, found, err
}
