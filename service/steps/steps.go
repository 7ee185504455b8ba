// Package steps does things one after the other so that a crash between any two loses none:
// what is about to be done is written down before, and what came of it afterwards. A step that
// was under way when a process ended is looked at before it is done again. What was done can be
// undone from any point, the last first.
//
// A [Sequence] works on steps of any kind, wherever they are kept: millions of them in a table,
// or a few in a [List].
package steps

import (
	"context"
	"errors"

	"bridgespan/model"
)

// Numbered is a step where it is kept.
type Numbered[S any] struct {
	Seq   int64
	State string // of model.Step
	Step  S
}

// Source keeps steps in their order.
type Source[S any] interface {
	// Next lists steps with one of some states: those after a number in order, or those
	// before it, the last first, when back is true.
	Next(ctx context.Context, from int64, back bool, limit int, states ...string) ([]Numbered[S], error)
	// Mark writes down how a step is, and what came of it.
	Mark(ctx context.Context, seq int64, state, found string) error
}

// Sequence does the steps of a source, or undoes them.
type Sequence[S any] struct {
	Source Source[S]
	// Do does a step, and says in a few words what came of it. It may be called again for a
	// step that was under way, unless Look finds it done.
	Do func(ctx context.Context, step S) (found string, err error)
	// Undo takes a step back that was done, or that may have been done in part.
	Undo func(ctx context.Context, step S) error
	// Look reports whether a step was done that was under way; nil does it again.
	Look func(ctx context.Context, step S) (bool, error)
	// Announce writes down each step before it is done. Without it, Do must find out by itself
	// that a step was done.
	Announce bool
	// Alone reports whether an error is about one step alone: the others are still done. nil
	// reports none.
	Alone func(error) bool
	// Progress is called after each step that was done or undone. It may be nil.
	Progress func()
	// Words says why a step failed; nil is the text of the error.
	Words func(error) string
}

// together is how many steps are read at once.
const together = 500

// Forward does what is planned, was under way, or has failed, and returns how many steps failed.
// An error ends it, unless it is about one step alone.
func (q *Sequence[S]) Forward(ctx context.Context) (failed int, err error) {
	return q.each(ctx, -1, false, q.forward, model.StepPlanned, model.StepUnderWay, model.StepFailed)
}

// each works on the steps with some states, in order or backwards, and returns how many failed
// by themselves.
func (q *Sequence[S]) each(ctx context.Context, from int64, back bool, do func(context.Context, Numbered[S]) error, states ...string) (failed int, err error) {
	for {
		list, err := q.Source.Next(ctx, from, back, together, states...)
		if err != nil {
			return failed, err
		}
		for _, n := range list {
			from = n.Seq
			if err := do(ctx, n); err == nil {
				q.progressed()
			} else if q.Alone == nil || !q.Alone(err) {
				return failed, err
			} else {
				failed++
			}
		}
		if len(list) < together {
			return failed, nil
		}
	}
}

func (q *Sequence[S]) forward(ctx context.Context, n Numbered[S]) error {
	if n.State == model.StepUnderWay && q.Look != nil {
		done, err := q.Look(ctx, n.Step)
		if err != nil {
			return err
		}
		if done {
			return q.mark(ctx, n.Seq, model.StepDone, "")
		}
	}
	if q.Announce {
		if err := q.Source.Mark(ctx, n.Seq, model.StepUnderWay, ""); err != nil {
			return err
		}
	}
	found, err := q.Do(ctx, n.Step)
	switch {
	case err == nil:
		return q.mark(ctx, n.Seq, model.StepDone, found)
	case ctx.Err() != nil: // it was stopped: whether it was done is looked at next time
		return err
	case q.Alone != nil && !q.Alone(err) && !q.Announce: // of all of them: nothing is known of this one
		return err
	}
	return errors.Join(err, q.mark(ctx, n.Seq, model.StepFailed, q.words(err)))
}

// Back undoes what was done, is under way or has failed, the last first, and returns how many
// steps could not be undone. An error ends it, unless it is about one step alone.
func (q *Sequence[S]) Back(ctx context.Context) (failed int, err error) {
	return q.each(ctx, 1<<62, true, q.back, q.undone()...)
}

// undone are the states of what Back takes back: a step that failed was perhaps done in part,
// where its beginning was announced.
func (q *Sequence[S]) undone() []string {
	if q.Announce {
		return []string{model.StepDone, model.StepAwaited, model.StepUnderWay, model.StepFailed}
	}
	return []string{model.StepDone}
}

func (q *Sequence[S]) back(ctx context.Context, n Numbered[S]) error {
	if err := q.Undo(ctx, n.Step); err != nil {
		return errors.Join(err, q.mark(ctx, n.Seq, n.State, q.words(err)))
	}
	if n.State == model.StepFailed { // why it failed stays on record
		return nil
	}
	return q.mark(ctx, n.Seq, model.StepUndone, "")
}

// mark writes down what came of a step, also when ctx has ended.
func (q *Sequence[S]) mark(ctx context.Context, seq int64, state, found string) error {
	return q.Source.Mark(context.WithoutCancel(ctx), seq, state, found)
}

func (q *Sequence[S]) words(err error) string {
	if q.Words != nil {
		return q.Words(err)
	}
	return err.Error()
}

func (q *Sequence[S]) progressed() {
	if q.Progress != nil {
		q.Progress()
	}
}
