// Package directory reads the accounts of a domain over LDAP (RFC 4511) with
// TLS: its users, its groups, and who belongs to what, however deep. It never
// writes to the directory.
//
// A file server knows the groups of a domain account only once that person
// signs in. The directory is asked so that what a person may do can be told
// beforehand, and completely.
package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"bridgespan/core/account"
)

// Target says which directory to ask, and as whom.
type Target struct {
	Address  string // host:port of LDAP over TLS, 636 as a rule
	Account  string // name@realm, or a distinguished name
	Password string
	// CA is the certificate that vouches for the directory, in PEM; empty for
	// those that the system trusts.
	CA string
	// Timeout bounds connecting and each question; 0 means 10 seconds.
	Timeout time.Duration
}

// Errors that callers tell apart.
var (
	// ErrUnreachable: the directory does not answer.
	ErrUnreachable = errors.New("the directory does not answer")
	// ErrSignIn: it answers and refuses the account or its password.
	ErrSignIn = errors.New("the directory refuses the account or its password")
	// ErrCertificate: what answers cannot prove that it is the directory.
	ErrCertificate = errors.New("the certificate of the directory is not trusted")
	// ErrNotFound: no account is called so.
	ErrNotFound = errors.New("no such account in the directory")
)

// Account is a user or group of the domain.
type Account struct {
	SID      account.SID
	Name     string
	FullName string
	Note     string
	Kind     account.Kind // account.User, account.Group or account.LocalGroup
	Disabled bool
	dn       string
	primary  uint32
}

// Directory is a signed-in connection. Its methods may be called from several
// goroutines.
type Directory struct {
	conn  *ldap.Conn
	base  string
	realm account.Realm
	host  string
}

// Dial connects, signs in, and asks for the domain.
func Dial(ctx context.Context, t Target) (*Directory, error) {
	timeout := t.Timeout
	if timeout == 0 {
		timeout = 10 * time.Second
	}
	host, _, err := net.SplitHostPort(t.Address)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if t.CA != "" {
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM([]byte(t.CA)) {
			return nil, fmt.Errorf("%w: no certificate in the text", ErrCertificate)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	raw, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", t.Address)
	if err != nil {
		return nil, dialError(err)
	}
	conn := ldap.NewConn(raw, true)
	conn.Start()
	conn.SetTimeout(timeout)
	d := &Directory{conn: conn}
	if err := d.signIn(t); err != nil {
		conn.Close()
		return nil, err
	}
	return d, nil
}

func dialError(err error) error {
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	if errors.As(err, &unknown) || errors.As(err, &host) || errors.As(err, &invalid) {
		return fmt.Errorf("%w: %w", ErrCertificate, err)
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}

func (d *Directory) signIn(t Target) error {
	// A bind with an empty password succeeds and signs nobody in (RFC 4513, 5.1.2).
	if t.Password == "" {
		return ErrSignIn
	}
	if err := d.conn.Bind(t.Account, t.Password); err != nil {
		return classify(err)
	}
	root, err := d.one("", ldap.ScopeBaseObject, "(objectClass=*)", "defaultNamingContext", "dsServiceName")
	if err != nil {
		return err
	}
	d.base, d.host = root.GetAttributeValue("defaultNamingContext"), root.GetAttributeValue("dsServiceName")
	domain, err := d.one(d.base, ldap.ScopeBaseObject, "(objectClass=*)", "objectSid", "dc")
	if err != nil {
		return err
	}
	d.realm.Domain = true
	if d.realm.SID, err = sidOf(domain); err != nil {
		return err
	}
	d.realm.Name = strings.ToUpper(domain.GetAttributeValue("dc"))
	partition, err := d.one("CN=Partitions,CN=Configuration,"+d.base, ldap.ScopeSingleLevel,
		"(&(objectClass=crossRef)(nCName="+ldap.EscapeFilter(d.base)+")(nETBIOSName=*))", "nETBIOSName")
	if err == nil { // its short name, which need not be part of the long one
		d.realm.Name = partition.GetAttributeValue("nETBIOSName")
	}
	return nil
}

func classify(err error) error {
	switch {
	case err == nil:
		return nil
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		return fmt.Errorf("%w: %w", ErrSignIn, err)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return fmt.Errorf("%w: %w", ErrNotFound, err)
	case ldap.IsErrorWithCode(err, ldap.ErrorNetwork), ldap.IsErrorWithCode(err, ldap.LDAPResultUnavailable), ldap.IsErrorWithCode(err, ldap.LDAPResultServerDown):
		return fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return err
}

// Realm is the domain.
func (d *Directory) Realm() account.Realm { return d.realm }

// Close ends the connection.
func (d *Directory) Close() error { return d.conn.Close() }

func (d *Directory) one(base string, scope int, filter string, attributes ...string) (*ldap.Entry, error) {
	result, err := d.conn.Search(ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, 2, 0, false, filter, attributes, nil))
	if err != nil {
		return nil, classify(err)
	}
	if len(result.Entries) == 0 {
		return nil, ErrNotFound
	}
	return result.Entries[0], nil
}

func sidOf(e *ldap.Entry) (account.SID, error) {
	s, _, err := account.ReadSID(e.GetRawAttributeValue("objectSid"))
	return s, err
}
