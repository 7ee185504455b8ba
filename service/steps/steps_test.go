package steps

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"bridgespan/model"
)

// world is what three steps change: each makes its thing, and undoing removes it.
type world struct {
	things map[int]bool
	did    []string
	fails  int // the step that fails; -1 for none
	stuck  int // the step that cannot be undone; -1 for none
}

var errFull = errors.New("it is full")

func (w *world) list(states []model.Step, keep func([]model.Step) error) *List {
	l := &List{States: states, Keep: func(_ context.Context, states []model.Step) error { return keep(states) }}
	for i := range 3 {
		l.Steps = append(l.Steps, Step{Text: fmt.Sprint("step ", i), Partly: true,
			Do: func(context.Context) (string, error) {
				w.did = append(w.did, fmt.Sprint(i))
				if w.things[i] {
					return "", fmt.Errorf("step %d was done twice", i)
				}
				if i == w.fails {
					return "", errFull
				}
				w.things[i] = true
				return "made", nil
			},
			Undo: func(context.Context) error {
				w.did = append(w.did, fmt.Sprint("-", i))
				if i == w.stuck {
					return errors.New("the server does not answer")
				}
				delete(w.things, i)
				return nil
			},
			Look: func(context.Context) (bool, error) { return w.things[i], nil },
		})
	}
	return l
}

func statesOf(l *List) (list []string) {
	for _, s := range l.States {
		list = append(list, s.State)
	}
	return list
}

func TestList(t *testing.T) {
	for what, c := range map[string]struct {
		fails, stuck int
		did, states  []string
		things       int
	}{
		"all":              {-1, -1, []string{"0", "1", "2"}, []string{"done", "done", "done"}, 3},
		"the first fails":  {0, -1, []string{"0", "-0"}, []string{"failed", "planned", "planned"}, 0},
		"the last fails":   {2, -1, []string{"0", "1", "2", "-2", "-1", "-0"}, []string{"undone", "undone", "failed"}, 0},
		"one cannot go":    {2, 1, []string{"0", "1", "2", "-2", "-1"}, []string{"done", "done", "failed"}, 2},
		"the failed stays": {2, 2, []string{"0", "1", "2", "-2"}, []string{"done", "done", "failed"}, 2},
	} {
		w := &world{things: map[int]bool{}, fails: c.fails, stuck: c.stuck}
		l := w.list(nil, func([]model.Step) error { return nil })
		err := l.Run(t.Context())
		var stuck *StuckError
		if errors.Is(err, errFull) != (c.fails >= 0) || errors.As(err, &stuck) != (c.stuck >= 0) || !slices.Equal(w.did, c.did) || !slices.Equal(statesOf(l), c.states) || len(w.things) != c.things {
			t.Errorf("%s: did %q, %q, %v", what, w.did, statesOf(l), err)
		}
		if c.stuck >= 0 && !strings.HasSuffix(l.States[c.stuck].Found, "cannot be taken back: the server does not answer") {
			t.Errorf("%s: %+v", what, l.States)
		}
	}
}

// Wherever a process ends, another one does each thing once, or takes everything back.
func TestListSurvivesACrash(t *testing.T) {
	end := errors.New("the process ended")
	for _, fails := range []int{-1, 0, 1, 2} {
		for at := 0; ; at++ {
			w := &world{things: map[int]bool{}, fails: fails, stuck: -1}
			var kept []model.Step
			keeps, crashed := 0, false
			l := w.list(nil, func(states []model.Step) error {
				if crashed {
					return end
				}
				if kept, keeps = slices.Clone(states), keeps+1; keeps > at {
					crashed = true
					return end
				}
				return nil
			})
			for i := range l.Steps { // after its end a process does nothing more
				do, undo := l.Steps[i].Do, l.Steps[i].Undo
				l.Steps[i].Do = func(ctx context.Context) (string, error) {
					if crashed {
						return "", end
					}
					return do(ctx)
				}
				l.Steps[i].Undo = func(ctx context.Context) error {
					if crashed {
						return end
					}
					return undo(ctx)
				}
			}
			_ = l.Run(t.Context())
			if !crashed {
				break
			}
			again := w.list(slices.Clone(kept), func([]model.Step) error { return nil })
			err := again.Run(t.Context())
			want := 3
			if fails >= 0 {
				want = 0
			}
			if (err != nil) != (fails >= 0) || len(w.things) != want {
				t.Errorf("step %d fails, the process ended after %d: %v, %d things, %v, did %q", fails, at, err, len(w.things), statesOf(again), w.did)
			}
		}
	}
}

// What is stopped is not taken back, and goes on.
func TestListStopped(t *testing.T) {
	w := &world{things: map[int]bool{}, fails: -1, stuck: -1}
	ctx, stop := context.WithCancel(t.Context())
	l := w.list(nil, func([]model.Step) error { return nil })
	l.Steps[1].Do = func(context.Context) (string, error) { stop(); return "", ctx.Err() }
	if err := l.Run(ctx); !errors.Is(err, context.Canceled) || len(w.things) != 1 {
		t.Fatalf("%v, %d things", err, len(w.things))
	}
	rest := w.list(l.States, func([]model.Step) error { return nil })
	if err := rest.Run(t.Context()); err != nil || len(w.things) != 3 || rest.Done() != 3 {
		t.Errorf("%v, %d things, %v", err, len(w.things), statesOf(rest))
	}
	if err := rest.Undo(t.Context()); err != nil || len(w.things) != 0 || rest.Done() != 0 {
		t.Errorf("undone: %v, %d things, %v", err, len(w.things), statesOf(rest))
	}
}

// What a step leaves to come by itself does not hold up the others.
func TestAwaited(t *testing.T) {
	l := &List{Steps: []Step{
		{Text: "first", Do: func(context.Context) (string, error) { return "", Awaited{"not picked up yet"} }},
		{Text: "second", Do: func(context.Context) (string, error) { return "made", nil }},
	}}
	if err := l.Run(t.Context()); err != nil || !slices.Equal(statesOf(l), []string{"awaited", "done"}) || l.States[0].Found != "not picked up yet" || l.Done() != 2 {
		t.Errorf("%v, %+v", err, l.States)
	}
}

// table keeps many steps, as records do.
type table []Numbered[int]

func (tb table) Next(_ context.Context, from int64, back bool, limit int, states ...string) (list []Numbered[int], err error) {
	for _, n := range tb {
		if slices.Contains(states, n.State) && (back && n.Seq < from || !back && n.Seq > from) {
			list = append(list, n)
		}
	}
	if back {
		slices.Reverse(list)
	}
	return list[:min(len(list), limit)], nil
}

func (tb table) Mark(_ context.Context, seq int64, state, _ string) error {
	tb[seq].State = state
	return nil
}

// Of very many steps, those that fail by themselves do not end the others.
func TestSequence(t *testing.T) {
	tb := make(table, 3*together+7)
	for i := range tb {
		tb[i] = Numbered[int]{int64(i), model.StepPlanned, i}
	}
	done := map[int]bool{}
	var order []int
	q := &Sequence[int]{Source: tb, Alone: func(err error) bool { return errors.Is(err, errFull) },
		Do: func(_ context.Context, i int) (string, error) {
			if i%100 == 3 {
				return "", errFull
			}
			done[i] = true
			return "", nil
		},
		Undo: func(_ context.Context, i int) error { delete(done, i); order = append(order, i); return nil }}
	failed, err := q.Forward(t.Context())
	if err != nil || failed != 16 || len(done) != len(tb)-16 {
		t.Fatalf("%d failed, %d done, %v", failed, len(done), err)
	}
	if failed, err := q.Back(t.Context()); err != nil || failed != 0 || len(done) != 0 || !slices.IsSortedFunc(order, func(a, b int) int { return b - a }) {
		t.Errorf("%d failed, %d are left, %v", failed, len(done), err)
	}
	q.Do = func(context.Context, int) (string, error) { return "", errors.New("the server is away") }
	if _, err := q.Forward(t.Context()); err == nil || tb[0].State != model.StepUndone {
		t.Errorf("%v, %+v", err, tb[0])
	}
}
