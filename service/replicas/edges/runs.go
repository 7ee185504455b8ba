package edges

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"bridgespan/core/fault"
	"bridgespan/core/offload"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// RunKind is the kind of runs that fill stubs, or make them.
const RunKind = "contents"

// settings of a run.
type settings struct {
	Set     string `json:"set"`
	Edge    string `json:"edge"`
	Path    string `json:"path"`
	Offload bool   `json:"offload,omitempty"`
}

// Move starts a run that fills the stubs of a folder or a file of an edge, or makes stubs there. A rehearsal counts, and
// starts nothing.
func (s *Edges) Move(ctx context.Context, name string, asked model.MoveContents) (model.ContentsMove, error) {
	set, err := s.cloudSet(ctx, name)
	if err != nil {
		return model.ContentsMove{}, err
	}
	r, err := sets.FindReplica(&set, asked.Edge)
	if err != nil {
		return model.ContentsMove{}, fault.At("edge", err)
	}
	of, err := checkPath("path", asked.Path)
	switch {
	case err != nil:
		return model.ContentsMove{}, err
	case !r.Edge.HasStubs() && asked.Offload:
		return model.ContentsMove{}, fault.Field("edge", fmt.Sprintf("let it hold stubs first: bspan cloud policy %s %s --fill names", set.Name, r.Name), "%s keeps whole files", r.Name)
	case r.Swept:
		return model.ContentsMove{}, fault.Field("edge", "choose one of "+sets.NamesOf(&set), "%s is the bucket", r.Name)
	}
	m, err := s.count(ctx, &set, r, of, asked.Offload)
	if err != nil || asked.Rehearse {
		return m, err
	}
	id, err := s.Runs.Start(ctx, RunKind, set.Name, settings{set.Name, r.Name, of, asked.Offload})
	if err != nil {
		return m, err
	}
	m.Run, err = s.run(ctx, id)
	return m, err
}

func (s *Edges) run(ctx context.Context, id int64) (*model.Run, error) {
	r, err := s.Runs.Get(ctx, id)
	return &r, err
}

// ShowMove shows a run that moves contents.
func (s *Edges) ShowMove(ctx context.Context, id int64) (m model.ContentsMove, err error) {
	r, err := s.Runs.Read(ctx, id, RunKind, nil, &m)
	m.Run = &r
	return m, err
}

// moves reports whether a run is about a file.
func moves(f offload.File, policy *offload.Policy, off bool) bool {
	if off {
		return !f.Stub && f.Size >= offload.Least && (policy.Never == nil || !policy.Never(f.Path))
	}
	return f.Stub
}

// count counts what a run would be about.
func (s *Edges) count(ctx context.Context, set *model.ReplicaSet, r *model.Replica, of string, off bool) (m model.ContentsMove, err error) {
	m = model.ContentsMove{Set: set.Name, Edge: r.Name, Path: of, Offload: off}
	t, err := s.Open(ctx, r.Target())
	if err != nil {
		return m, s.Explain(ctx, r.Server, err)
	}
	defer t.Close()
	if _, err := t.Stat(ctx, of); err != nil {
		return m, fault.Field("path", "check the spelling, or see where it is: bspan cloud where "+set.Name+" PATH", "%s has nothing at %s", r.Name, of).Because(err)
	}
	policy := PolicyOf(r.Edge)
	err = Files(ctx, t, of, nil, func(f offload.File) error {
		if moves(f, &policy, off) {
			m.Files++
			m.Bytes += max(f.Allocated, f.Size)
		}
		return nil
	})
	space, bad := t.Space(ctx)
	if bad == nil && !off && m.Bytes > space.Free {
		return m, fault.Field("path", "choose a smaller folder, or let other files become stubs first", "%d bytes would be fetched, and %s has %d free", m.Bytes, r.Name, space.Free)
	}
	return m, err
}

// work does a run.
func (s *Edges) work(ctx context.Context, j *jobs.Job) error {
	var asked settings
	if err := j.Settings(&asked); err != nil {
		return err
	}
	set, err := s.cloudSet(ctx, asked.Set)
	if err != nil {
		return err
	}
	r, err := sets.FindReplica(&set, asked.Edge)
	if err != nil {
		return err
	}
	m, err := s.count(ctx, &set, r, asked.Path, asked.Offload)
	if err != nil {
		return err
	}
	w := &mover{Edges: s, job: j, settings: asked, whole: m.Bytes, found: model.ContentsMove{Set: set.Name, Edge: r.Name, Path: asked.Path, Offload: asked.Offload, Files: m.Files, Bytes: m.Bytes}}
	if err := w.open(ctx, &set, r); err != nil {
		return s.Explain(ctx, r.Server, err)
	}
	defer w.close()
	if err := w.all(ctx, PolicyOf(r.Edge)); err != nil {
		return err
	}
	return j.Finish(w.found)
}

// mover does one run.
type mover struct {
	*Edges
	settings
	job    *jobs.Job
	edge   *model.Replica
	hub    *model.Replica
	tree   tree.Tree
	bucket tree.Tree
	engine *replication.Engine
	whole  int64

	mu    sync.Mutex // of what follows
	found model.ContentsMove
	done  int64 // bytes
}

func (w *mover) open(ctx context.Context, set *model.ReplicaSet, r *model.Replica) (err error) {
	w.edge, w.hub = r, &set.Replicas[0]
	if w.tree, err = w.OpenReplica(ctx, r); err != nil {
		return err
	}
	if w.bucket, err = w.OpenReplica(ctx, w.hub); err != nil {
		return errors.Join(err, w.tree.Close())
	}
	store := w.DB.Replication()
	w.engine = &replication.Engine{Set: set.Name, Now: sets.Now, Store: store, Replicas: []*replication.Replica{
		{ID: replica.ID(w.hub.ID), Name: w.hub.Name, Tree: w.bucket}, {ID: replica.ID(r.ID), Name: r.Name, Tree: w.tree}}}
	return nil
}

func (w *mover) close() { _ = errors.Join(w.tree.Close(), w.bucket.Close()) }

// sideBySide is how many files a run moves at a time.
const sideBySide = 4

func (w *mover) all(ctx context.Context, policy offload.Policy) error {
	group, run := guard.WithContext(ctx)
	group.SetLimit(sideBySide)
	err := Files(run, w.tree, w.Path, nil, func(f offload.File) error {
		if moves(f, &policy, w.Offload) {
			group.Go(func() error { return w.one(run, f) })
		}
		return run.Err()
	})
	return errors.Join(group.Wait(), err)
}

// one moves the content of one file. What has to wait, or cannot be done, is told with the result.
func (w *mover) one(ctx context.Context, f offload.File) error {
	freed, err := int64(0), error(nil)
	if w.Offload {
		freed, err = w.engine.Offload(ctx, replica.ID(w.edge.ID), replica.ID(w.hub.ID), f.Path)
	} else {
		err = w.fetch(ctx, f)
	}
	if ctx.Err() != nil || errors.Is(err, tree.ErrUnreachable) || errors.Is(err, tree.ErrNoSpace) {
		return errors.Join(ctx.Err(), w.Explain(ctx, w.edge.Server, err))
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.Offload {
		w.done += f.Size
	}
	if err != nil {
		w.found.Failed++
		if len(w.found.Problems) < mostProblems {
			w.found.Problems = append(w.found.Problems, model.ContentProblem{Path: f.Path, Problem: sets.Words(err)})
		}
	} else {
		w.found.Moved++
		w.found.MovedBytes += max(freed, 0)
		if !w.Offload {
			w.found.MovedBytes += f.Size
		}
	}
	w.job.Progress(w.found.Moved, w.done, float64(w.done)/float64(max(w.whole, 1)))
	return nil
}

// fetchedAtOnce is how much of a file is fetched between two reports of progress.
const fetchedAtOnce = 64 << 20

// fetch fills a stub.
func (w *mover) fetch(ctx context.Context, f offload.File) error {
	return tree.FetchParts(ctx, w.tree, f.Path, f.Size, fetchedAtOnce, func(n int64) error {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.job.Progress(w.found.Moved, w.done, float64(w.done)/float64(max(w.whole, 1)))
		w.done += n
		return nil
	})
}

// mostProblems is how many problems a run tells.
const mostProblems = 100
