package estate

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// quarantineFor is how long a server is left alone after it sent answers that cannot be
// trusted: it is attacked, or broken, and each use of it is a danger. A check by hand
// ends that before.
const quarantineFor = time.Hour

// noteMost bounds how long keeping a quarantine may take.
const noteMost = 5 * time.Second

// quarantined returns a fault while a server is left alone.
func quarantined(v model.Server, now time.Time) error {
	if v.Untrusted == nil || now.Sub(*v.Untrusted) >= quarantineFor {
		return nil
	}
	return fault.New(fault.Unavailable, fmt.Sprintf("find out who answers at %s, then check the server by hand; it is tried again by itself at %s", hostPort(v), v.Untrusted.Add(quarantineFor).Local().Format("15:04")),
		"%s sent answers that cannot be trusted at %s, and is left alone", v.Name, v.Untrusted.Local().Format("15:04")).Because(tree.ErrUntrusted)
}

// LearnQuarantines reads which servers are left alone, and which are not any more, as other
// instances have found. It is to be called at the start, and after news of servers.
func (s *Service) LearnQuarantines(ctx context.Context) error {
	servers, err := s.db.Servers(ctx, records.All)
	for _, v := range servers {
		if v.Untrusted == nil {
			s.untrusted.Delete(v.Name)
		} else {
			s.untrusted.Store(v.Name, *v.Untrusted)
		}
	}
	return err
}

// Quarantined reports whether a server is left alone, as far as this instance knows.
func (s *Service) Quarantined(name string) bool {
	since, ok := s.untrusted.Load(name)
	return ok && time.Since(since.(time.Time)) < quarantineFor
}

// Distrust leaves a server alone from now on, since it sent what no server sends that
// follows the protocol.
func (s *Service) Distrust(name string, why error) {
	now := time.Now().UTC().Truncate(time.Microsecond)
	s.untrusted.Store(name, now)
	ctx, cancel := context.WithTimeout(context.Background(), noteMost)
	defer cancel()
	err := s.db.StoreUntrusted(ctx, name, &now, "untrusted answers: "+why.Error())
	if err == nil {
		err = s.db.Tell(ctx, "server", name, now)
	}
	if err != nil {
		slog.Warn("that a server cannot be trusted was not recorded", "server", name, "error", err)
	}
	s.changed()
}

// trustAgain ends a quarantine.
func (s *Service) trustAgain(ctx context.Context, v model.Server) error {
	if v.Untrusted == nil {
		return nil
	}
	s.untrusted.Delete(v.Name)
	return s.db.StoreUntrusted(ctx, v.Name, nil, v.Trouble)
}

// target is how to sign in to a server.
func (s *Service) target(v model.Server, password string) smb.Target {
	return smb.Target{Address: hostPort(v), Domain: v.Domain, Account: v.Account, Password: password, Unsigned: v.Unsigned, Timeout: tryTimeout,
		Untrusted: func(why error) { s.Distrust(v.Name, why) }}
}

// answers adds to a check that the server's answers cannot be trusted, when it was found.
func (c *checker) answers(ctx context.Context) {
	v, err := c.service.db.Server(ctx, c.server.Name)
	if err != nil || v.Untrusted == nil {
		return
	}
	c.reached, c.trouble = false, v.Trouble
	c.add("answers", finding.Fail, v.Trouble, "somebody between may have changed them, or the server is not what it says: Bridge Span uses it for nothing for an hour",
		"find out who answers at "+hostPort(v)+", then check it again")
}
