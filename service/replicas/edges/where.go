package edges

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// cloudSet finds a cloud set.
func (s *Edges) cloudSet(ctx context.Context, name string) (model.ReplicaSet, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err == nil && !set.IsCloudSet() {
		err = fault.New(fault.Needed, "list the cloud sets with: bspan cloud list", "%s is no cloud set: not a hub whose first replica is a bucket", set.Name)
	}
	return set, err
}

// checkPath checks a path within a set; "" and "/" are the top.
func checkPath(field, name string) (string, error) {
	name = strings.Trim(name, "/")
	if name == "" {
		return ".", nil
	}
	if err := namespace.CheckPath(field, name); err != nil {
		return "", err
	}
	if tree.Reserved(name) {
		return "", fault.Field(field, "choose another path", "%q is where Bridge Span keeps what is its own", name)
	}
	return path.Clean(name), nil
}

// Where tells where the content of a path is now, in the bucket and at each edge.
func (s *Edges) Where(ctx context.Context, name, of string) (w model.Whereabouts, err error) {
	set, err := s.cloudSet(ctx, name)
	if err != nil {
		return w, err
	}
	if w.Path, err = checkPath("path", of); err != nil {
		return w, err
	}
	w.Places = make([]model.PlaceOfContent, len(set.Replicas))
	var all guard.WaitGroup
	for i := range set.Replicas {
		all.Go(func() { w.Places[i] = s.at(ctx, &set.Replicas[i], w.Path) })
	}
	all.Wait()
	recs, err := s.DB.Replication().Get(ctx, replica.ID(set.Replicas[0].ID), tree.Key(w.Path, false))
	if err != nil {
		return w, err
	}
	current := recs[0]
	for i := range w.Places {
		p := &w.Places[i]
		own, err := s.DB.Replication().Get(ctx, replica.ID(set.Replicas[i].ID), tree.Key(w.Path, false))
		if err != nil {
			return w, err
		}
		p.Current = own[0].Version.Compare(current.Version) == replica.Equal && own[0].Kind == current.Kind
	}
	if !found(w.Places) {
		return w, fault.Field("path", "check the spelling; list the folder with: bspan replica compare", "%s has nothing at %s, neither in the bucket nor at an edge", set.Name, w.Path)
	}
	return w, nil
}

func found(places []model.PlaceOfContent) bool {
	for _, p := range places {
		if p.Content != model.ContentNowhere {
			return true
		}
	}
	return false
}

// at looks for the content of a path at a replica.
func (s *Edges) at(ctx context.Context, r *model.Replica, name string) model.PlaceOfContent {
	p := model.PlaceOfContent{Replica: r.Name, Server: r.Server, Bucket: r.Swept, Content: model.ContentUnknown}
	t, err := s.Open(ctx, r.Target())
	if err != nil {
		p.Problem = sets.Words(s.Explain(ctx, r.Server, err))
		return p
	}
	defer t.Close()
	e, err := t.Stat(ctx, name)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, tree.ErrKind):
		p.Content = model.ContentNowhere
		return p
	case err != nil:
		p.Problem = sets.Words(s.Explain(ctx, r.Server, err))
		return p
	}
	p.Content, p.Size, p.Allocated = model.ContentWhole, e.Size, e.Allocated
	if !e.Modified.IsZero() {
		at := e.Modified.UTC()
		p.Modified = &at
	}
	switch {
	case e.Kind == tree.Folder:
		p.Content = model.ContentFolder
	case e.Residency == tree.Stub:
		p.Content = model.ContentStub
	}
	return p
}
