package accounts

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/directory"
)

// Asked is a directory as it is asked about the users of its domain.
type Asked interface {
	Graph(ctx context.Context) (*directory.Graph, error)
	Member(ctx context.Context, g *directory.Graph, s account.SID) (directory.Member, error)
	Users(ctx context.Context, g *directory.Graph, after directory.Mark) iter.Seq2[directory.Users, error]
	Host() string
	Close() error
}

// domain is a domain whose groups are known and whose directory can be asked.
type domain struct {
	graph *directory.Graph
	asked Asked
}

// groupsOf are the groups of a user that count at a server: what the domain's
// controllers call their own groups (Administrators, Backup Operators …) says
// nothing elsewhere.
func (d *domain) groupsOf(m directory.Member) []directory.Membership {
	return slices.DeleteFunc(d.graph.GroupsOf(m.SID, m.Direct), func(m directory.Membership) bool { return m.Group.In(account.Builtin) })
}

// domain connects to the directory of a domain, once for each At, and reads
// its groups; or says what is missing for that.
func (s *Service) domain(ctx context.Context, at *At, realm account.Realm) (*domain, string, error) {
	if d, ok := at.domains[realm.SID]; ok {
		return d, "", nil
	}
	known, found, err := s.directoryOf(ctx, realm.SID)
	if err != nil {
		return nil, "", err
	}
	if !found {
		return nil, fmt.Sprintf("groups of the domain %s are not known: add its directory with: bspan directory add", realm.Name), nil
	}
	conn, err := s.dial(ctx, known)
	if err != nil {
		var e *fault.Error
		if errors.As(err, &e) && e.Kind == fault.Unavailable {
			return nil, e.Problem, nil
		}
		return nil, "", err
	}
	g, ok := s.graphs.Get(realm.Name)
	if !ok {
		if g, err = conn.Graph(ctx); err != nil {
			conn.Close()
			if errors.Is(err, directory.ErrUnreachable) {
				return nil, err.Error(), nil
			}
			return nil, "", err
		}
		s.graphs.Add(realm.Name, g)
	}
	if at.domains == nil {
		at.domains = map[account.SID]*domain{}
	}
	d := &domain{g, conn}
	at.domains[realm.SID] = d
	return d, "", nil
}

// Close ends the connections to directories that were made for it.
func (at *At) Close() {
	if at == nil {
		return
	}
	for _, d := range at.domains {
		d.asked.Close()
	}
	at.domains = nil
}
