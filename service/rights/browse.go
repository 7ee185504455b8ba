package rights

import (
	"context"
	"slices"
	"strings"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/tree"
)

// mostBrowsed is how many entries of a folder are shown.
const mostBrowsed = 2000

// Browse lists a folder with the permissions of what is in it. When as is not
// "", it tells what that account may do with each.
func (s *Service) Browse(ctx context.Context, path, as, part string) (model.Folder, error) {
	f := model.Folder{Entries: []model.FolderEntry{}}
	l, err := s.lookAt(ctx, "path", path)
	if err != nil {
		return f, err
	}
	defer l.close()
	f.Place = l.Place
	if !l.Folder {
		return f, fault.Field("path", "name its folder", "%s is a file", path)
	}
	var judge func(acl.Parts) acl.Level
	if as != "" {
		shown, sid, err := s.accounts.Find(ctx, l.at, "as", as)
		if err != nil {
			return f, failure(l, "as", err)
		}
		t, err := s.accounts.TokenFor(ctx, l.at, sid)
		if err != nil {
			return f, failure(l, "as", err)
		}
		f.As = &shown
		parent, share := l.own(), l.shareParts()
		judge = func(p acl.Parts) acl.Level {
			return acl.Object{Permissions: p, Parent: &parent, Share: share}.Effective(t.Token).Level()
		}
	}
	if err := l.browse(ctx, strings.ToLower(part), judge, &f); err != nil {
		return f, failure(l, "path", err)
	}
	slices.SortFunc(f.Entries, func(a, b model.FolderEntry) int {
		if a.Kind != b.Kind && (a.Kind == "folder" || b.Kind == "folder") {
			return strings.Compare(b.Kind, a.Kind)
		}
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return f, nil
}

func (l *look) browse(ctx context.Context, part string, judge func(acl.Parts) acl.Level, f *model.Folder) error {
	judged := map[acl.Descriptor]acl.Level{}
	parent := l.own()
	for e, err := range l.tree.List(ctx, l.inside(), tree.WithDescriptors) {
		if err != nil && e.Name == "" {
			return err
		}
		if tree.Reserved(e.Name) || !strings.Contains(strings.ToLower(e.Name), part) {
			continue
		}
		if len(f.Entries) == mostBrowsed {
			f.More = true
			return nil
		}
		entry := model.FolderEntry{Name: e.Name, Kind: e.Kind.String(), Size: e.Size, Modified: e.Modified.UTC()}
		if e.Descriptor.IsZero() {
			entry.Trouble = "its permissions cannot be read"
		} else {
			p := e.Descriptor.Parts()
			entry.Own, entry.Inherited = len(p.Explicit()), len(p.Entries())-len(p.Explicit())
			entry.Protected, entry.Stale = p.Protected(), p.Stale(parent, e.Kind == tree.Folder)
			if judge != nil {
				level, known := judged[e.Descriptor]
				if !known {
					level = judge(p)
					judged[e.Descriptor] = level
				}
				entry.Level = level
			}
		}
		f.Entries = append(f.Entries, entry)
	}
	return nil
}
