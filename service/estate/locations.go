package estate

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// LookAt tries targets of one server over one session: whether each is there,
// can be listed, and can be written to.
func (s *Service) LookAt(ctx context.Context, server string, targets []namespace.Target) []namespace.Look {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	looks := make([]namespace.Look, len(targets))
	_, session, err := s.Session(ctx, server)
	if err != nil {
		for i := range looks {
			looks[i] = lookOf(err)
		}
		return looks
	}
	defer session.Close()
	// Where the server does not tell its shares, the locations have the last word.
	shares, _ := smbadmin.New(session).Shares(ctx)
	for i, t := range targets {
		err := tryLocation(ctx, session, t)
		if err == nil && lettingRead(shares, t.Share) {
			err = errReadOnly
		}
		looks[i] = lookOf(err)
	}
	return looks
}

// lettingRead reports whether the permissions of a share let nobody more than
// read through. We ourselves may be let through further.
func lettingRead(shares []smbadmin.Share, name string) bool {
	for _, h := range shares {
		if namespace.Key(h.Name) != namespace.Key(name) || h.Permissions.IsZero() {
			continue
		}
		p := h.Permissions.Parts()
		return !p.Open() && !slices.ContainsFunc(p.Entries(), func(e acl.Entry) bool {
			return e.Type == acl.Allow && e.Mask.Mapped()&(acl.WriteData|acl.AppendData) != 0
		})
	}
	return false
}

var errReadOnly = errors.New("read-only")

func tryLocation(ctx context.Context, session *smb.Session, target namespace.Target) error {
	t, err := session.Tree(ctx, target.Share, target.Sub)
	if err != nil {
		return err
	}
	defer t.Close()
	entry, err := t.Stat(ctx, ".")
	switch {
	case err != nil:
		return err
	case entry.Kind != tree.Folder:
		return fs.ErrNotExist
	}
	for _, err := range t.List(ctx, ".", tree.Plain) {
		if err != nil {
			return err
		}
		break
	}
	if err := t.MayWrite(ctx, "."); errors.Is(err, fs.ErrPermission) {
		return errReadOnly
	} else if err != nil {
		return err
	}
	return nil
}

// lookOf tells apart what can be wrong with a location.
func lookOf(err error) namespace.Look {
	var health namespace.Health
	switch {
	case err == nil:
		return namespace.Look{Health: namespace.Well}
	case errors.Is(err, errReadOnly):
		return namespace.Look{Health: namespace.ReadOnly, Text: namespace.ReadOnly.Words()}
	case errors.Is(err, smb.ErrNoShare):
		health = namespace.ShareMissing
	case errors.Is(err, fs.ErrNotExist):
		health = namespace.FolderMissing
	case errors.Is(err, fs.ErrPermission), errors.Is(err, smb.ErrSignIn):
		health = namespace.Refused
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		health = namespace.Silent
	default:
		return namespace.Look{Health: namespace.Broken, Text: namespace.Broken.Words() + ": " + cause(err).Error()}
	}
	return namespace.Look{Health: health, Text: health.Words()}
}
