package estate

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"bridgespan/core/namespace"
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
	for i, t := range targets {
		looks[i] = lookOf(tryLocation(ctx, session, t))
	}
	return looks
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
