package estate

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/remote"
	"bridgespan/tree/smb"
)

// Shares lists the shares of a server, or of all when server is "", as last seen.
func (s *Service) Shares(ctx context.Context, server string) ([]model.Share, error) {
	if server != "" {
		if _, err := s.db.Server(ctx, server); err != nil {
			return nil, err
		}
	}
	return s.db.Shares(ctx, server)
}

// shownEntries is how many entries a share's detail carries.
const shownEntries = 200

// Share looks at a share as it is now.
func (s *Service) Share(ctx context.Context, server, share string) (model.ShareDetail, error) {
	v, err := s.db.Server(ctx, server)
	if err != nil {
		return model.ShareDetail{}, err
	}
	r, err := s.reach(ctx, v)
	if err != nil {
		return model.ShareDetail{}, Unavailable(v, err)
	}
	defer r.Close()
	shares, err := r.shares(ctx)
	if err != nil {
		return model.ShareDetail{}, Unavailable(v, err)
	}
	i := slices.IndexFunc(shares, func(h model.Share) bool { return namespace.Key(h.Name) == namespace.Key(share) })
	if i < 0 {
		return model.ShareDetail{}, fault.New(fault.NotFound, "list its shares with: bspan share list "+v.Name, "%s has no share %q", v.Name, share)
	}
	if err := s.storeShares(ctx, v.Name, shares); err != nil {
		return model.ShareDetail{}, err
	}
	detail := model.ShareDetail{Share: shares[i], Entries: []model.ShareEntry{}}
	if detail.Kind == "disk" {
		if err := fillDetail(ctx, r, &detail); err != nil {
			return detail, Unavailable(v, err)
		}
	}
	detail.LedToFrom, err = s.db.LedToFrom(ctx, v.Name, detail.Name)
	return detail, err
}

func fillDetail(ctx context.Context, r *Reach, detail *model.ShareDetail) error {
	t, err := r.Tree(ctx, detail.Name, "")
	if err != nil {
		return err
	}
	defer t.Close()
	space, err := t.Space(ctx)
	if err != nil {
		return err
	}
	detail.Total, detail.Free = space.Total, space.Free
	if d, err := t.Descriptor(ctx, "."); err == nil {
		detail.Descriptor = d.String()
	}
	for e, err := range t.List(ctx, ".", tree.Plain) {
		if err != nil {
			return err
		}
		if tree.Reserved(e.Name) {
			continue
		}
		if len(detail.Entries) == shownEntries {
			detail.More = true
			break
		}
		detail.Entries = append(detail.Entries, model.ShareEntry{Name: e.Name, Kind: e.Kind.String(), Size: e.Size, Modified: e.Modified.UTC()})
	}
	slices.SortFunc(detail.Entries, func(a, b model.ShareEntry) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return nil
}

// ListShares lists the shares of a server and keeps the list.
func (s *Service) ListShares(ctx context.Context, r *Reach) ([]model.Share, error) {
	shares, err := r.shares(ctx)
	if err != nil {
		return nil, Unavailable(r.Server, err)
	}
	return shares, s.storeShares(ctx, r.Server.Name, shares)
}

// storeShares keeps the list, and tells watchers when it changed.
func (s *Service) storeShares(ctx context.Context, server string, shares []model.Share) error {
	known, err := s.db.Shares(ctx, server)
	if err != nil {
		return err
	}
	same := slices.EqualFunc(known, shares, func(a, b model.Share) bool {
		a.Seen = b.Seen
		return a == b
	})
	err = s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.ReplaceShares(ctx, server, shares); err != nil || same || len(shares) == 0 {
			return err
		}
		return tx.Tell(ctx, "share", server, shares[0].Seen)
	})
	if !same {
		s.changed()
	}
	return err
}

// Unavailable says in words why a server cannot be used now.
func Unavailable(v model.Server, err error) error {
	switch {
	case fault.KindOf(err) != 0:
		return err
	case errors.Is(err, remote.ErrSecret):
		return fault.New(fault.Unavailable, "give it again with: bspan server edit "+v.Name+" --new-password", "the mover of %s refuses the secret that we have", v.Name).Because(err)
	case errors.Is(err, remote.ErrStranger):
		return fault.New(fault.Unavailable, "when the mover was made anew, give its fingerprint: bspan server edit "+v.Name+" --certificate …; otherwise find out who answers there", "what answers for %s has another certificate than its mover", v.Name).Because(err)
	case errors.Is(err, bucket.ErrKey):
		return fault.New(fault.Unavailable, "give its secret again with: bspan server edit "+v.Name+" --new-password", "%s rejects the access key %s", v.Name, v.Account).Because(err)
	case errors.Is(err, bucket.ErrRegion):
		return fault.New(fault.Unavailable, "set its region with: bspan server edit "+v.Name+" --region REGION", "%s is not in the region %s", v.Name, v.Cloud.Region).Because(err)
	case errors.Is(err, fs.ErrPermission) && v.Can(model.HoldsBuckets):
		return fault.New(fault.Forbidden, keyRights(v), "%s does not allow that to the access key %s", v.Name, v.Account).Because(err)
	case errors.Is(err, fs.ErrPermission) && !v.Can(model.HasAccounts):
		return fault.New(fault.Forbidden, "let the mover run as somebody who has rights there", "%s does not allow that to its mover", v.Name).Because(err)
	case errors.Is(err, smb.ErrSignIn):
		return fault.New(fault.Unavailable, "set its password again with: bspan server edit "+v.Name, "%s refuses the account %s that we administer it with", v.Name, v.Account).Because(err)
	case errors.Is(err, tree.ErrUntrusted):
		return fault.New(fault.Unavailable, "find out who answers at "+hostPort(v)+", then check the server", "%s sent answers that cannot be trusted", v.Name).Because(err)
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded):
		return fault.New(fault.Unavailable, "see why with: bspan server check "+v.Name, "%s does not answer", v.Name).Because(err)
	case errors.Is(err, fs.ErrPermission):
		return fault.New(fault.Forbidden, "give the account "+v.Account+" rights there", "%s does not allow that to the account %s", v.Name, v.Account).Because(err)
	}
	return err
}

// Administer reaches a server that has accounts and shares to be administered. The caller must
// close it.
func (s *Service) Administer(ctx context.Context, server string) (*Reach, error) {
	v, err := s.db.Server(ctx, server)
	if err == nil && !v.Can(model.HasAccounts) {
		err = notSMB(v)
	}
	if err != nil {
		return nil, err
	}
	return s.Reach(ctx, v.Name)
}

// Target is what it takes to sign in to a server, for what needs a session of
// its own kind.
func (s *Service) Target(ctx context.Context, v model.Server) (smb.Target, error) {
	password, err := s.password(ctx, v)
	return s.target(v, password), err
}

// password is that of a server's account, or the secret of its mover.
func (s *Service) password(ctx context.Context, v model.Server) (string, error) {
	if err := quarantined(v, time.Now()); err != nil {
		return "", err
	}
	sealed, err := s.db.ServerSecret(ctx, v.Name)
	if err != nil {
		return "", err
	}
	return s.vault.Unseal(secretLabel(v), sealed)
}

// TryLocation opens where a location is to lead people, and returns its target in
// the server's own spelling, or a fault at field.
func (s *Service) TryLocation(ctx context.Context, field string, target namespace.Target) (namespace.Target, error) {
	if v, err := s.db.Server(ctx, target.Server); err == nil && !v.Can(model.SpeaksSMB) {
		return target, fault.At(field, notSMB(v))
	}
	return s.TryTarget(ctx, field, target)
}

// TryTarget opens a folder, and returns its target in the server's own spelling,
// or a fault at field.
func (s *Service) TryTarget(ctx context.Context, field string, target namespace.Target) (namespace.Target, error) {
	v, err := s.db.Server(ctx, target.Server)
	if err != nil {
		return target, at(field, err)
	}
	target.Server = v.Name
	r, err := s.reach(ctx, v)
	if err != nil {
		return target, fault.At(field, Unavailable(v, err))
	}
	defer r.Close()
	shares, err := r.shares(ctx)
	if err != nil {
		return target, fault.At(field, Unavailable(v, err))
	}
	i := slices.IndexFunc(shares, func(h model.Share) bool {
		return h.Kind == "disk" && namespace.Key(h.Name) == namespace.Key(target.Share)
	})
	if i < 0 {
		return target, fault.Field(field, "choose one of "+diskShares(shares), "%s has no share %q to lead to", v.Name, target.Share)
	}
	target.Share = shares[i].Name
	t, err := r.Tree(ctx, target.Share, target.Sub)
	if err == nil {
		defer t.Close()
		var e tree.Entry
		if e, err = t.Stat(ctx, "."); err == nil && e.Kind != tree.Folder {
			return target, fault.Field(field, "name a folder", "%s is a file", target)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return target, fault.Field(field, "make it first, or correct the spelling", "there is no folder %s", target)
	}
	return target, fault.At(field, Unavailable(v, err))
}

func diskShares(shares []model.Share) string {
	var names []string
	for _, h := range shares {
		if h.Kind == "disk" && !h.Hidden {
			names = append(names, h.Name)
		}
	}
	return strings.Join(names, ", ")
}
