// Package smbadmin administers file servers from afar, without an agent on
// them: it greets them before anybody signs in, and reads and changes their
// shares, accounts, sessions and open files by remote procedure calls over
// named pipes ([MS-SRVS], [MS-SAMR], [MS-LSAT]).
//
// An [Admin] works in a session that is signed in. What a server refuses comes
// back as an error that wraps fs.ErrPermission, fs.ErrExist, fs.ErrNotExist, or
// ErrNotOffered.
package smbadmin

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/smbadmin/internal/rpc"
	"bridgespan/tree/smb"
)

// ErrNotOffered: the server does not have the call, or not in the form that is needed.
var ErrNotOffered = errors.New("the server does not offer this")

// ErrAnswer: what the server sent is not of the protocol.
var ErrAnswer = rpc.ErrMalformed

// Admin administers one server.
type Admin struct{ session *smb.Session }

// New makes an Admin of a session. The session stays the caller's.
func New(session *smb.Session) *Admin { return &Admin{session} }

// callLimit bounds one conversation with a server when the caller set no other limit.
const callLimit = 60 * time.Second

// talk opens a pipe, binds it, lets do talk, and closes it.
func (a *Admin) talk(ctx context.Context, i rpc.Interface, do func(*conversation) error) error {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	pipe, err := a.session.Pipe(ctx, i.Pipe)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%w: %w", ErrNotOffered, err)
		}
		return err
	}
	defer pipe.Close()
	client, err := rpc.Bind(pipe, i)
	if err != nil {
		return smb.Classify(err)
	}
	return smb.Classify(do(&conversation{client}))
}

// conversation is a series of calls over one bound pipe.
type conversation struct{ client *rpc.Client }

// call makes one call: write writes its parameters, and read reads its
// results, except for the status at their end, which call reads and returns.
func (c *conversation) call(procedure uint16, write func(*ndr.Writer), read func(*ndr.Reader)) (status uint32, err error) {
	var w ndr.Writer
	write(&w)
	answer, err := c.client.Call(procedure, w.Bytes())
	if err != nil {
		return 0, refused(err)
	}
	return results(answer, read)
}

// results reads the results of a call.
func results(answer []byte, read func(*ndr.Reader)) (status uint32, err error) {
	if len(answer) < 4 {
		return 0, fmt.Errorf("%w: no status", ErrAnswer)
	}
	// The status is the last word of every answer. A failed call need not fill
	// in the rest.
	status = binary.LittleEndian.Uint32(answer[len(answer)-4:])
	if read == nil || status != 0 && !partial(status) {
		return status, nil
	}
	r := ndr.NewReader(answer)
	read(r)
	return status, r.Err()
}

// Statuses that come with results.
const (
	statusMoreEntries   = 0x00000105
	statusSomeNotMapped = 0x00000107
	statusNoneMapped    = 0xC0000073
	errorMoreData       = 0x000000EA
)

func partial(status uint32) bool {
	switch status {
	case statusMoreEntries, statusSomeNotMapped, statusNoneMapped, errorMoreData:
		return true
	}
	return false
}

// refused gives a fault of the call layer the class of its error.
func refused(err error) error {
	var fault *rpc.Fault
	if errors.As(err, &fault) {
		switch fault.Status {
		case 0x00000005:
			return fmt.Errorf("%w: %w", fs.ErrPermission, err)
		case 0x1C010002, 0x1C010003, 0x000006F7:
			return fmt.Errorf("%w: %w", ErrNotOffered, err)
		}
	}
	return err
}

// StatusError is the refusal of a procedure.
type StatusError struct {
	Call   string
	Status uint32
}

var statusTexts = map[uint32]struct {
	text  string
	class error
}{
	0x00000002: {"no such file or folder", fs.ErrNotExist},
	0x00000003: {"no such path on the server", fs.ErrNotExist},
	0x00000005: {"access denied", fs.ErrPermission},
	0x00000032: {"not supported", ErrNotOffered},
	0x00000043: {"no share has this name", fs.ErrNotExist},
	0x00000050: {"a share has this name", fs.ErrExist},
	0x00000057: {"a parameter is not valid", fs.ErrInvalid},
	0x0000007B: {"the name is not valid", fs.ErrInvalid},
	0x0000007C: {"this level is not known", ErrNotOffered},
	0x00000846: {"a share has this name", fs.ErrExist},
	0x00000906: {"no share has this name", fs.ErrNotExist},
	0x00000560: {"the group does not exist", fs.ErrNotExist},
	0x00000908: {"no client of this name", fs.ErrNotExist},
	0xC0000001: {"the server could not do it", nil},
	0xC0000002: {"not implemented", ErrNotOffered},
	0xC000000D: {"a parameter is not valid", fs.ErrInvalid},
	0xC0000022: {"access denied", fs.ErrPermission},
	0xC0000063: {"a user has this name", fs.ErrExist},
	0xC0000064: {"no such user", fs.ErrNotExist},
	0xC0000065: {"a group has this name", fs.ErrExist},
	0xC0000066: {"no such group", fs.ErrNotExist},
	0xC0000067: {"already a member", fs.ErrExist},
	0xC0000068: {"not a member", fs.ErrNotExist},
	0xC000006C: {"the password does not satisfy the server's rules", fs.ErrInvalid},
	0xC00000BB: {"not supported", ErrNotOffered},
	0xC0000151: {"no such group", fs.ErrNotExist},
	0xC0000152: {"not a member", fs.ErrNotExist},
	0xC0000153: {"already a member", fs.ErrExist},
	0xC0000154: {"a group has this name", fs.ErrExist},
	0xC00000DF: {"no such domain", fs.ErrNotExist},
	0xC0000106: {"the group still has members", nil},
	0xC000006A: {"wrong password", nil},
}

func (e *StatusError) Error() string {
	if known, ok := statusTexts[e.Status]; ok {
		return fmt.Sprintf("%s: %s", e.Call, known.text)
	}
	return fmt.Sprintf("%s: status 0x%08x", e.Call, e.Status)
}

func (e *StatusError) Unwrap() error { return statusTexts[e.Status].class }

// check turns a status into an error.
func check(call string, status uint32, err error) error {
	if err != nil {
		return fmt.Errorf("%s: %w", call, err)
	}
	if status != 0 {
		return &StatusError{call, status}
	}
	return nil
}

func uuid(first uint32, second, third uint16, rest ...byte) (u [16]byte) {
	binary.LittleEndian.PutUint32(u[0:], first)
	binary.LittleEndian.PutUint16(u[4:], second)
	binary.LittleEndian.PutUint16(u[6:], third)
	copy(u[8:], rest)
	return u
}
