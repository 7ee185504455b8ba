// Package accounts is about the people and groups that permissions name: what
// they are called, where they live, what they belong to, and under which token
// each of them acts at a server.
//
// Names come from the servers and from the directories of their domains. What
// was asked is remembered for a while, within bounds.
package accounts

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/directory"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/vault"
	"bridgespan/smbadmin"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	vault   *vault.Vault
	estate  *estate.Service
	changed func()

	named  *expirable.LRU[key, smbadmin.Named]      // by number
	found  *expirable.LRU[string, []smbadmin.Named] // by server and name
	realms *expirable.LRU[string, []account.Realm]  // of a server
	tokens *expirable.LRU[key, *Token]              // at a server
	graphs *expirable.LRU[string, *directory.Graph] // of a domain
}

type key struct {
	server string
	sid    account.SID
}

// What is remembered, and for how long: what was changed at a server or in a
// directory is seen after that at the latest.
const (
	mostNamed  = 20000
	mostTokens = 2000
	remember   = 5 * time.Minute
	tokensFor  = time.Minute
)

// New makes the service. changed is called after every change.
func New(db *records.DB, v *vault.Vault, e *estate.Service, changed func()) *Service {
	return &Service{db: db, vault: v, estate: e, changed: changed,
		named:  expirable.NewLRU[key, smbadmin.Named](mostNamed, nil, remember),
		found:  expirable.NewLRU[string, []smbadmin.Named](mostNamed, nil, remember),
		realms: expirable.NewLRU[string, []account.Realm](500, nil, remember),
		tokens: expirable.NewLRU[key, *Token](mostTokens, nil, tokensFor),
		graphs: expirable.NewLRU[string, *directory.Graph](20, nil, tokensFor)}
}

// forget forgets what was remembered about who belongs to what.
func (s *Service) forget() {
	s.tokens.Purge()
	s.graphs.Purge()
	s.named.Purge()
	s.found.Purge()
}

// Directories lists the domains.
func (s *Service) Directories(ctx context.Context) ([]model.Directory, error) {
	return s.db.Directories(ctx)
}

// Directory finds a domain.
func (s *Service) Directory(ctx context.Context, name string) (model.Directory, error) {
	return s.db.Directory(ctx, name)
}

// secretLabel binds a password to where it may be sent.
func secretLabel(address string, port int, name string) string {
	return fmt.Sprintf("directory %s:%d account %s", strings.ToLower(address), port, strings.ToLower(name))
}

// AddDirectory adds a domain after signing in to its directory for real.
func (s *Service) AddDirectory(ctx context.Context, n model.NewDirectory) (model.Directory, error) {
	d := model.Directory{Address: n.Address, Port: n.Port, Account: n.Account, Note: n.Note, Private: n.CA != ""}
	if d.Port == 0 {
		d.Port = 636
	}
	switch {
	case d.Address == "" || strings.ContainsAny(d.Address, " /\\@\x00"):
		return d, fault.Field("address", "write a host name or an address, without a port", "%q is not a host name or address", d.Address)
	case d.Port < 1 || d.Port > 65535:
		return d, fault.Field("port", "use 636 unless the directory listens elsewhere", "%d is not a TCP port", d.Port)
	case d.Account == "":
		return d, fault.Field("account", "write name@realm", "an account is needed")
	case len(n.CA) > 64<<10:
		return d, fault.Field("ca", "give the one certificate that vouches for the directory", "%d bytes are too long for a certificate", len(n.CA))
	}
	conn, err := directory.Dial(ctx, directory.Target{Address: hostPort(d), Account: d.Account, Password: n.Password, CA: n.CA})
	if err != nil {
		return d, blame(d, err)
	}
	defer conn.Close()
	d.Name, d.SID = conn.Realm().Name, conn.Realm().SID.String()
	err = s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.AddDirectory(ctx, d, s.vault.Seal(secretLabel(d.Address, d.Port, d.Account), n.Password), n.CA); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "directory.add", d.Name, nil, d), "directory")
	})
	s.changed()
	s.forget()
	if err != nil {
		return d, err
	}
	return s.db.Directory(ctx, d.Name)
}

func hostPort(d model.Directory) string { return net.JoinHostPort(d.Address, strconv.Itoa(d.Port)) }

// blame turns a failure to sign in into a fault at the field to be changed.
func blame(d model.Directory, err error) error {
	switch {
	case errors.Is(err, directory.ErrSignIn):
		return fault.Field("password", "check account and password; the account is written name@realm", "the directory at %s refuses the account %s", hostPort(d), d.Account).Because(err)
	case errors.Is(err, directory.ErrCertificate):
		return fault.Field("ca", "give the certificate that vouches for the directory, in PEM, and its name or address as the certificate has it", "the directory at %s cannot prove that it is one we may trust", hostPort(d)).Because(err)
	}
	return fault.Field("address", "check address and port, and that the directory speaks LDAP over TLS there", "no directory answers at %s: %v", hostPort(d), err).Because(err)
}

// RemoveDirectory removes a domain from Bridge Span.
func (s *Service) RemoveDirectory(ctx context.Context, name string, version int64) error {
	defer s.changed()
	defer s.forget()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		d, err := tx.Directory(ctx, name)
		if err != nil {
			return err
		}
		if err := tx.RemoveDirectory(ctx, name, version); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "directory.remove", d.Name, d, nil), "directory")
	})
}

// dial connects to a domain's directory.
func (s *Service) dial(ctx context.Context, d model.Directory) (*directory.Directory, error) {
	sealed, ca, err := s.db.DirectorySecret(ctx, d.Name)
	if err != nil {
		return nil, err
	}
	password, err := s.vault.Unseal(secretLabel(d.Address, d.Port, d.Account), sealed)
	if err != nil {
		return nil, err
	}
	conn, err := directory.Dial(ctx, directory.Target{Address: hostPort(d), Account: d.Account, Password: password, CA: ca})
	if err != nil {
		return nil, fault.New(fault.Unavailable, "look at its server, or add it again with: bspan directory add", "the directory of %s does not let us in: %v", d.Name, err).Because(err)
	}
	return conn, nil
}

// directoryOf finds the directory of a domain by the domain's number.
func (s *Service) directoryOf(ctx context.Context, domain account.SID) (model.Directory, bool, error) {
	list, err := s.db.Directories(ctx)
	i := slices.IndexFunc(list, func(d model.Directory) bool { return d.SID == domain.String() })
	if err != nil || i < 0 {
		return model.Directory{}, false, err
	}
	return list[i], true, nil
}
