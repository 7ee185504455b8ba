package smbadmin

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/smbadmin/internal/rpc"
)

// Share is a share as its server tells ([MS-SRVS] 2.2.4.26).
type Share struct {
	Name   string
	Note   string
	Kind   string // "disk", "printer", "device" or "pipes"
	Hidden bool   // kept out of people's lists
	// Below needs an administrator; Known is false for anybody else.
	Known   bool
	Path    string // on the server, as it writes paths
	MaxUses uint32 // NoLimit for any number
	Uses    uint32 // how many connections it has now
	// Permissions are zero when the server says none: everybody comes through.
	Permissions acl.Descriptor
}

// NoLimit lets any number of people use a share at a time.
const NoLimit = 0xFFFFFFFF

var serverService = rpc.Interface{Pipe: "srvsvc", Major: 3, UUID: uuid(0x4b324fc8, 0x1670, 0x01d3, 0x12, 0x78, 0x5a, 0x47, 0xbf, 0x6e, 0xe1, 0x88)}

// Numbers of the procedures ([MS-SRVS] 3.1.4).
const (
	callFileEnum     = 9
	callSessionEnum  = 12
	callShareAdd     = 14
	callShareEnum    = 15
	callShareGetInfo = 16
	callShareSetInfo = 17
	callShareDel     = 18
)

// Kinds of shares ([MS-SRVS] 2.2.2.4).
const (
	kindMask    = 0x0000FFFF
	kindSpecial = 0x80000000
)

func kindName(kind uint32) string {
	names := []string{"disk", "printer", "device", "pipes"}
	if k := int(kind & kindMask); k < len(names) {
		return names[k]
	}
	return "other"
}

// Shares lists the shares of a server, in order of name: everything about each
// when the session may administer the server, and name, note and kind otherwise.
func (a *Admin) Shares(ctx context.Context) ([]Share, error) {
	shares, err := a.sharesAt(ctx, 502, readShare502)
	var status *StatusError
	if err != nil && (errors.As(err, &status) || errors.Is(err, ErrNotOffered)) {
		shares, err = a.sharesAt(ctx, 1, readShare1)
	}
	slices.SortFunc(shares, func(a, b Share) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return shares, err
}

func (a *Admin) sharesAt(ctx context.Context, level uint32, read func(*ndr.Reader, int) []Share) (shares []Share, err error) {
	return shares, a.talk(ctx, serverService, func(c *conversation) error {
		shares, err = c.shares(level, read)
		return err
	})
}

func (c *conversation) shares(level uint32, read func(*ndr.Reader, int) []Share) (shares []Share, err error) {
	status, err := c.call(callShareEnum, func(w *ndr.Writer) {
		w.Pointer(nil)
		writeWanted(w, level)
	}, func(r *ndr.Reader) { shares = readContainer(r, level, read) })
	return shares, check("list shares", status, err)
}

// readContainer reads the union of lists: its level twice, a pointer, a count
// and an array.
func readContainer[T any](r *ndr.Reader, level uint32, read func(*ndr.Reader, int) []T) []T {
	if got, again := r.U32(), r.U32(); r.Err() == nil && (got != level || again != level) {
		r.Fail("level %d, and %d was asked for", got, level)
		return nil
	}
	if !r.Pointer() {
		return nil
	}
	said := r.U32()
	if !r.Pointer() {
		return nil
	}
	n := r.Count(4)
	if uint32(n) != said {
		r.Fail("a list of %d that says %d", n, said)
		return nil
	}
	return read(r, n)
}

func readShare1(r *ndr.Reader, n int) []Share {
	shares := make([]Share, 0, n)
	for range n {
		r.U32()
		kind := r.U32()
		r.U32()
		shares = append(shares, Share{Kind: kindName(kind), Hidden: kind&kindSpecial != 0})
	}
	for i := range shares {
		shares[i].Name, shares[i].Note = r.Text(), r.Text()
		shares[i].Hidden = shares[i].Hidden || strings.HasSuffix(shares[i].Name, "$")
	}
	return shares
}

// readShare502 reads SHARE_INFO_502 structures, and then what their pointers lead to.
func readShare502(r *ndr.Reader, n int) []Share {
	shares := make([]Share, 0, min(n, 1024))
	pointers := make([][5]bool, 0, min(n, 1024)) // name, note, path, password, descriptor
	for range n {
		var s Share
		var p [5]bool
		p[0] = r.Pointer()
		kind := r.U32()
		p[1] = r.Pointer()
		r.U32()
		s.MaxUses, s.Uses = r.U32(), r.U32()
		p[2], p[3] = r.Pointer(), r.Pointer()
		r.U32()
		p[4] = r.Pointer()
		if r.Err() != nil {
			return nil
		}
		s.Kind, s.Hidden, s.Known = kindName(kind), kind&kindSpecial != 0, true
		shares, pointers = append(shares, s), append(pointers, p)
	}
	for i := range shares {
		s, p := &shares[i], pointers[i]
		var password string
		for field, to := range []*string{&s.Name, &s.Note, &s.Path, &password} {
			if p[field] {
				*to = r.Text()
			}
		}
		s.Hidden = s.Hidden || strings.HasSuffix(s.Name, "$")
		if p[4] {
			s.Permissions = readDescriptor(r)
		}
	}
	return shares
}

func readDescriptor(r *ndr.Reader) acl.Descriptor {
	b := r.Raw32(r.Count(1))
	if len(b) == 0 {
		return acl.Descriptor{}
	}
	d, err := acl.FromBinary(b)
	if err != nil {
		r.Fail("permissions of a share: %v", err)
	}
	return d
}

// Share looks at one share. Its error wraps fs.ErrNotExist when there is none.
func (a *Admin) Share(ctx context.Context, name string) (Share, error) {
	shares, err := a.Shares(ctx)
	if err != nil {
		return Share{}, err
	}
	for _, s := range shares {
		if account.EqualNames(s.Name, name) {
			return s, nil
		}
	}
	return Share{}, fmt.Errorf("look at share %s: %w", name, fs.ErrNotExist)
}

// onShares is talk about shares. The list is read first: some servers see
// what was changed through another connection no sooner.
func (a *Admin) onShares(ctx context.Context, do func(*conversation) error) error {
	return a.talk(ctx, serverService, func(c *conversation) error {
		if _, err := c.shares(1, readShare1); err != nil {
			return err
		}
		return do(c)
	})
}

// write writes SHARE_INFO_502.
func (s Share) write(w *ndr.Writer) {
	descriptor := s.Permissions.Binary()
	w.Inside(func() { w.Text(s.Name) })
	w.U32(0) // a folder
	w.Inside(func() { w.Text(s.Note) })
	w.U32(0)
	w.U32(s.MaxUses)
	w.U32(0)
	w.Inside(func() { w.Text(s.Path) })
	w.Inside(nil)
	w.U32(uint32(len(descriptor)))
	if descriptor == nil {
		w.Inside(nil)
	} else {
		w.Inside(func() {
			w.U32(uint32(len(descriptor)))
			w.Raw(descriptor)
		})
	}
	w.Flush()
}

// CreateShare makes a share of an existing folder: Name, Note, Path, MaxUses
// and Permissions of s. It wraps fs.ErrExist when the name is taken.
func (a *Admin) CreateShare(ctx context.Context, s Share) error {
	return a.onShares(ctx, func(c *conversation) error {
		status, err := c.call(callShareAdd, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.U32(502)
			w.U32(502)
			w.Pointer(func() { s.write(w) })
			w.Pointer(func() { w.U32(0) })
		}, nil)
		return check("create share "+s.Name, status, err)
	})
}

// EditShare sets note, limit, path and permissions of a share.
func (a *Admin) EditShare(ctx context.Context, s Share) error {
	return a.setShare(ctx, s.Name, 502, func(w *ndr.Writer) { s.write(w) })
}

func (a *Admin) setShare(ctx context.Context, name string, level uint32, write func(*ndr.Writer)) error {
	return a.onShares(ctx, func(c *conversation) error {
		status, err := c.call(callShareSetInfo, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.Text(name)
			w.U32(level)
			w.U32(level)
			w.Pointer(func() { write(w) })
			w.Pointer(func() { w.U32(0) })
		}, nil)
		return check("change share "+name, status, err)
	})
}

// RemoveShare ends a share. The folder and what is in it stay.
func (a *Admin) RemoveShare(ctx context.Context, name string) error {
	if err := a.removeShare(ctx, name); err != nil {
		return err
	}
	// A later share of this name must not begin with the options of this one.
	err := a.forgetSettings(ctx, name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrNotOffered) {
		return nil
	}
	return err
}

func (a *Admin) removeShare(ctx context.Context, name string) error {
	return a.onShares(ctx, func(c *conversation) error {
		status, err := c.call(callShareDel, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.Text(name)
			w.U32(0)
		}, nil)
		return check("remove share "+name, status, err)
	})
}
