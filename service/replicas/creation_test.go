package replicas

import (
	"context"
	"errors"
	"slices"
	"testing"

	"bridgespan/model"
)

// made is a creation whose steps do nothing but say that they were asked.
func made(fails int, did *[]string, saved *int) *creation {
	c := &creation{save: func(context.Context) error { *saved++; return nil }}
	for i, name := range []string{"folder", "record", "lead"} {
		c.steps = append(c.steps, step{text: name,
			do: func(context.Context) (string, error) {
				*did = append(*did, name)
				if i == fails {
					return "", errors.New("it is full")
				}
				return "", nil
			}})
		if name != "lead" {
			c.steps[i].undo = func(context.Context) error { *did = append(*did, "no "+name); return nil }
		}
		c.kept.Steps = append(c.kept.Steps, model.CreationStep{Text: name, State: model.StepWaits})
	}
	return c
}

func states(c *creation) (list []string) {
	for _, s := range c.kept.Steps {
		list = append(list, s.State)
	}
	return list
}

// Steps are done in order; those before one that fails are taken back, the last
// first, and a step that was done in an earlier part of the work is not done again.
func TestCreationSteps(t *testing.T) {
	for name, c := range map[string]struct {
		fails  int
		done   int // in an earlier part
		did    []string
		states []string
	}{
		"all":             {-1, 0, []string{"folder", "record", "lead"}, []string{"done", "done", "done"}},
		"went on":         {-1, 2, []string{"lead"}, []string{"done", "done", "done"}},
		"the last fails":  {2, 0, []string{"folder", "record", "lead", "no record", "no folder"}, []string{"undone", "undone", "failed"}},
		"fails later":     {2, 2, []string{"lead", "no record", "no folder"}, []string{"undone", "undone", "failed"}},
		"the first fails": {0, 0, []string{"folder", "no folder"}, []string{"failed", "waits", "waits"}},
	} {
		var did []string
		saved := 0
		m := made(c.fails, &did, &saved)
		for i := range c.done {
			m.kept.Steps[i].State = model.StepDone
		}
		err := m.all(t.Context())
		if (err != nil) != (c.fails >= 0) || !slices.Equal(did, c.did) || !slices.Equal(states(m), c.states) || saved == 0 {
			t.Errorf("%s: did %v, %v, saved %d times, %v", name, did, states(m), saved, err)
		}
	}
}

// What cannot be taken back is told, and what came before it is left as it is.
func TestCreationCannotBeTakenBack(t *testing.T) {
	var did []string
	saved := 0
	c := made(2, &did, &saved)
	c.steps[1].undo = func(context.Context) error { return errors.New("the database does not answer") }
	if err := c.all(t.Context()); err == nil || !slices.Equal(states(c), []string{"done", "done", "failed"}) || c.kept.Steps[1].Found != "cannot be taken back: the database does not answer" {
		t.Errorf("%+v, %v", c.kept.Steps, err)
	}
}
