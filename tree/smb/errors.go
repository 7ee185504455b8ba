package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"strings"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/tree"
)

// Errors of this package beside those of package tree.
var (
	// ErrSignIn: the server answered and refuses the account or its password.
	ErrSignIn = errors.New("the server refuses the account or its password")
	// ErrGuest: the server lets the account in as a guest, or as nobody: it has not
	// found out who that is.
	ErrGuest = fmt.Errorf("%w: it would let the account in as a guest, with any password", ErrSignIn)
	// ErrNoShare: the server answered and has no share of this name.
	ErrNoShare = errors.New("no such share")
)

// statuses maps the NTSTATUS codes ([MS-ERREF] 2.3.1) that callers tell apart.
var statuses = map[uint32]error{
	0xC0000022: fs.ErrPermission, // ACCESS_DENIED
	0xC0000061: fs.ErrPermission, // PRIVILEGE_NOT_HELD
	0xC000005A: fs.ErrPermission, // INVALID_OWNER
	0xC0000034: fs.ErrNotExist,   // OBJECT_NAME_NOT_FOUND
	0xC000003A: fs.ErrNotExist,   // OBJECT_PATH_NOT_FOUND
	0xC000000F: fs.ErrNotExist,   // NO_SUCH_FILE
	0xC0000035: fs.ErrExist,      // OBJECT_NAME_COLLISION
	0xC0000033: fs.ErrInvalid,    // OBJECT_NAME_INVALID
	0xC0000106: fs.ErrInvalid,    // NAME_TOO_LONG
	0xC0000043: tree.ErrInUse,    // SHARING_VIOLATION
	0xC0000054: tree.ErrInUse,    // FILE_LOCK_CONFLICT
	0xC0000056: tree.ErrInUse,    // DELETE_PENDING
	0xC000007F: tree.ErrNoSpace,  // DISK_FULL
	0xC0000044: tree.ErrNoSpace,  // QUOTA_EXCEEDED
	0xC0000101: tree.ErrNotEmpty, // DIRECTORY_NOT_EMPTY
	0xC00000BA: tree.ErrKind,     // FILE_IS_A_DIRECTORY
	0xC0000103: tree.ErrKind,     // NOT_A_DIRECTORY
	0xC00000BB: tree.ErrUnsupported,
	0xC000006D: ErrSignIn, // LOGON_FAILURE
	0xC000006A: ErrSignIn, // WRONG_PASSWORD
	0xC0000064: ErrSignIn, // NO_SUCH_USER
	0xC000006E: ErrSignIn, // ACCOUNT_RESTRICTION
	0xC0000072: ErrSignIn, // ACCOUNT_DISABLED
	0xC0000234: ErrSignIn, // ACCOUNT_LOCKED_OUT
	0xC0000071: ErrSignIn, // PASSWORD_EXPIRED
	0xC00000CC: ErrNoShare,
	0xC000020C: tree.ErrUnreachable, // CONNECTION_DISCONNECTED
	0xC000020D: tree.ErrUnreachable, // CONNECTION_RESET
	0xC00000C9: tree.ErrUnreachable, // NETWORK_NAME_DELETED
	0xC0000203: tree.ErrUnreachable, // USER_SESSION_DELETED
	0xC000035C: tree.ErrUnreachable, // NETWORK_SESSION_EXPIRED
}

func unreachable(address string, err error) error {
	return fmt.Errorf("%w: %s: %w", tree.ErrUnreachable, address, err)
}

// Classify wraps err with the error that callers test for, and keeps its text.
func Classify(err error) error {
	if err == nil {
		return nil
	}
	var response *smb2.ResponseError
	var transport *smb2.TransportError
	var network net.Error
	switch {
	case errors.As(err, &response):
		if known, ok := statuses[response.Code]; ok {
			return fmt.Errorf("%w: %w", known, response)
		}
		return response
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded) && !errors.As(err, &transport):
		return err
	case errors.As(err, &transport), errors.As(err, &network), errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed), errors.Is(err, os.ErrDeadlineExceeded), broken(err):
		return fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
	}
	// What the protocol library says of its own steps tells nobody more.
	for _, plain := range []error{fs.ErrPermission, fs.ErrNotExist, fs.ErrExist} {
		if errors.Is(err, plain) {
			return plain
		}
	}
	return err
}

// broken reports whether a connection is of no use any more after an answer: it was changed
// on its way, is to something that nobody asked, or cannot be taken apart, after which the
// library fails all calls. Of an answer that is only not what was expected the library says
// that its format is broken.
func broken(err error) bool {
	var invalid *smb2.InvalidResponseError
	return errors.As(err, &invalid) && !strings.HasPrefix(invalid.Message, "broken ")
}

// pathError classifies an error of an operation on a name.
func pathError(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var already *fs.PathError
	if errors.As(err, &already) {
		err = already.Err
	}
	return tree.PathError(op, name, Classify(err))
}

// pathNotCovered is how a server answers at a link that leads to another one (MS-SMB2, 3.3.5.9).
const pathNotCovered = 0xC0000257

// LeadsAway reports whether an error says that a path leads to another server: clients follow it by
// a referral.
func LeadsAway(err error) bool {
	var response *smb2.ResponseError
	return errors.As(err, &response) && response.Code == pathNotCovered
}
