package domain

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"fmt"
	"os"
	"strings"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"

	"bridgespan/core/account"
)

// base is the distinguished name of the domain.
func (d *Controller) base() string {
	return "DC=" + strings.ReplaceAll(strings.ToLower(d.Realm), ".", ",DC=")
}

func (d *Controller) place(name string) string {
	return "CN=" + ldap.EscapeDN(name) + ",CN=Users," + d.base()
}

// connect signs in to the directory as its administrator.
func (d *Controller) connect() (*ldap.Conn, error) {
	text, err := os.ReadFile(d.CA())
	if err != nil {
		return nil, err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(text)
	conn, err := ldap.DialURL("ldaps://"+d.LDAP(), ldap.DialWithTLSConfig(&tls.Config{RootCAs: roots}))
	if err != nil {
		return nil, err
	}
	return conn, conn.Bind(d.UserName("Administrator"), d.Password)
}

// makeAccounts makes users and groups, in order, so that their numbers are the
// same in every new domain.
func (d *Controller) makeAccounts() error {
	conn, err := d.connect()
	if err != nil {
		return err
	}
	defer conn.Close()
	// Any password will do: they are made up by machines.
	rules := ldap.NewModifyRequest(d.base(), nil)
	rules.Replace("pwdProperties", []string{"0"})
	if err := conn.Modify(rules); err != nil {
		return err
	}
	for _, u := range d.Users {
		if err := addUser(conn, d, u); err != nil {
			return fmt.Errorf("make user %s: %w", u.Name, err)
		}
	}
	for _, g := range d.Groups {
		add := ldap.NewAddRequest(d.place(g.Name), nil)
		add.Attribute("objectClass", []string{"group"})
		add.Attribute("sAMAccountName", []string{g.Name})
		add.Attribute("groupType", []string{"-2147483646"}) // of the whole domain, for permissions
		if g.Note != "" {
			add.Attribute("description", []string{g.Note})
		}
		if err := conn.Add(add); err != nil {
			return fmt.Errorf("make group %s: %w", g.Name, err)
		}
	}
	for _, g := range d.Groups {
		for _, member := range g.Members {
			if err := d.addMember(conn, g.Name, member); err != nil {
				return err
			}
		}
	}
	for _, u := range d.Users {
		if u.Administrator {
			if err := d.addMember(conn, "Domain Admins", u.Name); err != nil {
				return err
			}
		}
	}
	return nil
}

func addUser(conn *ldap.Conn, d *Controller, u User) error {
	add := ldap.NewAddRequest(d.place(u.Name), nil)
	add.Attribute("objectClass", []string{"user"})
	add.Attribute("sAMAccountName", []string{u.Name})
	add.Attribute("userPrincipalName", []string{d.UserName(u.Name)})
	add.Attribute("userAccountControl", []string{"66048"}) // a person, whose password does not expire
	add.Attribute("unicodePwd", []string{quoted(u.Password)})
	if u.FullName != "" {
		add.Attribute("displayName", []string{u.FullName})
	}
	return conn.Add(add)
}

// quoted is a password as directories take it ([MS-ADTS] 3.1.1.3.1.5).
func quoted(password string) string {
	var b []byte
	for _, u := range utf16.Encode([]rune(`"` + password + `"`)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return string(b)
}

func (d *Controller) addMember(conn *ldap.Conn, group, member string) error {
	change := ldap.NewModifyRequest(d.place(group), nil)
	change.Add("member", []string{d.place(member)})
	if err := conn.Modify(change); err != nil {
		return fmt.Errorf("make %s a member of %s: %w", member, group, err)
	}
	return nil
}

// Relative is the last part of an account's number.
func (d *Controller) Relative(name string) (int, error) {
	conn, err := d.connect()
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	found, err := conn.Search(ldap.NewSearchRequest(d.place(name), ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", []string{"objectSid"}, nil))
	if err != nil {
		return 0, err
	}
	sid, _, err := account.ReadSID(found.Entries[0].GetRawAttributeValue("objectSid"))
	relative, _ := sid.Relative()
	return int(relative), err
}

// RemoveUser removes an account, as somebody who leaves; what was granted to
// it stays in the permissions of files.
func (d *Controller) RemoveUser(name string) error {
	conn, err := d.connect()
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Del(ldap.NewDelRequest(d.place(name), nil))
}
