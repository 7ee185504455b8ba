package replicas

import (
	"context"
	"errors"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// folders makes the folders of replicas, and remembers which it made.
type folders struct {
	*Service
	made *[]madeFolder
	// keep keeps what is remembered, before a folder is made.
	keep func(context.Context) error
}

// madeFolder is a folder that was missing, noted before it is made.
type madeFolder struct {
	Target namespace.Target `json:"target"` // of the share
	Name   string           `json:"name"`   // within the share
}

// make makes the folder of a replica when it is missing, and says what it did.
func (f *folders) make(ctx context.Context, set *model.ReplicaSet, i int) (string, error) {
	r := &set.Replicas[i]
	share := namespace.Target{Server: r.Server, Share: r.Share}
	top, err := f.Open(ctx, share)
	if err != nil {
		return "", fault.At(sets.Field(i, "server"), err)
	}
	defer top.Close()
	missing, err := sets.MissingFolders(ctx, top, r.Sub)
	if err != nil {
		return "", fault.At(sets.Field(i, "sub"), f.Explain(ctx, r.Server, err))
	}
	if len(missing) == 0 && !slices.Contains(*f.made, madeFolder{share, r.Sub}) {
		return "it is there already, and stays as it is", nil
	}
	for _, name := range missing {
		*f.made = append(*f.made, madeFolder{share, name})
		if err := f.keep(ctx); err != nil {
			return "", err
		}
		if err := top.Mkdir(ctx, name); err != nil {
			return "", fault.At(sets.Field(i, "sub"), f.Explain(ctx, r.Server, err))
		}
	}
	if err := f.permit(ctx, set, r, top); err != nil {
		return "", fault.At(sets.Field(i, "rights"), f.Explain(ctx, r.Server, err))
	}
	return sets.Count(int64(len(missing)), "folder was made", "folders were made"), nil
}

// remove removes the folders that were made for a replica and are empty.
func (f *folders) remove(ctx context.Context, r *model.Replica) error {
	share := namespace.Target{Server: r.Server, Share: r.Share}
	mine := func(m madeFolder) bool { return m.Target == share && sets.Overlaps(m.Name, r.Sub) }
	if !slices.ContainsFunc(*f.made, mine) {
		return nil
	}
	top, err := f.Open(ctx, share)
	if err != nil {
		return err
	}
	defer top.Close()
	for _, m := range slices.Backward(*f.made) {
		if !mine(m) {
			continue
		}
		if err := top.Remove(ctx, m.Name); err != nil && !sets.IsMissing(err) && !errors.Is(err, tree.ErrNotEmpty) {
			return err
		}
	}
	*f.made = slices.DeleteFunc(*f.made, mine)
	return nil
}

// all makes the folders of the replicas of a set that are new, or none of them.
func (f *folders) all(ctx context.Context, set *model.ReplicaSet) error {
	for i := range set.Replicas {
		if r := &set.Replicas[i]; r.ID != 0 || r.Sub == "" || records.Rehearsing(ctx) {
			continue
		}
		if _, err := f.make(ctx, set, i); err != nil {
			return errors.Join(err, f.none(context.WithoutCancel(ctx), set))
		}
	}
	return nil
}

// none removes all that was made and is empty.
func (f *folders) none(ctx context.Context, set *model.ReplicaSet) (err error) {
	for i := range set.Replicas {
		err = errors.Join(err, f.remove(ctx, &set.Replicas[i]))
	}
	return err
}

// permit gives the folder of a replica, which was made, the permissions that were
// asked for. Its owner stays whoever made it.
func (s *Service) permit(ctx context.Context, set *model.ReplicaSet, r *model.Replica, top tree.Tree) error {
	if r.Rights == "" || r.Rights == sets.RightsInherit {
		return nil
	}
	wanted, err := s.rightsFor(ctx, set, r)
	if err != nil {
		return err
	}
	made, err := top.Descriptor(ctx, r.Sub)
	if err != nil {
		return err
	}
	parts, given := made.Parts(), wanted.Parts()
	parts.DACL, parts.Control = given.DACL, given.Control
	if made, err = parts.Descriptor(); err != nil {
		return err
	}
	return top.Apply(ctx, r.Sub, tree.Meta{Descriptor: made})
}

// rightsFor are the permissions that a replica's folder is to have, in the
// accounts of its server.
func (s *Service) rightsFor(ctx context.Context, set *model.ReplicaSet, r *model.Replica) (acl.Descriptor, error) {
	if r.Rights != sets.RightsOfSeed {
		return acl.Parse(r.Rights)
	}
	seed := &set.Replicas[slices.IndexFunc(set.Replicas, func(other model.Replica) bool { return other.Seed })]
	t, err := s.OpenReplica(ctx, seed)
	if err != nil {
		return acl.Descriptor{}, err
	}
	defer t.Close()
	d, err := t.Descriptor(ctx, ".")
	if err != nil {
		return d, err
	}
	// What the seed's folder inherits would be inherited from another one here.
	if d, err = d.Parts().Protect(true).Descriptor(); err != nil {
		return d, err
	}
	return d.Translate(account.Swap(r.Accounts))
}
