package replication

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

func TestTried(t *testing.T) {
	start := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	why := errors.New("the sky is green")
	for name, c := range map[string]struct {
		every    time.Duration // between two tries
		outcome  func(i int) outcome
		reported int // the try that is the first to be reported, from 1 on; 0 for none of 20
	}{
		"without change":          {time.Second, func(int) outcome { return outcome{"one", why} }, mostTries},
		"slowly":                  {20 * time.Second, func(int) outcome { return outcome{"one", why} }, 4},
		"with changes, for long":  {4 * time.Second, func(i int) outcome { return outcome{strings.Repeat("x", i), why} }, 16},
		"with changes, for short": {time.Second, func(i int) outcome { return outcome{strings.Repeat("x", i), why} }, 0},
		"while others work on it": {20 * time.Second, func(int) outcome { return outcome{"", errBusy} }, 0},
	} {
		t.Run(name, func(t *testing.T) {
			p := &progress{attempts: map[string]*attempt{}}
			first := 0
			for i := range 20 {
				pause, report := p.tried(start.Add(time.Duration(i)*c.every), "a", c.outcome(i))
				if report != nil && first == 0 {
					first = i + 1
					if !errors.Is(report, ErrStuck) || !strings.Contains(report.Error(), why.Error()) {
						t.Errorf("it is reported as %v", report)
					}
				}
				if i < freeTries-1 && pause != 0 || pause > retryMost {
					t.Errorf("after try %d it pauses for %v", i+1, pause)
				}
			}
			if first != c.reported {
				t.Errorf("the first report is that of try %d, want %d", first, c.reported)
			}
		})
	}
}

// What ends and is tried in vain again at once has made no progress.
func TestTriedAgain(t *testing.T) {
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	p := &progress{attempts: map[string]*attempt{}}
	for _, c := range []struct {
		pause    time.Duration
		reported bool
	}{{10 * time.Second, true}, {2 * StalledAfter, false}} {
		reported := false
		for range 10 {
			for range 2 {
				_, report := p.tried(at, "a", outcome{at.String(), errMoved})
				reported = reported || report != nil
				at = at.Add(time.Second)
			}
			p.end(at, []replica.Ticket{{Key: "a"}})
			at = at.Add(c.pause)
		}
		if reported != c.reported {
			t.Errorf("with pauses of %v it is reported: %v", c.pause, reported)
		}
		p.drop("a")
	}
}

func TestStalled(t *testing.T) {
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	lane := replica.Lane{From: 1, To: 2}
	for name, c := range map[string]struct {
		do      func(p *progress)
		stalled bool
	}{
		"idle":                   {func(p *progress) { p.begin(at, 0) }, false},
		"at work, nothing ended": {func(p *progress) { p.begin(at, 3) }, true},
		"something ended":        {func(p *progress) { p.begin(at, 3); p.end(at.Add(30*time.Second), nil) }, false},
		"bytes come":             {func(p *progress) { p.begin(at, 1); p.start(at, "a", 100); p.cross(at.Add(30*time.Second), 60) }, false},
		"the same bytes come back": {func(p *progress) {
			p.begin(at, 1)
			p.start(at, "a", 100)
			p.cross(at, 100)
			p.cross(at.Add(30*time.Second), 60)
		}, true},
		"a large file is hashed": {func(p *progress) { p.begin(at, 1); p.start(at, "a", 10<<30) }, false},
		"a large file, once more": {func(p *progress) {
			p.begin(at, 1)
			p.tried(at, "a", outcome{"", errMoved})
			p.start(at, "a", 10<<30)
		}, true},
		"what failed waits": {func(p *progress) {
			p.begin(at, 1)
			for i := range 13 {
				p.tried(at.Add(time.Duration(i)*retryMost), "a", outcome{"", errMoved})
				p.begin(at.Add(time.Duration(i)*retryMost+time.Second), 0)
			}
		}, true},
		"what failed is gone": {func(p *progress) {
			p.begin(at, 1)
			p.tried(at, "a", outcome{"", errMoved})
			p.begin(at.Add(time.Second), 0)
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			e := &Engine{Now: func() time.Time { return at.Add(StalledAfter + 5*time.Second) }}
			c.do(e.progressOf(lane))
			if s := e.Stalled(lane); s.Since.IsZero() == c.stalled {
				t.Errorf("stalled: %+v", s)
			}
		})
	}
}

// lying is a tree that says different things about one path.
type lying struct {
	*memory.Tree
	about string
	calls *atomic.Int64
	// unplaceable says of what is to come to the path that it is not there.
	unplaceable bool
	// unreadable lists the path, and says that it is not there to whoever opens it.
	unreadable bool
}

func (l *lying) Rename(ctx context.Context, from, to string, replace bool) error {
	if l.calls.Add(1); l.unplaceable && to == l.about {
		return tree.PathError("rename", from, fs.ErrNotExist)
	}
	return l.Tree.Rename(ctx, from, to, replace)
}

func (l *lying) Open(ctx context.Context, name string) (tree.Content, error) {
	if l.calls.Add(1); l.unreadable && name == l.about {
		return nil, tree.PathError("open", name, fs.ErrNotExist)
	}
	return l.Tree.Open(ctx, name)
}

func (l *lying) Stat(ctx context.Context, name string) (tree.Entry, error) {
	if l.calls.Add(1); l.unreadable && name == l.about {
		return tree.Entry{}, tree.PathError("stat", name, fs.ErrNotExist)
	}
	return l.Tree.Stat(ctx, name)
}

// work is the engine at work as in the service, until ctx ends.
func (p *pair) work(ctx context.Context, tasks *atomic.Int64) {
	for _, r := range p.Replicas {
		go func() {
			for ctx.Err() == nil {
				_, _ = p.Scan(ctx, r.ID)
				wait(ctx, 5*time.Second)
			}
		}()
	}
	for _, l := range p.Lanes {
		go func() {
			for ctx.Err() == nil {
				done, _ := p.Carry(ctx, l, 64)
				tasks.Add(int64(done.Done + done.Postponed))
				if done.Done == 0 {
					wait(ctx, max(done.NextTry, time.Second))
				}
			}
		}()
	}
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// A tree that lies about a path is a problem that is reported within a minute, and that
// is worked on less and less; what else there is arrives all the same.
func TestLivelockIsReported(t *testing.T) {
	for name, c := range map[string]struct{ unplaceable, unreadable bool }{
		"what is brought cannot be placed": {unplaceable: true},
		"what is listed cannot be opened":  {unreadable: true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				var calls, tasks atomic.Int64
				a := &lying{Tree: new(memory.Tree), about: "beds/rose.txt", calls: &calls, unreadable: c.unreadable}
				b := &lying{Tree: new(memory.Tree), about: "beds/rose.txt", calls: &calls, unplaceable: c.unplaceable}
				put(t, a.Tree, "beds/iris.txt", "an iris")
				p := newPair(t, a, b)
				p.Store.(*memoryStore).now = time.Now
				p.settleDown()
				put(t, a.Tree, "beds/rose.txt", "a rose")
				began := time.Now()
				reported := make(chan Trouble, 1000)
				p.Trouble = func(tr Trouble) {
					select {
					case reported <- tr:
					default:
					}
				}
				ctx, stop := context.WithCancel(t.Context())
				p.work(ctx, &tasks)
				put(t, a.Tree, "beds/aster.txt", "an aster")
				first := <-reported
				if took := time.Since(began); took > StalledAfter || path.Base(first.Path) != "rose.txt" || !errors.Is(first.Err, ErrStuck) {
					t.Errorf("after %v %s is reported: %v", took, first.Path, first.Err)
				}
				time.Sleep(10 * time.Minute) // of the clock of the bubble
				calls.Store(0)
				tasks.Store(0)
				time.Sleep(10 * time.Minute)
				if n := tasks.Load(); n > 300 {
					t.Errorf("%d tasks in ten minutes were about one path", n)
				}
				stop()
				synctest.Wait()
				if _, err := b.Tree.Stat(t.Context(), "beds/aster.txt"); err != nil {
					t.Errorf("another file did not arrive: %v", err)
				}
			})
		})
	}
}
