package estate

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/service/endpoint"
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
	r, err := s.Reach(ctx, server)
	if err != nil {
		for i := range looks {
			looks[i] = lookOf(err)
		}
		return looks
	}
	defer r.Close()
	// Where the server does not tell its shares, the locations have the last word.
	var shares []smbadmin.Share
	if admin := r.Admin(); admin != nil {
		shares, _ = admin.Shares(ctx)
	}
	// Several at a time, each share opened once.
	open := &openShares{at: r}
	defer open.close()
	var group guard.Group
	group.SetLimit(looksSideBySide)
	for i, t := range targets {
		group.Go(func() error {
			err := guard.Call(func() error { return open.try(ctx, t) })
			if err == nil && lettingRead(shares, t.Share) {
				err = errReadOnly
			}
			looks[i] = lookOf(err)
			return nil
		})
	}
	_ = group.Wait()
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

// looksSideBySide is how many locations of one server are looked at together.
const looksSideBySide = 4

// openShares are the shares of a session that were opened so far.
type openShares struct {
	at    endpoint.Endpoint
	mu    sync.Mutex
	trees map[string]*openShare
}

type openShare struct {
	once sync.Once
	tree tree.Tree
	err  error
}

func (o *openShares) share(ctx context.Context, name string) (tree.Tree, error) {
	o.mu.Lock()
	if o.trees == nil {
		o.trees = map[string]*openShare{}
	}
	s := o.trees[name]
	if s == nil {
		s = &openShare{}
		o.trees[name] = s
	}
	o.mu.Unlock()
	s.once.Do(func() {
		s.err = guard.Call(func() (err error) {
			s.tree, err = o.at.Tree(ctx, name, "")
			return err
		})
	})
	return s.tree, s.err
}

func (o *openShares) close() {
	for _, s := range o.trees {
		if s.tree != nil {
			_ = s.tree.Close()
		}
	}
}

// try looks at a location: whether it is a folder, can be listed and written to.
func (o *openShares) try(ctx context.Context, target namespace.Target) error {
	t, err := o.share(ctx, target.Share)
	if err != nil {
		return err
	}
	name := cmp.Or(target.Sub, ".")
	entry, err := t.Stat(ctx, name)
	switch {
	case err != nil:
		return err
	case entry.Kind != tree.Folder:
		return fs.ErrNotExist
	}
	for _, err := range t.List(ctx, name, tree.Plain) {
		if err != nil {
			return err
		}
		break
	}
	if err := tree.MayWrite(ctx, t, name); errors.Is(err, fs.ErrPermission) {
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
