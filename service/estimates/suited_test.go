package estimates

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"bridgespan/model"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

func TestSuited(t *testing.T) {
	const gb = 1_000_000_000
	good := ground{place: model.DedupPlace{Server: "fern", Share: "herbarium"}, space: tree.Space{Total: 100 * gb, Free: 50 * gb}, capabilities: tree.Capabilities{IDs: true}}
	with := func(change func(*ground)) []ground {
		g := good
		change(&g)
		return []ground{g}
	}
	for name, c := range map[string]struct {
		grounds []ground
		want    []string // level and what is said
	}{
		"good":             {[]ground{good}, nil},
		"nothing":          {nil, nil},
		"two shares of it": {[]ground{good, with(func(g *ground) { g.place.Share, g.space.Free = "seedbank", 49*gb })[0]}, nil},
		"system":           {with(func(g *ground) { g.system = "it is on drive C:" }), []string{"fail fern/herbarium lies on the server's system volume"}},
		"removable":        {with(func(g *ground) { g.space.Storage.Removable = true }), []string{"fail fern/herbarium lies on storage that can be taken out"}},
		"read-only":        {with(func(g *ground) { g.space.Storage.ReadOnly, g.mayWrite = true, fs.ErrPermission }), []string{"fail fern/herbarium lies on storage that is mounted read-only"}},
		"not to be written": {with(func(g *ground) { g.mayWrite = fmt.Errorf("no: %w", fs.ErrPermission) }),
			[]string{"warn fern/herbarium cannot be written by our account"}},
		"full":        {with(func(g *ground) { g.space.Free = 4 * gb }), []string{"warn only 3.7 GiB of 93 GiB are free under fern/herbarium"}},
		"no numbers":  {with(func(g *ground) { g.capabilities.IDs = false }), []string{"warn fern/herbarium does not number its files"}},
		"a stick":     {with(func(g *ground) { g.space.Storage.FileSystem, g.capabilities.IDs = "vfat", false }), []string{"fail fern/herbarium lies on vfat"}},
		"ext4":        {with(func(g *ground) { g.space.Storage.FileSystem = "ext4" }), nil},
		"two volumes": {[]ground{good, with(func(g *ground) { g.place.Share, g.space.Total = "seedbank", 200*gb })[0]}, []string{"warn fern/herbarium and fern/seedbank do not lie on one volume"}},
		"two servers": {[]ground{good, with(func(g *ground) { g.place.Server = "yarrow" })[0], with(func(g *ground) { g.place.Server = "heather" })[0]}, []string{"warn fern/herbarium and yarrow/herbarium do not lie on one volume"}},
		"several at once": {with(func(g *ground) { g.system, g.space.Free = "it is so", 0 }),
			[]string{"fail fern/herbarium lies on the server's system volume", "warn only 0 B of 93 GiB are free under fern/herbarium"}},
	} {
		var got []string
		for _, w := range suited(c.grounds) {
			got = append(got, string(w.Severity)+" "+w.Found)
			if w.Meaning == "" || w.Remedy == "" {
				t.Errorf("%s: %+v", name, w)
			}
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

func TestSystemShare(t *testing.T) {
	shares := []model.Share{{Name: "ADMIN$", Path: `C:\Windows`}, {Name: "home", Path: `c:\Users`}, {Name: "data", Path: `D:\data`}, {Name: "none"}}
	for name, want := range map[string]string{"c$": "administration", "Admin$": "administration", "home": "drive C:", "HOME": "drive C:", "data": "", "none": "", "unknown": ""} {
		if got := systemShare(name, shares); want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%s: %q", name, got)
		}
	}
	// Where there is no such share, as on most servers of other systems, a drive says nothing.
	if got := systemShare("home", shares[1:]); got != "" {
		t.Errorf("without ADMIN$: %q", got)
	}
}

func TestGroundOf(t *testing.T) {
	g, err := groundOf(context.Background(), model.DedupPlace{Server: "fern", Share: "herbarium"}, &memory.Tree{}, nil)
	if err != nil || g.space.Total == 0 || g.system != "" || g.mayWrite != nil {
		t.Errorf("%+v, %v", g, err)
	}
}

// driveFunc is a server that tells what is behind its letters.
type driveFunc func(letter byte) (smbadmin.Drive, error)

func (f driveFunc) Drive(_ context.Context, letter byte) (smbadmin.Drive, error) { return f(letter) }

func TestAskDrive(t *testing.T) {
	cut := errors.New("the line is cut")
	server := driveFunc(func(letter byte) (smbadmin.Drive, error) {
		switch letter {
		case 'D':
			return smbadmin.Drive{}, nil
		case 'E':
			return smbadmin.Drive{Removable: true}, nil
		case 'F':
			return smbadmin.Drive{Removable: true, ReadOnly: true}, nil
		case 'X':
			return smbadmin.Drive{}, cut
		}
		return smbadmin.Drive{}, fmt.Errorf("no such letter: %w", smbadmin.ErrNotOffered)
	})
	for path, want := range map[string]struct {
		storage string
		says    int
		err     error
	}{
		`D:\data`: {"fixed", 0, nil}, `e:\stick`: {"removable", 1, nil}, `F:\`: {"removable", 2, nil}, `G:\data`: {"", 0, nil}, `X:\data`: {"", 0, cut},
		"/srv/data": {"", 0, nil}, "": {"", 0, nil}, "d": {"", 0, nil},
	} {
		g := ground{space: tree.Space{Total: 100, Free: 50}, capabilities: tree.Capabilities{IDs: true}}
		if err := g.askDrive(t.Context(), server, path); !errors.Is(err, want.err) || g.storage() != want.storage || len(g.suited()) != want.says {
			t.Errorf("%q: %q, %v, %+v", path, g.storage(), err, g.suited())
		}
	}
	here := ground{space: tree.Space{Storage: tree.Storage{Known: true, ReadOnly: true}}}
	if here.storage() != "read-only" {
		t.Errorf("a host's storage is %q", here.storage())
	}
}
