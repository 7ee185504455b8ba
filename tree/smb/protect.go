package smb

import (
	"context"
	"crypto/rand"
	"errors"
	"path"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Protect gives a folder to us, and lets us, the server's administrators and the server
// itself in, and nobody else.
func (t *Tree) Protect(ctx context.Context, folder string) error {
	now, err := t.Descriptor(ctx, folder)
	if err != nil {
		return err
	}
	us, err := t.ourselves(ctx, folder)
	if err != nil {
		return err
	}
	want, err := ours(us, "OICI")
	if err != nil || protectsAs(now.Parts(), want.Parts()) {
		return err
	}
	return t.Apply(ctx, folder, tree.Meta{Descriptor: want})
}

// ours are permissions for us, the server's administrators and the server itself; flags say
// what they hand down.
func ours(us account.SID, flags string) (acl.Descriptor, error) {
	return acl.Parse("O:" + us.String() + "G:SYD:P(A;" + flags + ";FA;;;BA)(A;" + flags + ";FA;;;SY)(A;" + flags + ";FA;;;" + us.String() + ")")
}

// Seal does for a file what Protect does for a folder.
func (t *Tree) Seal(ctx context.Context, name string) error {
	us, err := t.ourselves(ctx, path.Dir(name))
	if err != nil {
		return err
	}
	want, err := ours(us, "")
	if err != nil {
		return err
	}
	return t.Apply(ctx, name, tree.Meta{Descriptor: want})
}

// protectsAs reports whether permissions let in those alone whom others let in.
func protectsAs(now, want acl.Parts) bool {
	return now.Owner == want.Owner && now.Control&acl.DACLProtected != 0 && now.DACL != nil &&
		len(now.DACL.Entries) > 0 && !slices.ContainsFunc(now.DACL.Entries, func(e acl.Entry) bool { return !slices.Contains(want.DACL.Entries, e) })
}

// ourselves is who owns what we make, found out once by making a folder.
func (t *Tree) ourselves(ctx context.Context, folder string) (us account.SID, err error) {
	if known := t.us.Load(); known != nil {
		return *known, nil
	}
	name := path.Join(folder, "owner-"+strings.ToLower(rand.Text()))
	if err := t.Mkdir(ctx, name); err != nil {
		return us, err
	}
	d, err := t.Descriptor(ctx, name)
	if err = errors.Join(err, t.Remove(ctx, name)); err != nil {
		return us, err
	}
	us = d.Parts().Owner
	t.us.Store(&us)
	return us, nil
}
