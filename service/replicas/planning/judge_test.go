package planning

import (
	"fmt"
	"strings"
	"testing"

	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/tree"
)

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
		"almost full":          {17 * gb, gb, 5 * gb, finding.Warn, "17 GiB are free"},
		"no room for attics":   {15 * gb, gb, 5 * gb, finding.Fail, "15 GiB are free"},
		"no room at all":       {5 * gb, gb, 0, finding.Fail, "5.0 GiB are free"},
	} {
		s := &planSite{replica: model.Replica{Name: "sedge"}, place: plan.Place{Missing: plan.Count{Files: 3, Bytes: 10 * gb}}, space: tree.Space{Free: c.free}}
		p := &planner{}
		p.judgeSpace(s, c.intake, c.attic)
		if len(p.lines) != 1 || p.lines[0].Severity != c.want || !strings.Contains(p.lines[0].Found, c.found) {
			t.Errorf("%s: %+v", what, p.lines)
		}
	}
	p := &planner{}
	if p.judgeSpace(&planSite{place: plan.Place{Seed: true}}, gb, 0); p.lines != nil {
		t.Errorf("of the seed, to which nothing is carried: %+v", p.lines)
	}
}

// Who may not remove what others own is told of, with what stands in the way.
func TestRemoves(t *testing.T) {
	s := &planSite{replica: model.Replica{Name: "heather", Server: "heather", Share: "beds", Sub: "east"}, server: model.Server{Account: "warden"}}
	for what, c := range map[string]struct {
		file, share acl.Mask
		want        string // the action; empty where nothing is found
	}{
		"everything":           {acl.AllAccess, acl.AllAccess, ""},
		"the share holds back": {acl.AllAccess, acl.Change.Mask(), "edit-share [heather beds]"},
		"the folder does":      {acl.Change.Mask(), acl.AllAccess, "grant [heather/beds/east warden]"},
		"both do":              {acl.Change.Mask(), acl.Read.Mask(), "grant [heather/beds/east warden]"},
	} {
		line, ok := removes(acl.Decision{Granted: c.file & c.share, File: c.file, Share: c.share}, s)
		if ok != (c.want == "") || !ok && (line.Severity != finding.Warn || fmt.Sprint(line.Action.Do, " ", line.Action.Args) != c.want || !strings.HasPrefix(line.Found, "heather: warden may not remove")) {
			t.Errorf("%s: %+v, %v", what, line, ok)
		}
	}
}
