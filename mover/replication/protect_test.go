package replication

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// guarded is a tree that notes in what order a folder is protected, filled and named.
type guarded struct {
	*memory.Tree
	protected []string
	fails     error
}

func (g *guarded) Protect(ctx context.Context, folder string) error {
	if _, err := g.Stat(ctx, folder); err != nil {
		return err
	}
	g.protected = append(g.protected, folder)
	return g.fails
}

// Put notes whether the work folder was protected before anything was put in it.
func (g *guarded) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if strings.HasPrefix(name, workFolder+"/") && len(g.protected) == 0 {
		return tree.Entry{}, errors.New("the work folder is not protected yet")
	}
	return g.Tree.Put(ctx, name, content, options)
}

// The work folder is protected before anything is put in it, and all that is ours by
// scans, every few minutes; at once again where it does not go.
func TestWorkFolderIsProtected(t *testing.T) {
	g := &guarded{Tree: new(memory.Tree)}
	p := newPair(t, g, new(memory.Tree))
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	if len(g.protected) == 0 || g.protected[0] != workFolder {
		t.Errorf("protected were %q", g.protected)
	}
	put(t, p.b, "rose.txt", "a rose")
	p.settleDown()
	put(t, g, atticFolder+"/old rose.txt", "an old rose")
	g.protected = nil
	if _, err := p.Scan(t.Context(), 1); err != nil || len(g.protected) > 0 {
		t.Errorf("a scan soon after protects %q, %v", g.protected, err)
	}
	later := p.Now().Add(protectEvery)
	p.Now = func() time.Time { return later }
	if _, err := p.Scan(t.Context(), 1); err != nil || !slices.Equal(g.protected, []string{workFolder, atticFolder}) {
		t.Errorf("a scan later protects %q, %v", g.protected, err)
	}
	later = later.Add(protectEvery)
	var told []string
	p.Trouble = func(tr Trouble) { told = append(told, tr.Path) }
	g.fails = tree.PathError("protect", workFolder, fs.ErrPermission)
	if _, err := p.Scan(t.Context(), 1); err != nil || !slices.Equal(told, []string{workFolder, atticFolder}) {
		t.Errorf("where it does not go, %q are reported, %v", told, err)
	}
	g.fails, g.protected = nil, nil
	if _, err := p.Scan(t.Context(), 1); err != nil || len(g.protected) == 0 {
		t.Errorf("after that it is not tried again: %v", err)
	}
}
