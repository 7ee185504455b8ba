package migrations

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/migrate"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/preflight"
	"bridgespan/tree"
)

// checkTarget checks where shares go, and writes it as the records do.
func (s *Service) checkTarget(ctx context.Context, d *model.MigrationDraft) error {
	if d.Target == "" {
		return nil
	}
	const field = "target"
	at, err := namespace.ParseTarget(field, d.Target)
	if err != nil {
		return err
	}
	place, err := s.place(ctx, field, at.Server+"/"+at.Share)
	if err != nil {
		return err
	}
	at.Server, at.Share, _ = strings.Cut(place, "/")
	d.Target = at.String()
	return s.checkApart(ctx, d, at)
}

// checkApart returns a fault when the target is in a source, or a source in the target.
func (s *Service) checkApart(ctx context.Context, d *model.MigrationDraft, at namespace.Target) error {
	known, err := s.db.Shares(ctx, at.Server)
	if err != nil {
		return err
	}
	where := func(share string) string {
		for _, h := range known {
			if h.Name == share {
				return h.Path
			}
		}
		return ""
	}
	into := path.Join(strings.ReplaceAll(where(at.Share), `\`, "/"), at.Sub)
	for _, source := range d.Sources {
		server, share, single := strings.Cut(source, "/")
		if server != at.Server {
			continue
		}
		if !single {
			return fault.Field("target", "choose a share of another server, or name single shares as sources", "%s is a source with every share, and %s is one of them", server, at)
		}
		from := where(share)
		if _, inside := accounts.Below(from, into); inside && from != "" {
			return fault.Field("target", "choose another folder", "%s lies inside of the source %s", at, source)
		}
		if _, inside := accounts.Below(into, from); inside && from != "" {
			return fault.Field("target", "choose another folder", "the source %s lies inside of %s", source, at)
		}
	}
	return nil
}

// CheckTarget checks the target of a migration, and stores what it found.
func (s *Service) CheckTarget(ctx context.Context, name string) (model.Migration, error) {
	m, err := s.Get(ctx, name)
	if err != nil {
		return m, err
	}
	if m.Target == "" {
		return m, fault.Field("target", "choose one with: bspan migration target MIGRATION SERVER/SHARE", "%s has no target yet", m.Name)
	}
	at, err := namespace.ParseTarget("target", m.Target)
	if err != nil {
		return m, err
	}
	now := time.Now().UTC().Truncate(time.Microsecond)
	m.TargetChecks, m.TargetChecked = s.targetChecks(ctx, &m, at), &now
	if err := ctx.Err(); err != nil {
		return m, err
	}
	if err := s.db.StoreTargetChecks(ctx, m); err != nil {
		return m, err
	}
	return m, s.db.Tell(ctx, Topic, m.Name, now)
}

// targetCheck is one check of a target.
type targetCheck struct {
	*Service
	*model.Migration
	place preflight.Place
	tree  tree.Tree
	found []finding.Finding
}

func (c *targetCheck) add(severity finding.Severity, code, found, meaning, remedy string) {
	c.found = append(c.found, finding.New(severity, code, "", found, meaning, remedy))
}

// note adds a finding if there is one.
func (c *targetCheck) note(f finding.Finding, ok bool) {
	if ok {
		c.found = append(c.found, f)
	}
}

func (s *Service) targetChecks(ctx context.Context, m *model.Migration, at namespace.Target) []finding.Finding {
	c := &targetCheck{Service: s, Migration: m, place: preflight.Place{Name: at.Server, Target: at}}
	r, err := s.estate.Reach(ctx, at.Server)
	if err != nil {
		c.note(finding.New(finding.Fail, "reach", "", preflight.Words(err), "nothing can be migrated to it", "check the server").With(finding.To(finding.CheckServer, at.Server)), true)
		return c.found
	}
	defer r.Close()
	c.place.Server, c.place.Reach = r.Server, r
	t, folder, err := openNearest(ctx, r, at)
	if err != nil {
		c.add(finding.Fail, "reach", preflight.Words(err), "nothing can be migrated to it", "choose a share that the server offers")
		return c.found
	}
	defer t.Close()
	c.tree = t
	c.note(preflight.Write(ctx, c.place, t, folder), true)
	c.note(preflight.Remove(ctx, s.people, c.place, t, folder))
	c.note(preflight.Clock(ctx, c.place), true)
	c.space(ctx)
	c.features()
	c.folders(ctx, folder, at.Sub)
	c.shares(ctx)
	c.paths(ctx)
	c.unknown(ctx)
	return c.found
}

// openNearest opens the share of a target, and returns the nearest folder that is there: the target itself may still be missing.
func openNearest(ctx context.Context, r *estate.Reach, at namespace.Target) (tree.Tree, string, error) {
	t, err := r.Tree(ctx, at.Share, "")
	if err != nil {
		return nil, "", estate.Unavailable(r.Server, err)
	}
	folder := path.Join(".", at.Sub)
	for folder != "." {
		if e, err := t.Stat(ctx, folder); err == nil && e.Kind == tree.Folder {
			break
		}
		folder = path.Dir(folder)
	}
	return t, folder, nil
}

// space checks the room for what the surveys counted.
func (c *targetCheck) space(ctx context.Context) {
	space, err := c.tree.Space(ctx)
	if err != nil {
		c.add(finding.Warn, "space", "the free space cannot be read: "+preflight.Words(err), "nobody knows whether the shares fit", "look at the volume of "+c.place.Target.String())
		return
	}
	n := c.Totals
	if n.Surveyed < n.Shares {
		c.add(finding.Warn, "survey", fmt.Sprintf("%s not surveyed", english.Plural(n.Shares-n.Surveyed, "share is", "shares are")), "space, names and accounts are checked for the others only", "survey these shares, and check again")
	}
	c.note(preflight.Space(c.place.Name, preflight.Need{Content: n.Bytes, Free: space.Free}), true)
}

// features checks what the target can store.
func (c *targetCheck) features() {
	can := c.tree.Capabilities()
	if !can.Descriptors {
		c.add(finding.Fail, "features", "it stores no permissions", "everybody could do everything there", "choose a share that stores them")
		return
	}
	c.add(finding.Pass, "features", "it stores permissions, owners, times and attributes", "", "")
}

// folders checks what is in the way at the target.
func (c *targetCheck) folders(ctx context.Context, folder, sub string) {
	var shares, into []string
	for _, h := range c.Shares {
		if h.Left == "" {
			shares, into = append(shares, h.Server+"/"+h.Share), append(into, h.Folder)
		}
	}
	for _, mixed := range migrate.Collisions(into) {
		c.add(finding.Fail, "folders", fmt.Sprintf("%s would go to %s, and %s to %s", shares[mixed.Folder], into[mixed.Folder], shares[mixed.Inside], into[mixed.Inside]), "their files would be mixed", "leave one of them at the source, or choose another folder for it")
	}
	if folder == path.Join(".", sub) { // else the target itself is missing
		for _, name := range into {
			c.occupied(ctx, path.Join(".", sub, name))
		}
	}
	if !slices.ContainsFunc(c.found, func(f finding.Finding) bool { return f.Code == "folders" }) {
		c.add(finding.Pass, "folders", fmt.Sprintf("%s there: none holds anything yet", english.Plural(len(into), "folder goes", "folders go")), "", "")
	}
}

// occupied checks whether a folder of the target holds something.
func (c *targetCheck) occupied(ctx context.Context, name string) {
	for _, err := range c.tree.List(ctx, name, tree.Bare) {
		switch {
		case err == nil:
			c.add(finding.Warn, "folders", name+" is there already, and holds something", "what is there differs from the source, or is replaced", "move it away, or choose another folder")
		case !errors.Is(err, fs.ErrNotExist):
			c.add(finding.Warn, "folders", name+" cannot be listed: "+preflight.Words(err), "nobody knows what is there", "look at it")
		}
		return
	}
}

// shares checks which shares of the same names the target has.
func (c *targetCheck) shares(ctx context.Context) {
	known, err := c.estate.ListShares(ctx, c.place.Reach)
	if err != nil {
		c.add(finding.Warn, "shares", "its shares cannot be listed: "+preflight.Words(err), "nobody knows which names are taken", "check the server")
		return
	}
	var taken []string
	for _, h := range c.Shares {
		if h.Left == "" && slices.ContainsFunc(known, func(other model.Share) bool { return namespace.Key(other.Name) == namespace.Key(h.Share) }) {
			taken = append(taken, h.Share)
		}
	}
	if len(taken) == 0 {
		c.add(finding.Pass, "shares", "no share there has the name of one that is migrated", "", "")
		return
	}
	c.add(finding.Warn, "shares", fmt.Sprintf("%s there already: %s", english.PluralWord(len(taken), "a share of the same name is", "shares of the same names are"), some(taken)), "people use these, and the migration does not change them", "remove them there, or leave the shares at the source")
}

// paths checks the longest path that people would open.
func (c *targetCheck) paths(ctx context.Context) {
	longest, share := "", ""
	err := c.each(ctx, c.Migration, func(h *model.MigrationShare, v model.Survey) error {
		if l := v.Figures.Longest; len(l) > 0 && len(l[0].Path) > len(longest) {
			longest, share = l[0].Path, h.Share
		}
		return nil
	})
	if err == nil && longest != "" {
		p := c.place
		p.Target = namespace.Target{Server: p.Server.Name, Share: share}
		c.note(preflight.PathLength(p, longest))
	}
	if n := c.Totals.Names; n > 0 {
		c.add(finding.Warn, "names", english.Plural(int(n), "name is", "names are")+" refused by Windows clients or cloud stores", "people cannot open these files everywhere, today as well", "see them in the survey of each share")
	}
}

// unknown checks which accounts the target does not know.
func (c *targetCheck) unknown(ctx context.Context) {
	list, err := c.accounts(ctx, c.Migration)
	var sids []account.SID
	for _, a := range list {
		if sid, bad := account.ParseSID(a.SID); bad == nil {
			sids = append(sids, sid)
		}
	}
	var known []model.Account
	if err == nil {
		err = c.people.With(ctx, c.place.Server.Name, func(at *accounts.At) (err error) {
			known, err = c.people.Named(ctx, at, sids)
			return err
		})
	}
	if err != nil {
		c.add(finding.Warn, "accounts", "the accounts of the server cannot be asked for: "+preflight.Words(err), "nobody knows whom permissions name there", "check the server")
		return
	}
	names := map[string]string{}
	for _, a := range list {
		names[a.SID] = a.Name
	}
	var strange []string
	for i, a := range known {
		if a.Kind == account.Unresolved {
			strange = append(strange, names[sids[i].String()])
		}
	}
	c.note(preflight.Accounts(c.place.Name, preflight.Known{All: len(list), Unknown: strange,
		Remedy: "grant groups of the domain in their place, and revoke the entries of accounts that nobody knows"}), len(list) > 0)
}

// some are the first few of a list.
func some(list []string) string {
	const most = 5
	if len(list) > most {
		return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
	}
	return strings.Join(list, ", ")
}
