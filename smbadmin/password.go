package smbadmin

import (
	"context"
	"crypto/md5"
	"crypto/rand"
	"crypto/rc4"
	"encoding/binary"
	"fmt"
	"io/fs"
	"unicode/utf16"

	"bridgespan/core/account"
	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/tree/smb"
)

// normalUser is the account flag of a person ([MS-SAMR] 2.2.1.12).
const normalUser = 0x10

// CreateUser makes a user account on a server itself and gives it a password.
// It signs in by itself, since passwords travel under the key of a session
// that was made for this. When the password is refused the account is removed
// again, and the error says so.
func CreateUser(ctx context.Context, target smb.Target, name, password string) (sid account.SID, err error) {
	session, key, err := smb.DialForSecrets(ctx, target)
	if err != nil {
		return sid, err
	}
	defer session.Close()
	return sid, New(session).withSAM(ctx, func(s *sam) error {
		domain, err := s.own()
		if err != nil {
			return err
		}
		return s.inDomain(domain, func(h handle) error {
			user, relative, err := s.createUser(h, name)
			if err != nil {
				return err
			}
			sid = domain.Child(relative)
			if err := s.enable(user, key, name, password); err != nil {
				if undo := s.deleteUser(user); undo != nil {
					return fmt.Errorf("%w; the account %s was made and could not be removed again: %w", err, name, undo)
				}
				return err
			}
			s.close(callSamClose, user)
			return nil
		})
	})
}

func (s *sam) createUser(domain handle, name string) (user handle, relative uint32, err error) {
	status, err := s.call(callSamCreateUser, func(w *ndr.Writer) {
		w.Raw(domain[:])
		w.Name(name)
		w.Flush()
		w.U32(normalUser)
		w.U32(mostRights)
	}, func(r *ndr.Reader) {
		user = readHandle(r)
		r.U32()
		relative = r.U32()
	})
	return user, relative, check("create user "+name, status, err)
}

func (s *sam) deleteUser(user handle) error {
	status, err := s.call(callSamDeleteUser, func(w *ndr.Writer) { w.Raw(user[:]) }, nil)
	return check("remove user", status, err)
}

// enable sets the password (level 26) and then the flags of a usable account (level 16).
func (s *sam) enable(user handle, key []byte, name, password string) error {
	sealed, err := sealPassword(key, password)
	if err != nil {
		return err
	}
	status, err := s.call(callSamSetUser, func(w *ndr.Writer) {
		w.Raw(user[:])
		w.U16(26)
		w.U16(26)
		w.Raw(sealed)
		w.U8(0) // does not expire at once
	}, nil)
	if err := check("set the password of "+name, status, err); err != nil {
		return err
	}
	status, err = s.call(callSamSetUser, func(w *ndr.Writer) {
		w.Raw(user[:])
		w.U16(16)
		w.U16(16)
		w.U32(normalUser)
	}, nil)
	return check("enable "+name, status, err)
}

// sealPassword makes a SAMPR_ENCRYPTED_USER_PASSWORD_NEW ([MS-SAMR] 2.2.6.22):
// the password at the end of 512 random bytes, with its length, under a key of
// the session and a salt. The protocol demands the old ciphers; the connection
// itself is signed and sealed by SMB 3.
func sealPassword(key []byte, password string) ([]byte, error) {
	units := utf16.Encode([]rune(password))
	if len(units) == 0 || len(units) > 256 {
		return nil, fmt.Errorf("%w: a password has 1 to 256 characters", fs.ErrInvalid)
	}
	b := make([]byte, 516, 532)
	_, _ = rand.Read(b[:512])
	start := 512 - 2*len(units)
	for i, u := range units {
		binary.LittleEndian.PutUint16(b[start+2*i:], u)
	}
	binary.LittleEndian.PutUint32(b[512:], uint32(2*len(units)))
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	mixed := md5.Sum(append(salt[:16:16], key...))
	cipher, err := rc4.NewCipher(mixed[:])
	if err != nil {
		return nil, err
	}
	cipher.XORKeyStream(b, b)
	return append(b, salt...), nil
}

// RemoveUser removes a user account of the server itself.
func (a *Admin) RemoveUser(ctx context.Context, user account.SID) error {
	relative, _ := user.Relative()
	return a.withSAM(ctx, func(s *sam) error {
		return s.inDomain(user.Parent(), func(h handle) error {
			var u handle
			status, err := s.call(callSamOpenUser, func(w *ndr.Writer) {
				w.Raw(h[:])
				w.U32(mostRights)
				w.U32(relative)
			}, func(r *ndr.Reader) { u = readHandle(r) })
			if err := check("open user "+user.String(), status, err); err != nil {
				return err
			}
			return s.deleteUser(u)
		})
	})
}
