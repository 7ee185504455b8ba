package smbadmin

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"bridgespan/core/account"
	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/smbadmin/internal/rpc"
)

var accountManager = rpc.Interface{Pipe: "samr", Major: 1, UUID: uuid(0x12345778, 0x1234, 0xabcd, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67, 0x89, 0xac)}

// Numbers of the procedures ([MS-SAMR] 3.1.5).
const (
	callSamClose           = 1
	callSamLookupDomain    = 5
	callSamEnumDomains     = 6
	callSamOpenDomain      = 7
	callSamCreateAlias     = 14
	callSamEnumAliases     = 15
	callSamAliasMembership = 16
	callSamOpenAlias       = 27
	callSamDeleteAlias     = 30
	callSamAddMember       = 31
	callSamRemoveMember    = 32
	callSamMembers         = 33
	callSamOpenUser        = 34
	callSamDeleteUser      = 35
	callSamUserGroups      = 39
	callSamQueryDisplay    = 40
	callSamCreateUser      = 50
	callSamConnect         = 57
	callSamSetUser         = 58
)

// LocalUser is a user account of a server itself.
type LocalUser struct {
	SID      account.SID
	Name     string
	FullName string
	Note     string
	Disabled bool
}

// LocalGroup is a group of a server itself.
type LocalGroup struct {
	SID     account.SID
	Name    string
	Members []account.SID
}

// sam is an open account database.
type sam struct {
	*conversation
	server handle
}

func (a *Admin) withSAM(ctx context.Context, do func(*sam) error) error {
	return a.talk(ctx, accountManager, func(c *conversation) error {
		s := &sam{conversation: c}
		status, err := c.call(callSamConnect, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.U32(mostRights)
		}, func(r *ndr.Reader) { s.server = readHandle(r) })
		if err := check("open the accounts", status, err); err != nil {
			return err
		}
		defer c.close(callSamClose, s.server)
		return do(s)
	})
}

// domains lists the parts of the database: the machine's own, and Builtin.
func (s *sam) domains() (sids []account.SID, err error) {
	var names []string
	status, err := s.call(callSamEnumDomains, func(w *ndr.Writer) {
		w.Raw(s.server[:])
		w.U32(0)
		w.U32(0xFFFF)
	}, func(r *ndr.Reader) {
		r.U32()
		_, names = readRelatives(r)
	})
	if err := check("list account domains", status, err); err != nil {
		return nil, err
	}
	for _, name := range names {
		var sid account.SID
		status, err := s.call(callSamLookupDomain, func(w *ndr.Writer) {
			w.Raw(s.server[:])
			w.Name(name)
			w.Flush()
		}, func(r *ndr.Reader) {
			if r.Pointer() {
				sid = r.SID()
			}
		})
		if err := check("find account domain "+name, status, err); err != nil {
			return nil, err
		}
		sids = append(sids, sid)
	}
	return sids, nil
}

// readRelatives reads a pointer to a list of relative ids with names.
func readRelatives(r *ndr.Reader) (relatives []uint32, names []string) {
	if !r.Pointer() {
		return nil, nil
	}
	r.U32()
	if !r.Pointer() {
		return nil, nil
	}
	n := r.Count(12)
	relatives = make([]uint32, n)
	contents := make([]func() string, n)
	for i := range n {
		relatives[i], contents[i] = r.U32(), r.Name()
	}
	for _, content := range contents {
		names = append(names, content())
	}
	return relatives, names
}

// inDomain opens a part of the database.
func (s *sam) inDomain(domain account.SID, do func(handle) error) error {
	return s.opened("open the accounts of "+domain.String(), callSamOpenDomain, func(w *ndr.Writer) {
		w.Raw(s.server[:])
		w.U32(mostRights)
		w.SID(domain)
	}, do)
}

func (s *sam) opened(what string, procedure uint16, write func(*ndr.Writer), do func(handle) error) error {
	var h handle
	status, err := s.call(procedure, write, func(r *ndr.Reader) { h = readHandle(r) })
	if err := check(what, status, err); err != nil {
		return err
	}
	defer s.close(callSamClose, h)
	return do(h)
}

func (s *sam) openRelative(what string, procedure uint16, domain handle, relative uint32, do func(handle) error) error {
	return s.opened(what, procedure, func(w *ndr.Writer) {
		w.Raw(domain[:])
		w.U32(mostRights)
		w.U32(relative)
	}, do)
}

// Users lists the user accounts of the server itself.
func (a *Admin) Users(ctx context.Context) (users []LocalUser, err error) {
	return users, a.withSAM(ctx, func(s *sam) error {
		domains, err := s.domains()
		if err != nil {
			return err
		}
		for _, domain := range domains {
			if domain == account.Builtin {
				continue
			}
			if err := s.inDomain(domain, func(h handle) error {
				return s.displayed(h, func(u LocalUser, relative uint32) {
					u.SID = domain.Child(relative)
					users = append(users, u)
				})
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// displayBatch is how many users are listed at once.
const displayBatch = 1000

// displayed lists users with what is shown of them ([MS-SAMR] 3.1.5.3.1).
func (s *sam) displayed(domain handle, add func(LocalUser, uint32)) error {
	for start := uint32(0); ; {
		got := uint32(0)
		status, err := s.call(callSamQueryDisplay, func(w *ndr.Writer) {
			w.Raw(domain[:])
			w.U16(1)
			w.U32(start)
			w.U32(displayBatch)
			w.U32(0xFFFFF)
		}, func(r *ndr.Reader) { got = readDisplay(r, add) })
		if status == statusMoreEntries && got > 0 {
			start += got
			continue
		}
		return check("list users", status, err)
	}
}

func readDisplay(r *ndr.Reader, add func(LocalUser, uint32)) uint32 {
	r.U32()
	r.U32()
	r.U16()
	r.U32()
	if !r.Pointer() {
		return 0
	}
	n := r.Count(36)
	type row struct {
		relative, flags uint32
		texts           [3]func() string
	}
	rows := make([]row, n)
	for i := range rows {
		r.U32()
		rows[i] = row{relative: r.U32(), flags: r.U32()}
		for k := range rows[i].texts {
			rows[i].texts[k] = r.Name()
		}
	}
	for _, row := range rows {
		name, note, full := row.texts[0](), row.texts[1](), row.texts[2]()
		if r.Err() == nil {
			add(LocalUser{Name: name, Note: note, FullName: full, Disabled: row.flags&1 != 0}, row.relative)
		}
	}
	return uint32(n)
}

// Groups lists the groups of the server itself with their members.
func (a *Admin) Groups(ctx context.Context) (groups []LocalGroup, err error) {
	return groups, a.withSAM(ctx, func(s *sam) error {
		domains, err := s.domains()
		if err != nil {
			return err
		}
		for _, domain := range domains {
			if err := s.inDomain(domain, func(h handle) error {
				list, err := s.aliases(h, domain)
				groups = append(groups, list...)
				return err
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *sam) aliases(h handle, domain account.SID) ([]LocalGroup, error) {
	var groups []LocalGroup
	for resume := uint32(0); ; {
		var relatives []uint32
		var names []string
		status, err := s.call(callSamEnumAliases, func(w *ndr.Writer) {
			w.Raw(h[:])
			w.U32(resume)
			w.U32(0xFFFF)
		}, func(r *ndr.Reader) {
			resume = r.U32()
			relatives, names = readRelatives(r)
		})
		more := status == statusMoreEntries && len(relatives) > 0
		if more {
			status = 0
		}
		if err := check("list groups", status, err); err != nil {
			return nil, err
		}
		for i, relative := range relatives {
			g := LocalGroup{SID: domain.Child(relative), Name: names[i]}
			if err := s.openRelative("open group "+g.Name, callSamOpenAlias, h, relative, func(alias handle) error {
				g.Members, err = s.members(g.Name, alias)
				return err
			}); err != nil {
				return nil, err
			}
			groups = append(groups, g)
		}
		if !more {
			return groups, nil
		}
	}
}

func (s *sam) members(name string, alias handle) (members []account.SID, err error) {
	status, err := s.call(callSamMembers, func(w *ndr.Writer) { w.Raw(alias[:]) }, func(r *ndr.Reader) { members = readMembers(r) })
	return members, check("list members of "+name, status, err)
}

func readMembers(r *ndr.Reader) (members []account.SID) {
	r.U32()
	if !r.Pointer() {
		return nil
	}
	n := r.Count(4)
	pointers := make([]bool, n)
	for i := range n {
		pointers[i] = r.Pointer()
	}
	for _, there := range pointers {
		if there {
			members = append(members, r.SID())
		}
	}
	return members
}

// GroupsOf lists the groups of the server itself that hold any of the accounts
// given directly; for a user of the server, give the user's SID: its own
// groups count as well.
func (a *Admin) GroupsOf(ctx context.Context, sids []account.SID) (groups []account.SID, err error) {
	return groups, a.withSAM(ctx, func(s *sam) error {
		domains, err := s.domains()
		if err != nil {
			return err
		}
		held := sids
		for _, domain := range domains {
			for _, one := range sids {
				if !one.In(domain) || domain == account.Builtin {
					continue
				}
				own, err := s.userGroups(domain, one)
				if err != nil {
					return err
				}
				groups = append(groups, own...)
			}
		}
		held = append(held[:len(held):len(held)], groups...)
		for _, domain := range domains {
			if err := s.inDomain(domain, func(h handle) error {
				relatives, err := s.membership(h, held)
				for _, relative := range relatives {
					groups = append(groups, domain.Child(relative))
				}
				return err
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// userGroups lists the groups that the machine's own domain puts a user in.
func (s *sam) userGroups(domain, user account.SID) (groups []account.SID, err error) {
	relative, _ := user.Relative()
	err = s.inDomain(domain, func(h handle) error {
		return s.openRelative("open user "+user.String(), callSamOpenUser, h, relative, func(u handle) error {
			status, err := s.call(callSamUserGroups, func(w *ndr.Writer) { w.Raw(u[:]) }, func(r *ndr.Reader) {
				if !r.Pointer() {
					return
				}
				r.U32()
				if !r.Pointer() {
					return
				}
				for range r.Count(8) {
					groups = append(groups, domain.Child(r.U32()))
					r.U32()
				}
			})
			return check("list groups of "+user.String(), status, err)
		})
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // a group, not a user
	}
	return groups, err
}

func (s *sam) membership(domain handle, sids []account.SID) (relatives []uint32, err error) {
	status, err := s.call(callSamAliasMembership, func(w *ndr.Writer) {
		w.Raw(domain[:])
		w.U32(uint32(len(sids)))
		w.Inside(func() {
			w.U32(uint32(len(sids)))
			for _, s := range sids {
				w.Inside(func() { w.SID(s) })
			}
		})
		w.Flush()
	}, func(r *ndr.Reader) {
		r.U32()
		if r.Pointer() {
			for range r.Count(4) {
				relatives = append(relatives, r.U32())
			}
		}
	})
	return relatives, check("list memberships", status, err)
}

// own finds the machine's own part of the database.
func (s *sam) own() (account.SID, error) {
	domains, err := s.domains()
	if err != nil {
		return account.SID{}, err
	}
	for _, d := range domains {
		if d != account.Builtin {
			return d, nil
		}
	}
	return account.SID{}, ErrNotOffered
}

// CreateGroup makes a group of the server itself.
func (a *Admin) CreateGroup(ctx context.Context, name string) (sid account.SID, err error) {
	return sid, a.withSAM(ctx, func(s *sam) error {
		domain, err := s.own()
		if err != nil {
			return err
		}
		return s.inDomain(domain, func(h handle) error {
			return s.opened("create group "+name, callSamCreateAlias, func(w *ndr.Writer) {
				w.Raw(h[:])
				w.Name(name)
				w.Flush()
				w.U32(mostRights)
			}, func(alias handle) error {
				sid, err = s.groupByName(h, domain, name)
				return err
			})
		})
	})
}

func (s *sam) groupByName(h handle, domain account.SID, name string) (account.SID, error) {
	groups, err := s.aliases(h, domain)
	for _, g := range groups {
		if strings.EqualFold(g.Name, name) {
			return g.SID, nil
		}
	}
	if err == nil {
		err = fs.ErrNotExist
	}
	return account.SID{}, err
}

// onGroup opens a group of the server itself.
func (a *Admin) onGroup(ctx context.Context, group account.SID, do func(*sam, handle) error) error {
	relative, _ := group.Relative()
	return a.withSAM(ctx, func(s *sam) error {
		return s.inDomain(group.Parent(), func(h handle) error {
			return s.openRelative("open group "+group.String(), callSamOpenAlias, h, relative, func(alias handle) error { return do(s, alias) })
		})
	})
}

// AddMember makes an account a member of a group of the server itself. It
// wraps fs.ErrExist when it is one already.
func (a *Admin) AddMember(ctx context.Context, group, member account.SID) error {
	return a.member(ctx, "add member", callSamAddMember, group, member)
}

// RemoveMember ends a membership.
func (a *Admin) RemoveMember(ctx context.Context, group, member account.SID) error {
	return a.member(ctx, "remove member", callSamRemoveMember, group, member)
}

func (a *Admin) member(ctx context.Context, what string, procedure uint16, group, member account.SID) error {
	return a.onGroup(ctx, group, func(s *sam, alias handle) error {
		status, err := s.call(procedure, func(w *ndr.Writer) {
			w.Raw(alias[:])
			w.SID(member)
		}, nil)
		return check(what, status, err)
	})
}

// RemoveGroup removes a group of the server itself.
func (a *Admin) RemoveGroup(ctx context.Context, group account.SID) error {
	return a.onGroup(ctx, group, func(s *sam, alias handle) error {
		status, err := s.call(callSamDeleteAlias, func(w *ndr.Writer) { w.Raw(alias[:]) }, nil)
		return check("remove group", status, err)
	})
}
