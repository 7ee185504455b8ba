package replicas

import (
	"context"
	"fmt"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/estate"
	"bridgespan/tree"
)

// topic of the events about sets; the subject is the name.
const topic = "replica"

// lookTopic is that of wishes to have a set looked at; the subject is its name.
const lookTopic = "look"

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// change changes records, and tells the keepers.
func (s *Service) change(ctx context.Context, do func(tx *records.Tx) error) error {
	defer func() {
		s.changed()
		s.kick()
	}()
	return s.db.Change(ctx, do)
}

// free returns a fault when a replica lies inside or around that of another set.
func (s *Service) free(ctx context.Context, q records.Queries, set model.ReplicaSet) error {
	for i, r := range set.Replicas {
		there, sets, err := q.ReplicasAt(ctx, r.Server, r.Share)
		if err != nil {
			return err
		}
		for k, other := range there {
			if sets[k] != set.Name && overlaps(r.Sub, other.Sub) {
				return fault.Field(field(i, "sub"), "choose a folder that is not inside or around it", "%s is %s %s of the set %s", r.Target(), relation(r.Sub, other.Sub), other.Target(), sets[k])
			}
		}
	}
	return nil
}

func field(i int, name string) string { return fmt.Sprintf("replicas[%d].%s", i, name) }

// open opens a folder of a share; the caller must close it.
func (s *Service) open(ctx context.Context, target namespace.Target) (tree.Tree, error) {
	return s.estate.Open(ctx, target)
}

// withoutAccounts reports whether a server is a host where a mover runs. It keeps
// permissions as a set has them: nobody signs in there.
func (s *Service) withoutAccounts(ctx context.Context, server string) bool {
	v, err := s.db.Server(ctx, server)
	return err == nil && v.IsMover()
}

// explain says what an error of a server means, and what to do about it.
func (s *Service) explain(ctx context.Context, server string, err error) error {
	if err == nil {
		return nil
	}
	v, bad := s.db.Server(ctx, server)
	if bad != nil {
		return err
	}
	return estate.Unavailable(v, err)
}

// Look makes the replicas of a set be looked at now: all, or one that is named.
func (s *Service) Look(ctx context.Context, name, of string) error {
	set, err := s.db.ReplicaSet(ctx, name)
	if err != nil {
		return err
	}
	var id int64
	if of != "" {
		r, err := findReplica(&set, of)
		if err != nil {
			return err
		}
		id = r.ID
	}
	if err := s.db.WantLook(ctx, set.ID, id); err != nil {
		return err
	}
	defer s.changed()
	return s.db.Tell(ctx, lookTopic, set.Name, now())
}

func ring(bell chan struct{}) {
	select {
	case bell <- struct{}{}:
	default:
	}
}

func (s *Service) kick() { ring(s.wake) }
