package replication

import (
	"context"
	"fmt"
	"path"
	"strings"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// A replica must not lie in another one. When both are of one set, what is in the inner
// one is carried into it again and again, without end; when they are of two, these undo
// each other's work. Who makes a set sees to that, as far as can be seen from outside: a
// folder may be reached by ways of which we know nothing. So a scan ends at a folder that
// bears a mark, before anything is noted of what is in it, and nothing is carried from or
// to a replica in which one was found, until a scan finds none.

// findNested is called with a folder in which there is a work folder: it returns ErrNotReplica
// when that bears the mark of a replica.
func (s *scan) findNested(ctx context.Context, folder string) error {
	mark := path.Join(folder, MarkFile)
	text, err := tree.ReadFile(ctx, s.r.Tree, mark)
	if absent(err) {
		return nil
	}
	if err != nil {
		return err
	}
	found := fmt.Errorf("%w alone: %s in it is one itself, marked %q; take one of both out of its set, or, when there is no such set any more, remove %s there", ErrNotReplica, folder, strings.TrimSpace(string(text)), mark)
	s.Engine.mu.Lock()
	defer s.Engine.mu.Unlock()
	if s.Engine.nested == nil {
		s.Engine.nested = map[replica.ID]error{}
	}
	s.Engine.nested[s.r.ID] = found
	return found
}

// containsReplica returns ErrNotReplica while the last scan of a replica found another one
// inside it.
func (e *Engine) containsReplica(r *Replica) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.nested[r.ID]
}
