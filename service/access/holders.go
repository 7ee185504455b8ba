package access

import (
	"context"
	"crypto/sha256"
	"log/slog"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"bridgespan/core/fault"
	"bridgespan/records"
)

// Credentials are remembered for a moment, so that not every request waits for
// the database: one that is ended elsewhere is refused after holderFor at the
// latest, one that is ended here at once. While the database is away those who
// were signed in stay so, as nothing can change there meanwhile.
const (
	holderFor         = time.Second
	holderWithoutData = 15 * time.Minute
	mostHolders       = 10000
)

// holder is who shows a credential, as read at a time.
type holder struct {
	account    records.Account
	credential records.Credential
	read       time.Time
}

// holders is by the hash of the credential.
type holders struct {
	*lru.Cache[[32]byte, holder]
	asking *singleflight.Group
}

func newHolders() holders {
	cache, err := lru.New[[32]byte, holder](mostHolders)
	if err != nil { // a bound that is no number of things; ours is one
		panic(err)
	}
	return holders{cache, &singleflight.Group{}}
}

// Holder finds who shows a credential, and notes that it is used from an address.
func (s *Service) Holder(ctx context.Context, secret, from string) (records.Account, records.Credential, error) {
	return s.holders.find(ctx, sha256.Sum256([]byte(secret)), time.Now().UTC(), func(ctx context.Context, hash [32]byte, now time.Time) (records.Account, records.Credential, error) {
		account, c, err := s.db.Holder(ctx, hash, now)
		if err == nil && from != "" && (now.Sub(c.Used) >= usedEvery || c.Address != from) {
			if err := s.db.CredentialUsed(ctx, hash, now, from); err != nil {
				slog.Debug("that a credential is used was not noted", "error", err)
			}
		}
		return account, c, err
	})
}

// HolderNow is Holder past what is remembered.
func (s *Service) HolderNow(ctx context.Context, secret string) (records.Account, records.Credential, error) {
	s.holders.Remove(sha256.Sum256([]byte(secret)))
	return s.Holder(ctx, secret, "")
}

// usedEvery is how often it is noted that a credential is used.
const usedEvery = time.Minute

func (h holders) find(ctx context.Context, hash [32]byte, now time.Time, ask func(context.Context, [32]byte, time.Time) (records.Account, records.Credential, error)) (records.Account, records.Credential, error) {
	known, ok := h.Get(hash)
	ok = ok && known.credential.Expires.After(now)
	if ok && now.Sub(known.read) < holderFor {
		return known.account, known.credential, nil
	}
	// Of many requests at once one asks, and the others wait for its answer.
	answer, err, _ := h.asking.Do(string(hash[:]), func() (any, error) {
		account, credential, err := ask(context.WithoutCancel(ctx), hash, now)
		return holder{account, credential, now}, err
	})
	found, _ := answer.(holder)
	switch {
	case err == nil:
		h.Add(hash, found)
	case fault.KindOf(err) == fault.SignIn:
		h.Remove(hash)
	case ok && fault.KindOf(err) == fault.Unavailable && now.Sub(known.read) < holderWithoutData:
		return known.account, known.credential, nil
	}
	return found.account, found.credential, err
}
