package preflight

import (
	"context"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

var sedge = Place{Name: "sedge", Target: namespace.Target{Server: "heather", Share: "beds", Sub: "east"}, Server: model.Server{Name: "heather", Address: "10.0.0.7", Account: "warden"}}

// What is to be carried needs room, and so do the intake and the attic.
func TestSpace(t *testing.T) {
	const gb = 1 << 30
	for what, c := range map[string]struct {
		free, intake, attic int64
		want                finding.Severity
		found               string
	}{
		"enough":               {20 * gb, gb, 0, finding.Pass, "10 GiB are carried there, beside 1.0 GiB of intake; 20 GiB are free"},
		"enough for the attic": {20 * gb, gb, 5 * gb, finding.Pass, "beside 1.0 GiB of intake and 5.0 GiB of attic"},
		"nothing beside":       {20 * gb, 0, 0, finding.Pass, "sedge: 10 GiB are carried there; 20 GiB are free"},
		"no end":               {tree.Endless, gb, 0, finding.Pass, "beside 1.0 GiB of intake; no limit is known there"},
		"almost full":          {17 * gb, gb, 5 * gb, finding.Warn, "17 GiB are free"},
		"no room for attics":   {15 * gb, gb, 5 * gb, finding.Fail, "15 GiB are free"},
		"no room at all":       {5 * gb, gb, 0, finding.Fail, "5.0 GiB are free"},
	} {
		f := Space("sedge", Need{10 * gb, c.intake, c.attic, c.free})
		if f.Severity != c.want || !strings.Contains(f.Found, c.found) || (f.Remedy == "") != (c.want == finding.Pass) {
			t.Errorf("%s: %+v", what, f)
		}
	}
}

// Who may not remove what others own is reported, with what stands in the way.
func TestRemoves(t *testing.T) {
	for what, c := range map[string]struct {
		file, share acl.Mask
		want        string // the action; empty where nothing is found
	}{
		"everything":           {acl.AllAccess, acl.AllAccess, ""},
		"the share holds back": {acl.AllAccess, acl.Change.Mask(), "edit-share [heather beds]"},
		"the folder does":      {acl.Change.Mask(), acl.AllAccess, "grant [heather/beds/east warden]"},
		"both do":              {acl.Change.Mask(), acl.Read.Mask(), "grant [heather/beds/east warden]"},
	} {
		f, ok := removes(acl.Decision{Granted: c.file & c.share, File: c.file, Share: c.share}, sedge)
		if ok != (c.want != "") || ok && (f.Severity != finding.Warn || fmt.Sprint(f.Action.Do, " ", f.Action.Args) != c.want || !strings.HasPrefix(f.Found, "sedge: warden may not remove")) {
			t.Errorf("%s: %+v, %v", what, f, ok)
		}
	}
}

// closed is a tree that lets nobody write.
type closed struct{ *memory.Tree }

func (c *closed) MayWrite(_ context.Context, folder string) error {
	return tree.PathError("write", folder, fs.ErrPermission)
}

func TestWrite(t *testing.T) {
	reed := sedge
	reed.Server = model.Server{Name: "reed", Certificate: "ab"}
	for what, c := range map[string]struct {
		place  Place
		tree   tree.Tree
		want   finding.Severity
		remedy string
		action bool
	}{
		"it may":            {sedge, &memory.Tree{}, finding.Pass, "", false},
		"the account not":   {sedge, &closed{&memory.Tree{}}, finding.Fail, "full rights", true},
		"the mover may not": {reed, &closed{&memory.Tree{}}, finding.Fail, "let it run as", false},
	} {
		f := Write(t.Context(), c.place, c.tree, ".")
		if f.Severity != c.want || !strings.Contains(f.Remedy, c.remedy) || (f.Action != nil) != c.action {
			t.Errorf("%s: %+v", what, f)
		}
	}
}

func TestClock(t *testing.T) {
	for apart, want := range map[time.Duration]finding.Severity{0: finding.Pass, time.Second: finding.Pass, -3 * time.Second: finding.Warn, time.Hour: finding.Warn} {
		if f := clock(sedge, apart); f.Severity != want {
			t.Errorf("%s off: %+v", apart, f)
		}
	}
}

func TestPathLength(t *testing.T) {
	if f, ok := PathLength(sedge, "2026/ledger.csv"); ok {
		t.Errorf("a short one: %+v", f)
	}
	if f, ok := PathLength(sedge, strings.Repeat("a long folder/", 20)); !ok || !strings.Contains(f.Found, " … ") || f.Severity != finding.Warn {
		t.Errorf("a long one: %+v, %v", f, ok)
	}
}

func TestLeg(t *testing.T) {
	if _, ok := Leg(true, "Larkfield", "Highmoor", 1000); ok {
		t.Error("a leg that is known is reported")
	}
	if f, ok := Leg(false, "Larkfield", "Highmoor", 1000); !ok || f.Action == nil || f.Action.Do != finding.AddLeg {
		t.Errorf("%+v, %v", f, ok)
	}
}

func TestAccounts(t *testing.T) {
	many := strings.Split("a b c d e f g", " ")
	for what, c := range map[string]struct {
		unknown []string
		mapped  int
		byMap   string
		want    finding.Severity
		found   string
		action  bool
	}{
		"all are known":       {nil, 0, "", finding.Pass, "all 9 accounts", false},
		"some by a map":       {nil, 3, "trees", finding.Pass, "3 of them by the map trees", false},
		"one is not":          {many[:1], 0, "", finding.Warn, "1 account is not known there: a", false},
		"many, with a map":    {many, 1, "trees", finding.Warn, "7 accounts are not known there: a; b; c; d; e", true},
		"many, without a map": {many, 0, "", finding.Warn, "7 accounts are", false},
	} {
		f := Accounts("sedge", Known{9, c.unknown, c.mapped, c.byMap, "use others"})
		if f.Severity != c.want || !strings.Contains(f.Found, c.found) || (f.Action != nil) != c.action || strings.Contains(f.Found, "; f") {
			t.Errorf("%s: %+v", what, f)
		}
	}
}
