package access

import (
	"context"
	"fmt"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
)

// Credentials lists sessions and tokens: those of whoever asks, or of another user, or of all when
// user is "". Those of others are administrators' business. current is the credential that
// whoever asks shows.
func (s *Service) Credentials(ctx context.Context, user string, current, after int64, limit int) ([]model.Credential, error) {
	if u, ok := Actor(ctx); !ok || u.Name != user {
		if err := Require(ctx, model.Administrator); err != nil {
			return nil, err
		}
	}
	list, err := s.db.Credentials(ctx, user, time.Now().UTC(), after, limit)
	credentials := []model.Credential{}
	for _, c := range list {
		credentials = append(credentials, toModel(c, current))
	}
	return credentials, err
}

func toModel(h records.OwnedCredential, current int64) model.Credential {
	return model.Credential{ID: h.ID, User: h.User, Kind: h.Kind, Label: h.Label, Created: h.Created, Expires: h.Expires, Used: h.Used, Address: h.Address, Current: h.ID == current}
}

// EndCredential ends a session or token: one's own, or as an administrator anybody's.
func (s *Service) EndCredential(ctx context.Context, id int64) error {
	defer s.kick()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		h, err := tx.Credential(ctx, id)
		if err != nil {
			return err
		}
		if u, ok := Actor(ctx); !ok || u.Name != h.User {
			if Require(ctx, model.Administrator) != nil {
				return fault.New(fault.NotFound, "list them again", "there is no session or token %d", id) // whose it is nobody learns
			}
		}
		if err := tx.RemoveCredential(ctx, h.Hash); err != nil {
			return err
		}
		s.holders.Remove(h.Hash)
		return tx.Record(ctx, Change(ctx, h.Kind+".end", fmt.Sprintf("%s of %s", nameOf(h), h.User), toModel(h, 0), nil), "user")
	})
}

func nameOf(h records.OwnedCredential) string {
	if h.Label == "" {
		return fmt.Sprintf("%s %d", h.Kind, h.ID)
	}
	return fmt.Sprintf("%s %d (%s)", h.Kind, h.ID, h.Label)
}
