package accounts

import (
	"context"
	"iter"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/directory"
)

// Person is a user who may sign in: the name without its place, and the token
// under which they act at the server that was asked.
type Person struct {
	SID   account.SID
	Name  string
	Token *Token
}

// People is a part of everybody.
type People struct {
	List []Person
	// Upto is the mark after which the next part begins.
	Upto     Mark
	Fraction float64 // how much of everybody is listed with this part, 0 to 1
	// Missing is what could not be asked; "" when nothing is.
	Missing string
	// Anew: the list began anew, as the mark was of another directory server.
	Anew bool
}

// Mark is a place in the list of everybody.
type Mark struct {
	Server bool           `json:"server,omitempty"` // the server's own users are listed
	Domain directory.Mark `json:"domain"`
}

// home is the domain that the server belongs to; nil when there is none, or
// when missing says why it cannot be asked.
func (s *Service) home(ctx context.Context, at *At) (d *domain, missing string, err error) {
	i := slices.IndexFunc(at.realms, func(r account.Realm) bool { return r.Domain })
	if i < 0 {
		return nil, "", nil
	}
	return s.domain(ctx, at, at.realms[i])
}

// Everybody lists the users of the server itself and then those of its domain,
// part by part, with their tokens, after a mark.
func (s *Service) Everybody(ctx context.Context, at *At, after Mark) iter.Seq2[People, error] {
	return func(yield func(People, error) bool) {
		d, missing, err := s.home(ctx, at)
		if err != nil {
			yield(People{}, err)
			return
		}
		if d == nil && after.Domain.Host != "" {
			yield(People{}, fault.New(fault.Unavailable, "look at its server", "the users of its domain cannot be listed further: %s", missing))
			return
		}
		anew := d != nil && after.Domain.Host != "" && after.Domain.Host != d.asked.Host()
		if anew {
			after = Mark{}
		}
		if !after.Server {
			own, err := s.ownUsers(ctx, at)
			part := People{List: own, Upto: Mark{Server: true}, Missing: missing, Anew: anew}
			if d == nil {
				part.Fraction = 1
			}
			if !yield(part, err) || err != nil {
				return
			}
		}
		if d == nil {
			return
		}
		for users, err := range d.asked.Users(ctx, d.graph, after.Domain) {
			part := People{Upto: Mark{true, users.Upto}, Fraction: users.Fraction}
			if err == nil {
				part.List, err = s.judged(ctx, at, d, users.Members)
			}
			if !yield(part, err) || err != nil {
				return
			}
		}
	}
}

// ownUsers are the users of the server itself.
func (s *Service) ownUsers(ctx context.Context, at *At) ([]Person, error) {
	users, err := at.Admin.Users(ctx)
	if err != nil {
		return nil, err
	}
	var list []Person
	for _, u := range users {
		if u.Disabled {
			continue
		}
		t, err := s.TokenFor(ctx, at, u.SID)
		if err != nil {
			return nil, err
		}
		list = append(list, Person{u.SID, u.Name, t})
	}
	return list, nil
}

// judged makes the tokens of users of a domain.
func (s *Service) judged(ctx context.Context, at *At, d *domain, members []directory.Member) ([]Person, error) {
	list := make([]Person, 0, len(members))
	for _, m := range members {
		if m.Disabled {
			continue
		}
		t, err := s.token(ctx, at, m.SID, d.groupsOf(m))
		if err != nil {
			return nil, err
		}
		list = append(list, Person{m.SID, m.Name, t})
	}
	return list, nil
}
