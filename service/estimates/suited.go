package estimates

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/dustin/go-humanize"

	"bridgespan/core/dedup"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/estate"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// leastFree is which part of a volume should be free for deduplication to work in.
const leastFree = 0.05

// ground is what a place lies on.
type ground struct {
	place        model.DedupPlace
	space        tree.Space
	capabilities tree.Capabilities
	mayWrite     error
	system       string // why it is taken for the server's system volume; "" when it is not
}

// Look tells what speaks against an estimate, and against deduplicating the volume at
// all, before anything is begun.
func (s *Service) Look(ctx context.Context, asked model.NewEstimate) (model.DedupLook, error) {
	look := model.DedupLook{Warnings: []finding.Finding{}}
	if err := check(&asked); err != nil {
		return look, err
	}
	v, before, err := s.resolve(ctx, &asked)
	if err != nil {
		return look, err
	}
	if err := s.mayCount(ctx, asked.Counting, v); err != nil {
		return look, err
	}
	look.Volume, look.Why = v, dedup.Profile(v.Profile).Why()
	if before != nil {
		look.Warnings = append(look.Warnings, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: "all of it is to be read again", Meaning: "it was read with other chunks, or other chunks of it were compressed", Remedy: fmt.Sprintf("leave the profile at %s to read what has changed alone", before.Profile)})
	}
	grounds, err := s.grounds(ctx, v)
	look.Warnings = append(look.Warnings, suited(grounds)...)
	for _, g := range grounds {
		look.Places = append(look.Places, model.DedupGround{DedupPlace: g.place, Capacity: g.space.Total, Free: g.space.Free, FileSystem: g.space.Storage.FileSystem, Storage: g.storage()})
	}
	return look, err
}

// grounds looks at what the places of a volume lie on.
func (s *Service) grounds(ctx context.Context, v model.DedupVolume) (list []ground, err error) {
	for _, p := range v.Places {
		t, reach, err := s.openPlace(ctx, p)
		if err != nil {
			return list, err
		}
		g, err := s.ground(ctx, p, t, reach)
		t.Close()
		if err != nil {
			return list, err
		}
		list = append(list, g)
	}
	return list, nil
}

// openPlace opens a place, by a connection that ends with it.
func (s *Service) openPlace(ctx context.Context, p model.DedupPlace) (t tree.Tree, r *estate.Reach, err error) {
	if r, err = s.estate.Reach(ctx, p.Server); err != nil {
		return nil, nil, err
	}
	if t, err = r.Whole(ctx, p.Share, p.Sub); err != nil {
		return nil, nil, estate.Unavailable(r.Server, err)
	}
	return t, r, nil
}

// ground looks at what an open place lies on.
func (s *Service) ground(ctx context.Context, p model.DedupPlace, t tree.Tree, reach *estate.Reach) (ground, error) {
	shares, err := s.db.Shares(ctx, p.Server)
	if err != nil {
		return ground{}, err
	}
	g, err := groundOf(ctx, p, t, shares)
	if a := reach.Admin(); err == nil && a != nil {
		err = g.askDrive(ctx, a, pathOf(p.Share, shares))
	}
	if err != nil {
		return g, estate.Unavailable(reach.Server, err)
	}
	return g, nil
}

// drives tells what is behind the letter of a drive.
type drives interface {
	Drive(ctx context.Context, letter byte) (smbadmin.Drive, error)
}

// askDrive asks a file server what kind of storage is under a share at path: over SMB
// the share itself does not tell. Many a server keeps that to itself, too.
func (g *ground) askDrive(ctx context.Context, server drives, path string) error {
	drive := driveOf(path)
	if drive == "" {
		return nil
	}
	d, err := server.Drive(ctx, drive[0])
	if errors.Is(err, smbadmin.ErrNotOffered) {
		return nil
	}
	g.space.Storage.Known, g.space.Storage.Removable, g.space.Storage.ReadOnly = err == nil, d.Removable, d.ReadOnly
	return err
}

// storage is the kind of storage, in one word; "" when nobody has told.
func (g *ground) storage() string {
	switch on := &g.space.Storage; {
	case on.Removable:
		return "removable"
	case on.ReadOnly:
		return "read-only"
	case on.Known:
		return "fixed"
	}
	return ""
}

func groundOf(ctx context.Context, p model.DedupPlace, t tree.Tree, shares []model.Share) (ground, error) {
	g := ground{place: p, capabilities: t.Capabilities(), system: systemShare(p.Share, shares)}
	var err error
	if g.space, err = t.Space(ctx); err != nil {
		return g, err
	}
	if g.space.Storage.System {
		g.system = "it is what the host has started from"
	}
	g.mayWrite = estate.MayWrite(ctx, t, ".")
	return g, nil
}

// systemShare is why a share is taken to lie on the system volume of its server: it is
// one that servers have for their own administration, or it is on the same drive.
func systemShare(name string, shares []model.Share) string {
	if key := strings.ToLower(name); key == "admin$" || key == "c$" {
		return "servers have that share for their own administration"
	}
	if d := driveOf(pathOf("ADMIN$", shares)); d != "" && driveOf(pathOf(name, shares)) == d {
		return "it is on drive " + d + ", where the server keeps itself"
	}
	return ""
}

// pathOf is where a share lies on its server; "" when that is not known.
func pathOf(name string, shares []model.Share) string {
	for _, h := range shares {
		if strings.EqualFold(h.Name, name) {
			return h.Path
		}
	}
	return ""
}

// driveOf is the drive that a path of a server begins with; "" when it does with none.
func driveOf(path string) string {
	if len(path) < 2 || path[1] != ':' {
		return ""
	}
	return strings.ToUpper(path[:2])
}

// unfit are file systems on which deduplication has little to work with, and why.
var unfit = map[string]string{
	"vfat": "it keeps no holes and no permissions: what is freed within a file is not free", "exfat": "it keeps no holes and no permissions: what is freed within a file is not free",
	"tmpfs": "it is in memory, and gone when the host starts anew", "overlay": "it only shows what lies elsewhere", "fuse": "a program makes it up: the storage is behind that",
	"iso9660": "it is never written to", "squashfs": "it is never written to", "nfs": "the storage is another machine's", "smb": "the storage is another machine's",
}

// suited tells what speaks against deduplicating what a volume lies on.
func suited(grounds []ground) (list []finding.Finding) {
	for i := range grounds {
		list = append(list, grounds[i].suited()...)
	}
	for _, g := range grounds[min(1, len(grounds)):] {
		if first := grounds[0]; g.space.Total != first.space.Total || g.place.Server != first.place.Server {
			list = append(list, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: fmt.Sprintf("%s and %s do not lie on one volume", placeName(first.place), placeName(g.place)), Meaning: "what they have in common is counted as kept once, which holds only when they are moved to one",
				Remedy: "estimate each volume by itself, and see what they would save together: bspan dedup pool"})
			break
		}
	}
	return list
}

func (g *ground) suited() (list []finding.Finding) {
	name, space, on := placeName(g.place), &g.space, &g.space.Storage
	add := func(level finding.Severity, says, means, remedy string) {
		list = append(list, finding.New(level, "volume", "", says, means, remedy))
	}
	if g.system != "" {
		add(finding.Fail, name+" lies on the server's system volume", g.system+"; what a server starts from is not to be deduplicated", "choose the shares that hold data, or move this one")
	}
	if on.Removable {
		add(finding.Fail, name+" lies on storage that can be taken out", "without the chunks that it shares, nothing there could be read elsewhere", "choose storage that stays")
	}
	why := unfit[on.FileSystem]
	if why != "" {
		add(finding.Fail, fmt.Sprintf("%s lies on %s", name, on.FileSystem), why, "estimate where the storage is, and on a file system of a disk")
	}
	switch {
	case on.ReadOnly:
		add(finding.Fail, name+" lies on storage that is mounted read-only", "the estimate holds, but nothing could be deduplicated there", "see whether it is meant to be")
	case errors.Is(g.mayWrite, fs.ErrPermission):
		add(finding.Warn, name+" cannot be written by our account", "the estimate holds, but nothing could be deduplicated there: it may be read-only", "see whether the share, or the storage under it, is meant to be")
	}
	if space.Total > 0 && float64(space.Free) < leastFree*float64(space.Total) {
		add(finding.Warn, fmt.Sprintf("only %s of %s are free under %s", humanize.IBytes(uint64(space.Free)), humanize.IBytes(uint64(space.Total)), name),
			"deduplication writes chunks before it frees what they replace: it would have little room to work in", "make room first, or begin with the folders that save most")
	}
	if !g.capabilities.IDs && why == "" {
		add(finding.Warn, name+" does not number its files", "several names of one file count as so many files, and what they seem to save is saved already", "take the saving by whole files for an upper bound of that")
	}
	return list
}
