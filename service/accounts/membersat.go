package accounts

import (
	"context"

	"bridgespan/core/account"
	"bridgespan/directory"
)

// membersAt asks for the direct members of many groups of a server and of its
// domains: each domain is asked over one connection.
type membersAt struct {
	service *Service
	at      *At
	asked   map[account.SID]*directory.Directory // of domains, by number; nil when one cannot be asked
}

func (s *Service) membersAt(at *At) *membersAt {
	return &membersAt{s, at, map[account.SID]*directory.Directory{}}
}

func (m *membersAt) close() {
	for _, conn := range m.asked {
		if conn != nil {
			conn.Close()
		}
	}
}

// of lists the direct members of a group. known is false when nobody can tell.
func (m *membersAt) of(ctx context.Context, group account.SID) (list []account.SID, known bool, err error) {
	groups, err := m.at.localGroups(ctx)
	if err != nil {
		return nil, false, err
	}
	for _, g := range groups {
		if g.SID == group {
			return g.Members, true, nil
		}
	}
	for _, r := range m.at.realms {
		if !r.Domain || !group.In(r.SID) {
			continue
		}
		conn, err := m.domain(ctx, r.SID)
		if err != nil || conn == nil {
			return nil, false, err
		}
		found, err := conn.BySID(ctx, group)
		if err != nil {
			return nil, false, err
		}
		members, err := conn.Members(ctx, found)
		for _, a := range members {
			list = append(list, a.SID)
		}
		return list, true, err
	}
	return nil, false, nil
}

func (m *membersAt) domain(ctx context.Context, sid account.SID) (*directory.Directory, error) {
	if conn, ok := m.asked[sid]; ok {
		return conn, nil
	}
	d, known, err := m.service.directoryOf(ctx, sid)
	if err != nil || !known {
		m.asked[sid] = nil
		return nil, err
	}
	m.asked[sid], err = m.service.dial(ctx, d)
	return m.asked[sid], err
}
