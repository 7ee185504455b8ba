// Package history tells who changed what. Every use case records its changes
// in the transaction that makes them; nothing is ever taken out.
package history

import (
	"context"

	"bridgespan/model"
	"bridgespan/records"
)

// Service is the use case.
type Service struct{ db *records.DB }

// New makes the service.
func New(db *records.DB) *Service { return &Service{db} }

// Changes lists changes, newest first, before the number given (0 for the newest).
func (s *Service) Changes(ctx context.Context, before int64, limit int) ([]model.Change, error) {
	return s.db.Changes(ctx, before, limit)
}

// Ready returns nil when records can be read and written.
func (s *Service) Ready(ctx context.Context) error { return s.db.Ping(ctx) }
