package steps

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bridgespan/model"
)

// Step is one thing of a list.
type Step struct {
	Text string
	// Do does it, and says in a few words what came of it; with [Awaited], what has still to
	// come by itself.
	Do func(ctx context.Context) (found string, err error)
	// Undo takes it back; nil when nothing has to be.
	Undo func(ctx context.Context) error
	// Partly says that Do may fail after it has done a part, which Undo takes back.
	Partly bool
	// Look reports whether it was done when a process ended meanwhile; nil does it again.
	Look func(ctx context.Context) (bool, error)
}

// Awaited is returned by Do of a step that is done and has a consequence that is still to
// come: the list goes on.
type Awaited struct{ Found string }

func (a Awaited) Error() string { return a.Found }

// StuckError says which step could not be undone.
type StuckError struct {
	Text string
	Err  error
}

func (e *StuckError) Error() string { return fmt.Sprintf("%s cannot be taken back: %v", e.Text, e.Err) }
func (e *StuckError) Unwrap() error { return e.Err }

// List is a few steps that are kept as a whole, with how they are.
type List struct {
	Steps []Step
	// States are as many as the steps; they are made when there are not.
	States []model.Step
	// Keep keeps the states, before a step is done and after it; nil keeps nothing.
	Keep func(ctx context.Context, states []model.Step) error
	// Words says why a step failed; nil is the text of the error.
	Words func(error) string
}

// Run does the steps that are not done. When one fails, it and those before are taken back, and
// Run returns why it failed; joined with a [*StuckError] when that did not go either. When ctx
// ends nothing is taken back: Run does the rest another time.
func (l *List) Run(ctx context.Context) error {
	l.prepare()
	if why, unfinished := l.beingTakenBack(); unfinished { // when a process ended
		return errors.Join(errors.New(why), l.Undo(context.WithoutCancel(ctx)))
	}
	l.anew()
	q := l.sequence()
	_, err := q.Forward(ctx)
	if err == nil || ctx.Err() != nil {
		return err
	}
	return errors.Join(err, l.Undo(context.WithoutCancel(ctx)))
}

// Undo takes back all that was done.
func (l *List) Undo(ctx context.Context) error {
	l.prepare()
	_, err := l.sequence().Back(ctx)
	return err
}

// Done is how many steps are done.
func (l *List) Done() (n int) {
	for _, s := range l.States {
		if s.State == model.StepDone || s.State == model.StepAwaited {
			n++
		}
	}
	return n
}

// Planned are the states of steps of which none is done.
func Planned(list []Step) []model.Step {
	states := make([]model.Step, len(list))
	for i, s := range list {
		states[i] = model.Step{Text: s.Text, State: model.StepPlanned}
	}
	return states
}

func (l *List) prepare() {
	if len(l.States) != len(l.Steps) {
		l.States = Planned(l.Steps)
	}
}

// beingTakenBack reports whether a step has failed, and why, while something is still to be
// undone.
func (l *List) beingTakenBack() (why string, unfinished bool) {
	failed := slices.IndexFunc(l.States, func(s model.Step) bool { return s.State == model.StepFailed })
	if failed < 0 {
		return "", false
	}
	for i, s := range l.States {
		unfinished = unfinished || l.Steps[i].Undo != nil && (s.State == model.StepDone || s.State == model.StepAwaited)
	}
	return l.States[failed].Found, unfinished
}

// anew plans what was taken back once more.
func (l *List) anew() {
	for i := range l.States {
		if s := &l.States[i]; s.State == model.StepUndone || s.State == model.StepFailed {
			*s = model.Step{Text: l.Steps[i].Text, State: model.StepPlanned}
		}
	}
}

func (l *List) sequence() *Sequence[int] {
	return &Sequence[int]{Source: (*listSource)(l), Announce: true, Words: l.words, Do: l.do, Undo: l.undo, Look: l.look}
}

func (l *List) words(err error) string {
	var stuck *StuckError
	if errors.As(err, &stuck) {
		err = stuck.Err
	}
	if l.Words != nil {
		return l.Words(err)
	}
	return err.Error()
}

func (l *List) do(ctx context.Context, i int) (string, error) {
	found, err := l.Steps[i].Do(ctx)
	var awaited Awaited
	if errors.As(err, &awaited) {
		l.States[i].State = model.StepAwaited
		return awaited.Found, nil
	}
	return found, err
}

func (l *List) look(ctx context.Context, i int) (bool, error) {
	if l.Steps[i].Look == nil {
		return false, nil
	}
	return l.Steps[i].Look(ctx)
}

func (l *List) undo(ctx context.Context, i int) error {
	step := &l.Steps[i]
	if step.Undo == nil || l.States[i].State == model.StepFailed && !step.Partly {
		return nil
	}
	if err := step.Undo(ctx); err != nil {
		return &StuckError{step.Text, err}
	}
	return nil
}

// listSource keeps the states of a list.
type listSource List

func (l *listSource) Next(_ context.Context, from int64, back bool, _ int, states ...string) (list []Numbered[int], err error) {
	for i := range l.States {
		if seq := int64(i); slices.Contains(states, l.States[i].State) && (back && seq < from || !back && seq > from) {
			list = append(list, Numbered[int]{seq, l.States[i].State, i})
		}
	}
	if back {
		slices.Reverse(list)
	}
	return list, nil
}

func (l *listSource) Mark(ctx context.Context, seq int64, state, found string) error {
	s := &l.States[seq]
	switch {
	case state == model.StepUndone && l.Steps[seq].Undo == nil: // there was nothing to undo
		return nil
	case state == model.StepDone && s.State == model.StepAwaited: // the step knew better
		state = model.StepAwaited
	case state == s.State && found != "":
		if found = "cannot be taken back: " + found; state == model.StepFailed {
			found = s.Found + "; " + found
		}
	}
	if s.State = state; found != "" || state == model.StepUnderWay {
		s.Found = found
	}
	if state == model.StepDone || state == model.StepAwaited {
		at := time.Now().UTC()
		s.At = &at
	}
	if l.Keep == nil {
		return nil
	}
	return l.Keep(ctx, l.States)
}
