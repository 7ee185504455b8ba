package sets

import (
	"cmp"
	"context"
	"log/slog"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/estate"
)

// PhysicallyApart returns a fault when a replica lies inside or around another one, of its
// set or of any other, though it is reached by another name of its server, or through
// another share. Where a server does not say where its shares lie, only the mark of a
// replica tells, which is found when it is looked at.
func (s *Base) PhysicallyApart(ctx context.Context, set *model.ReplicaSet) error {
	sets, err := s.DB.ReplicaSets(ctx, records.All)
	if err != nil {
		return err
	}
	type placed struct {
		replica *model.Replica
		set     string // "" is the set itself
		at      estate.Physical
	}
	var all []placed
	find := func(r *model.Replica, of string) {
		at, err := s.Estate.Physical(ctx, r.Target())
		if err != nil {
			slog.Debug("where a replica lies on its machine is not known", "replica", r.Target().String(), "error", err)
			return
		}
		all = append(all, placed{r, of, at})
	}
	for i := range sets {
		if sets[i].ID == set.ID {
			continue
		}
		for k := range sets[i].Replicas {
			find(&sets[i].Replicas[k], sets[i].Name)
		}
	}
	for i := range set.Replicas {
		r := &set.Replicas[i]
		before := len(all)
		if find(r, ""); len(all) == before {
			continue
		}
		mine := all[before]
		for _, other := range all[:before] {
			how := mine.at.Relation(other.at)
			if how == "" {
				continue
			}
			of := ""
			if other.set != "" {
				of = " of the set " + other.set
			}
			return fault.Field(Field(i, "share"), "choose a folder that is not inside or around it", "%s is %s %s%s: both lie on one machine, in %s and %s", r.Target(), how, other.replica.Target(), of,
				cmp.Or(mine.at.Path, "/"), cmp.Or(other.at.Path, "/"))
		}
	}
	return nil
}
