// Package estate is about what there is: sites and the legs between them, file
// servers, their shares, and whether each can be reached and administered.
package estate

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/vault"
	"bridgespan/tree"
	"bridgespan/tree/remote"
	"bridgespan/tree/smb"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	vault   *vault.Vault
	changed func()
	// suspected are the names of servers that are being looked at out of turn.
	suspected sync.Map
	// greeted is how long servers usually take to greet, by name.
	greeted sync.Map
	// untrusted is since when servers are left alone, by their names.
	untrusted sync.Map
	// machines are what servers told of themselves lately, by their names.
	machines sync.Map
}

// New makes the service. changed is called after every change.
func New(db *records.DB, v *vault.Vault, changed func()) *Service {
	return &Service{db: db, vault: v, changed: changed}
}

func (s *Service) change(ctx context.Context, do func(tx *records.Tx) error) error {
	defer s.changed()
	return s.db.Change(ctx, do)
}

// Servers lists servers.
func (s *Service) Servers(ctx context.Context, page records.Page) ([]model.Server, error) {
	return s.db.Servers(ctx, page)
}

// Server finds a server.
func (s *Service) Server(ctx context.Context, name string) (model.Server, error) {
	return s.db.Server(ctx, name)
}

// tryTimeout bounds how long a server may take to greet or to sign us in.
const tryTimeout = 8 * time.Second

// AddServer adds a server after signing in to it for real, unless unchecked is true.
func (s *Service) AddServer(ctx context.Context, v model.Server, password string, unchecked bool) error {
	if err := checkServer(&v); err != nil {
		return err
	}
	if v.Site == "" {
		return fault.Field("site", "choose where the server stands", "a site is needed")
	}
	site, err := s.db.Site(ctx, v.Site)
	if err != nil {
		return at("site", err)
	}
	v.Site = site.Name
	if err := s.checkBeside(ctx, &v); err != nil {
		return err
	}
	if _, err := s.db.Server(ctx, v.Name); err == nil {
		return (&fault.Error{Kind: fault.Taken, Field: "name", Remedy: "choose another name", Problem: fmt.Sprintf("a server is called %q already (names that differ only in case count as the same)", v.Name)})
	}
	var shares []model.Share
	if !unchecked {
		if shares, err = s.tryOut(ctx, v, password); err != nil {
			return err
		}
	}
	err = s.change(ctx, func(tx *records.Tx) error {
		if err := tx.AddServer(ctx, v, s.vault.Seal(secretLabel(v), password)); err != nil {
			return err
		}
		if err := s.keepProxy(ctx, tx, v); err != nil {
			return err
		}
		if err := tx.ReplaceShares(ctx, v.Name, shares); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "server.add", v.Name, nil, v), "server")
	})
	if err == nil && !unchecked {
		_, err = s.db.StoreReach(ctx, v.Name, true, "", time.Now().UTC())
	}
	return err
}

// tryOut signs in and lists the shares, and blames the field that is wrong.
func (s *Service) tryOut(ctx context.Context, v model.Server, password string) ([]model.Share, error) {
	to := s.target(v, password)
	to.Untrusted = nil // what is kept of a server of this name is about another address, if it is there at all
	r, err := reachAt(ctx, v, to)
	if err != nil {
		return nil, blame(v, err)
	}
	defer r.Close()
	return r.shares(ctx)
}

// blame turns a failure to sign in into a fault at the field to be changed.
func blame(v model.Server, err error) error {
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return fault.Field("address", "check the spelling, or give the address in numbers", "the name %q is not known", v.Address).Because(err)
	case v.Can(model.HoldsBuckets):
		return blameCloud(v, err)
	case errors.Is(err, tree.ErrUntrusted):
		return fault.Field("address", "find out who answers there", "what answers at %s cannot be trusted: %v", hostPort(v), err).Because(err)
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded):
		return fault.Field("address", "check address and port, that the server runs and that no firewall is between", "nothing answers at %s", hostPort(v)).Because(err)
	case errors.Is(err, smb.ErrGuest):
		return fault.Field("account", "give an account that the server knows, and turn off guests there", "%s would let %s in as a guest, with any password", hostPort(v), v.Account).Because(err)
	case errors.Is(err, smb.ErrSignIn):
		return fault.Field("password", "check account, domain and password", "%s refuses the account %s", hostPort(v), v.Account).Because(err)
	case errors.Is(err, remote.ErrSecret):
		return fault.Field("password", "give what is in the mover's file mover.secret", "the mover at %s refuses the secret", hostPort(v)).Because(err)
	case errors.Is(err, remote.ErrStranger):
		return fault.Field("certificate", "give the fingerprint that the mover says when it starts; when it was not made anew, find out who answers there", "what answers at %s has another certificate", hostPort(v)).Because(err)
	case !v.Can(model.SpeaksSMB):
		return fault.Field("address", "check that a mover listens there", "what answers at %s is no mover: %v", hostPort(v), err).Because(err)
	}
	return fault.Field("address", "check that it is an SMB 3 file server", "%s does not let us sign in: %v", hostPort(v), err).Because(err)
}

func hostPort(v model.Server) string { return net.JoinHostPort(v.Address, strconv.Itoa(v.Port)) }

// secretLabel binds a password to where it may be sent: no other address, port, domain,
// account or certificate can draw it somewhere else.
func secretLabel(v model.Server) string { return labelAt(v, hostPort(v)+" domain "+v.Domain) }

// formerLabel is what passwords were bound to before: to no port, and to no domain.
func formerLabel(v model.Server) string { return labelAt(v, v.Address) }

func labelAt(v model.Server, location string) string {
	label := "server " + strings.ToLower(location+" account "+v.Account)
	if v.Can(model.ShowsCertificate) {
		label += " certificate " + v.Certificate
	}
	if v.Can(model.HoldsBuckets) {
		label += " cloud"
	}
	return label
}

// Reseal binds passwords that an earlier version has kept to all that they are bound to
// now. It is to be called before anything uses them.
func (s *Service) Reseal(ctx context.Context) error {
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		return err
	}
	for _, v := range servers {
		sealed, err := s.db.ServerSecret(ctx, v.Name)
		if err != nil {
			return err
		}
		if _, err := s.vault.Unseal(secretLabel(v), sealed); err == nil {
			continue
		}
		secret, err := s.vault.Unseal(formerLabel(v), sealed)
		if err != nil {
			slog.Warn("the password of a server does not open with this key file", "server", v.Name)
			continue
		}
		if err := s.db.StoreServerSecret(ctx, v.Name, sealed, s.vault.Seal(secretLabel(v), secret)); err != nil {
			return err
		}
	}
	return nil
}

// EditServer changes a server; an empty password keeps the old one, unless
// address, port, domain or account change. v.Version is what the caller last read.
func (s *Service) EditServer(ctx context.Context, former string, v model.Server, password string, unchecked bool) error {
	before, err := s.db.Server(ctx, former)
	if err != nil {
		return err
	}
	if hasProxyUser(v) && hasProxyUser(before) && proxyLabel(v.Cloud) == proxyLabel(before.Cloud) && v.Cloud.ProxyPassword == "" {
		if err := s.withProxy(ctx, &before); err != nil {
			return err
		}
		v.Cloud.ProxyPassword = before.Cloud.ProxyPassword
	}
	if err := checkServer(&v); err != nil {
		return err
	}
	site, err := s.db.Site(ctx, v.Site)
	if err != nil {
		return at("site", err)
	}
	v.Site = site.Name
	if err := s.checkBeside(ctx, &v); err != nil {
		return err
	}
	if before.KindOf() != v.KindOf() {
		field := "certificate"
		if before.Can(model.HoldsBuckets) || v.Can(model.HoldsBuckets) {
			field = "cloud"
		}
		return fault.Field(field, "add it as another server", "%s is a server of another kind", before.Name)
	}
	moved := secretLabel(before) != secretLabel(v)
	if password == "" && moved {
		return fault.Field("password", "give the password again", "a stored password is only ever sent to the address, port and domain and for the account it was given for")
	}
	if err := s.tryEdited(ctx, before, v, password, unchecked); err != nil {
		return err
	}
	var secret []byte
	if password != "" {
		secret = s.vault.Seal(secretLabel(v), password)
	}
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.UpdateServer(ctx, former, v, secret); err != nil {
			return tx.Since(ctx, err, former, v.Version)
		}
		if err := s.keepProxy(ctx, tx, v); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "server.edit", v.Name, plain(before), plain(v)), "server")
	})
}

// tryEdited signs in with a new password, or with the stored one where a cloud account is reached in another way.
func (s *Service) tryEdited(ctx context.Context, before, v model.Server, password string, unchecked bool) (err error) {
	if unchecked {
		return nil
	}
	if password == "" && v.Cloud != nil && *v.Cloud != *before.Cloud {
		if password, err = s.password(ctx, before); err != nil {
			return err
		}
	}
	if password != "" {
		_, err = s.tryOut(ctx, v, password)
	}
	return err
}

// plain is a server without what was only observed, for the record of a change.
func plain(v model.Server) model.Server {
	v.Check, v.Reachable, v.Since, v.Trouble, v.Untrusted = nil, nil, nil, "", nil
	return v
}

// RemoveServer removes a server from Bridge Span; the server itself is left alone.
//
// With detach the locations at the server go with it, unless one is the only
// location of its signpost.
func (s *Service) RemoveServer(ctx context.Context, name string, version int64, detach bool) error {
	return s.change(ctx, func(tx *records.Tx) error {
		v, err := tx.Server(ctx, name)
		if err != nil {
			return err
		}
		if detach {
			if err := Detach(ctx, tx, v.Name, ""); err != nil {
				return err
			}
		}
		before := v
		v.Version = version
		if err := tx.RemoveServer(ctx, v); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "server.remove", v.Name, plain(before), nil), "server")
	})
}

// Detach removes the locations at a server, or in one of its shares unless that is "",
// from their signposts, or says which signposts would lead nowhere.
func Detach(ctx context.Context, tx *records.Tx, server, share string) error {
	led, err := tx.EntriesLedTo(ctx, server, share)
	if err != nil {
		return err
	}
	there := func(l namespace.Location) bool {
		return namespace.Key(l.Server) == namespace.Key(server) && (share == "" || namespace.Key(l.Share) == namespace.Key(share))
	}
	from := server
	if share != "" {
		from += "/" + share
	}
	var bereft []string
	for _, e := range led {
		if !slices.ContainsFunc(e.Locations, func(l namespace.Location) bool { return !there(l) }) {
			bereft = append(bereft, "/"+e.Namespace+"/"+e.Path)
		}
	}
	if len(bereft) > 0 {
		return fault.New(fault.Needed, "add another location to each, or remove these signposts first", "%d signposts lead to %s alone: %s", len(bereft), from, strings.Join(bereft, ", "))
	}
	for _, e := range led {
		for _, l := range e.Locations {
			if !there(l) {
				continue
			}
			if err := tx.RemoveLocation(ctx, l); err != nil {
				return err
			}
		}
		if err := tx.TouchEntry(ctx, e.Entry); err != nil {
			return err
		}
		after, err := tx.Entry(ctx, e.Namespace, e.ID)
		if err != nil {
			return err
		}
		if err := tx.Record(ctx, access.Change(ctx, "location.remove", "/"+e.Namespace+"/"+e.Path, e.Entry, after), "namespace"); err != nil {
			return err
		}
	}
	return nil
}

func checkServer(v *model.Server) error {
	if err := namespace.CheckElement("name", v.Name); err != nil {
		return err
	}
	if v.Port == 0 {
		v.Port = v.UsualPort()
	}
	if v.PeopleName != "" {
		if err := front.CheckHost("nameForPeople", v.PeopleName); err != nil {
			return err
		}
	}
	switch {
	case v.Port < 1 || v.Port > 65535:
		return fault.Field("port", "use 445 (8620 for a mover, 443 for a cloud) unless the server listens elsewhere", "%d is not a TCP port", v.Port)
	case v.Address == "" || len(v.Address) > 253 || strings.ContainsAny(v.Address, " /\\:@\x00") && net.ParseIP(v.Address) == nil:
		return fault.Field("address", "write a host name or an address, without a port", "%q is not a host name or address", v.Address)
	case v.Can(model.ShowsCertificate):
		return checkMover(v)
	case v.Can(model.HoldsBuckets):
		return checkCloud(v)
	case v.Account == "" || len(v.Account) > 255:
		return fault.Field("account", "name the account that administers the server", "an account is needed")
	}
	return checkNote(v.Note)
}

// checkBeside checks the file server that a mover runs beside.
func (s *Service) checkBeside(ctx context.Context, v *model.Server) error {
	if v.Beside == "" {
		return nil
	}
	if !v.Can(model.ShowsCertificate) {
		return fault.Field("beside", "leave it out, or give it to the mover on that host", "%s is no mover", v.Name)
	}
	other, err := s.db.Server(ctx, v.Beside)
	if err != nil {
		return at("beside", err)
	}
	if !other.Can(model.HasAccounts) {
		return fault.Field("beside", "name the file server on the mover's host", "no accounts sign in at %s", other.Name)
	}
	v.Beside = other.Name
	return nil
}

func checkMover(v *model.Server) (err error) {
	if v.Cloud != nil {
		return fault.Field("cloud", "remove the certificate, or the settings of the object service", "a server is either a mover or an account at an object service")
	}
	if v.Account != "" || v.Domain != "" {
		return fault.Field("account", "leave account and domain out", "a mover has no accounts: it is shown a secret")
	}
	if v.Certificate, err = remote.CheckFingerprint(v.Certificate); err != nil {
		return fault.Field("certificate", "give the fingerprint that the mover says when it starts", "%v", err)
	}
	return checkNote(v.Note)
}
