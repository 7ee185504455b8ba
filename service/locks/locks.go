// Package locks shows administrators which write locks people hold at the gateway, and
// ends those that are in the way.
package locks

import (
	"context"
	"fmt"
	"time"

	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	changed func()
}

// New makes the service. changed is called after every change.
func New(db *records.DB, changed func()) *Service { return &Service{db, changed} }

// List lists the locks that are held, in the order in which they were taken: those whose
// path or account contains a text, after the one that is numbered after.
func (s *Service) List(ctx context.Context, text string, after int64, limit int) ([]model.GatewayLock, error) {
	held, err := s.db.GatewayLocksAfter(ctx, text, time.Now().UTC(), after, limit)
	list := []model.GatewayLock{}
	for _, l := range held {
		list = append(list, shown(l))
	}
	return list, err
}

// shown leaves out the token: with it others could act for whoever holds the lock.
func shown(l records.KeptLock) model.GatewayLock {
	return model.GatewayLock{ID: l.ID, Path: l.Path, Account: l.Account, Shared: l.Shared, Deep: l.Deep, Since: l.Since, Until: l.Until}
}

// End ends a lock, whoever holds it.
func (s *Service) End(ctx context.Context, id int64) error {
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		l, err := tx.GatewayLock(ctx, id, time.Now().UTC())
		if err != nil {
			return err
		}
		if err := tx.EndGatewayLock(ctx, l.Token); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "lock.end", fmt.Sprintf("%s, held by %s", l.Path, l.Account), shown(l), nil), "lock")
	})
}
