// Package sets is what all that is done about replica sets begins with: it reads, drafts and
// checks their records, opens their replicas in the accounts of the set, and says things in the
// words of people.
package sets

import (
	"context"
	"fmt"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/tree"
)

// Base is what each part of the use case works with.
type Base struct {
	DB      *records.DB
	Estate  *estate.Service
	People  *accounts.Service
	Runs    *jobs.Service
	Changed func()        // is called after every change
	Wake    chan struct{} // lets the workers look at what changed
}

// Topic of the events about sets; the subject is the name.
const Topic = "replica"

// LookTopic is that of wishes to have a set looked at; the subject is its name.
const LookTopic = "look"

func Now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// Change changes records, and tells the keepers.
func (s *Base) Change(ctx context.Context, do func(tx *records.Tx) error) error {
	defer func() {
		s.Changed()
		s.kick()
	}()
	return s.DB.Change(ctx, do)
}

// Free returns a fault when a replica lies inside or around that of another set.
func (s *Base) Free(ctx context.Context, q records.Queries, set model.ReplicaSet) error {
	for i, r := range set.Replicas {
		there, sets, err := q.ReplicasAt(ctx, r.Server, r.Share)
		if err != nil {
			return err
		}
		for k, other := range there {
			if sets[k] != set.Name && Overlaps(r.Sub, other.Sub) {
				return fault.Field(Field(i, "sub"), "choose a folder that is not inside or around it", "%s is %s %s of the set %s", r.Target(), relation(r.Sub, other.Sub), other.Target(), sets[k])
			}
		}
	}
	return nil
}

func Field(i int, name string) string { return fmt.Sprintf("replicas[%d].%s", i, name) }

// Open opens a folder of a share; the caller must close it.
func (s *Base) Open(ctx context.Context, target namespace.Target) (tree.Tree, error) {
	return s.Estate.Open(ctx, target)
}

// WithoutAccounts reports whether a server is a host where a mover runs. It keeps
// permissions as a set has them: nobody signs in there.
func (s *Base) WithoutAccounts(ctx context.Context, server string) bool {
	v, err := s.DB.Server(ctx, server)
	return err == nil && !v.Can(model.HasAccounts)
}

// AccountsAt is the server whose accounts permissions at a server name: itself, or the file server beside a mover; "" when
// nobody signs in there.
func (s *Base) AccountsAt(ctx context.Context, server string) string {
	v, err := s.DB.Server(ctx, server)
	if err == nil && !v.Can(model.HasAccounts) {
		return v.Beside
	}
	return server
}

// Explain says what an error of a server means, and what to do about it.
func (s *Base) Explain(ctx context.Context, server string, err error) error {
	if err == nil {
		return nil
	}
	v, bad := s.DB.Server(ctx, server)
	if bad != nil {
		return err
	}
	return estate.Unavailable(v, err)
}

// Look makes the replicas of a set be looked at now: all, or one that is named.
func (s *Base) Look(ctx context.Context, name, of string) error {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return err
	}
	var id int64
	if of != "" {
		r, err := FindReplica(&set, of)
		if err != nil {
			return err
		}
		id = r.ID
	}
	if err := s.DB.WantLook(ctx, set.ID, id); err != nil {
		return err
	}
	defer s.Changed()
	return s.DB.Tell(ctx, LookTopic, set.Name, Now())
}

func Ring(bell chan struct{}) {
	select {
	case bell <- struct{}{}:
	default:
	}
}

func (s *Base) kick() { Ring(s.Wake) }
