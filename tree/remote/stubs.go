package remote

import (
	"context"

	"bridgespan/tree"
)

// StageStub stages a file at the host without its content.
func (t *Tree) StageStub(ctx context.Context, name string, mark tree.Mark, options tree.PutOptions) (tree.Entry, error) {
	return t.described(ctx, "stage-stub", name, call{Put: putToWire(options), Mark: &mark}, nil)
}

// Offload makes a stub of a file at the host.
func (t *Tree) Offload(ctx context.Context, name string, expected tree.Entry, mark tree.Mark) (tree.Entry, error) {
	return t.described(ctx, "offload", name, call{Expected: toWire(expected), Mark: &mark}, nil)
}

// Fetch lets the mover fill a stub, from where it has contents from.
func (t *Tree) Fetch(ctx context.Context, name string) error {
	_, err := t.call(ctx, "fetch", name, call{}, nil)
	return err
}

// FetchPart lets the mover fill a part of a stub. A mover of an earlier version fills all of it.
func (t *Tree) FetchPart(ctx context.Context, name string, at, n int64) error {
	_, err := t.call(ctx, "fetch", name, call{At: at, Length: int(n)}, nil)
	return err
}

// Mark tells the mark of a stub.
func (t *Tree) Mark(ctx context.Context, name string) (tree.Mark, error) {
	a, err := t.call(ctx, "mark", name, call{}, nil)
	if err == nil && a.Mark == nil {
		err = tree.PathError("mark", name, t.host.Distrust("an answer without a mark"))
	}
	if err != nil {
		return tree.Mark{}, err
	}
	return *a.Mark, nil
}

func (c *call) mark() tree.Mark {
	if c.Mark == nil {
		return tree.Mark{}
	}
	return *c.Mark
}

func (s *served) stageStub() error {
	return s.answered(tree.StageStub(s.ctx, s.tree, s.call.Name, s.call.mark(), s.call.Put.options()))
}

func (s *served) offload() error {
	return s.answered(tree.Offload(s.ctx, s.tree, s.call.Name, fromWire(s.call.Expected), s.call.mark()))
}

func (s *served) fetch() error {
	if s.call.Length != 0 {
		return s.done(tree.FetchPart(s.ctx, s.tree, s.call.Name, s.call.At, int64(s.call.Length)))
	}
	return s.done(tree.Fetch(s.ctx, s.tree, s.call.Name))
}

func (s *served) mark() error {
	m, err := tree.MarkOf(s.ctx, s.tree, s.call.Name)
	if err != nil {
		return err
	}
	return s.reply(answer{Mark: &m}, nil)
}
