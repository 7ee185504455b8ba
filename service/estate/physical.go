package estate

import (
	"context"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/paths"
	"bridgespan/tree"
)

// Physical is where a folder lies, by whatever names of servers and shares it is reached.
type Physical struct {
	Machine string // the same for all names of one machine
	Path    string // on the machine, with slashes, as names are compared
}

// Relation tells how a place lies to another one: "the same as", "inside", "around", or ""
// when neither holds anything of the other.
func (p Physical) Relation(other Physical) string {
	if p.Machine != other.Machine {
		return ""
	}
	return paths.Relation(p.Path, other.Path)
}

// machine is what a server told of itself.
type machine struct {
	id    string
	paths map[string]string // of shares, by their names as they are compared
	err   error             // why it told nothing
	read  time.Time
}

// machineFor is how long what a server told is good: shares are moved seldom.
const machineFor = time.Minute

// Physical finds out where a folder of a share lies. It returns a fault when the server
// does not answer, has no such share, or does not tell the account that we have there.
func (s *Service) Physical(ctx context.Context, target namespace.Target) (Physical, error) {
	m, err := s.machine(ctx, target.Server)
	if err != nil {
		return Physical{}, err
	}
	top, ok := m.paths[namespace.Key(target.Share)]
	if !ok {
		return Physical{}, fault.New(fault.NotFound, "see its shares with: bspan share list "+target.Server, "%s does not tell where the share %s lies", target.Server, target.Share)
	}
	return Physical{m.id, join(top, tree.Key(target.Sub, false))}, nil
}

// join puts a folder below another one; either may be "".
func join(top, sub string) string { return strings.Trim(top+"/"+sub, "/") }

// machine asks a server about itself, at most once a minute, also when it does not answer.
func (s *Service) machine(ctx context.Context, server string) (machine, error) {
	if m, ok := s.machines.Load(namespace.Key(server)); ok && time.Since(m.(machine).read) < machineFor {
		return m.(machine), m.(machine).err
	}
	m := machine{paths: map[string]string{}, read: time.Now()}
	if m.err = s.readMachine(ctx, server, &m); ctx.Err() != nil {
		return m, ctx.Err()
	}
	s.machines.Store(namespace.Key(server), m)
	return m, m.err
}

func (s *Service) readMachine(ctx context.Context, server string, m *machine) error {
	r, err := s.Reach(ctx, server)
	if err != nil {
		return err
	}
	defer r.Close()
	if m.id, err = r.Machine(ctx); err != nil {
		return Unavailable(r.Server, err)
	}
	shares, err := r.shares(ctx)
	if err != nil {
		return Unavailable(r.Server, err)
	}
	for _, share := range shares {
		if share.Path != "" {
			m.paths[namespace.Key(share.Name)] = strings.Trim(tree.Key(strings.ReplaceAll(share.Path, `\`, "/"), false), "/")
		}
	}
	return nil
}
