package worker

import (
	"context"
	"slices"
	"strings"

	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// holders are the files that people have open at the places of a set, asked for
// once for all that could not be carried. The zero value has asked nobody.
type holders map[int64][]smbadmin.OpenFile

// of tells who holds a path open at any place of a set, and where; "" when no
// server tells.
func (h holders) of(ctx context.Context, r *round, name string) string {
	var found []string
	for _, p := range r.places {
		files, asked := h[p.ID]
		if !asked {
			files = p.openFiles(ctx)
			h[p.ID] = files
		}
		for _, f := range files {
			if who := f.Person + " at " + p.Name; holdsPath(f, p.Sub, name) && !slices.Contains(found, who) {
				found = append(found, who)
			}
		}
	}
	return strings.Join(found, ", ")
}

// holdsPath reports whether an open file is a path of a replica. Servers write
// paths as they know them themselves: what they end in is compared.
func holdsPath(f smbadmin.OpenFile, sub, name string) bool {
	path := "/" + tree.Key(strings.ReplaceAll(f.Path, `\`, "/"), false)
	end := "/" + tree.Key(name, false)
	if sub != "" {
		end = "/" + tree.Key(sub, false) + end
	}
	return strings.HasSuffix(path, end)
}

// openFiles lists what people have open at a place; nothing when its server does
// not tell.
func (p *replicaWorker) openFiles(ctx context.Context) []smbadmin.OpenFile {
	r, err := p.Estate.Administer(ctx, p.Server)
	if err != nil {
		return nil
	}
	defer r.Close()
	files, err := r.Admin().OpenFiles(ctx)
	if err != nil {
		return nil
	}
	return files
}
