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
	recs, err := s.records(ctx, &set, w.Path)
	if err != nil {
		return w, err
	}
	for i := range w.Places {
		w.Places[i].Current = recs[i].Version.Compare(recs[0].Version) == replica.Equal && recs[i].Kind == recs[0].Kind
	}
	if !found(w.Places) {
		return w, fault.Field("path", "check the spelling; list the folder with: bspan replica compare", "%s has nothing at %s, neither in the bucket nor at an edge", set.Name, w.Path)
	}
	return w, nil
}

// records are what is known of a path at each replica, in the order of the set.
func (s *Edges) records(ctx context.Context, set *model.ReplicaSet, path string) ([]replica.Record, error) {
	list := make([]replica.Record, len(set.Replicas))
	for i := range list {
		recs, err := s.DB.Replication().Get(ctx, replica.ID(set.Replicas[i].ID), tree.Key(path, false))
		if err != nil {
			return nil, err
		}
		list[i] = recs[0]
	}
	return list, nil
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
