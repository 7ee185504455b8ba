package replicas

import (
	"strings"
	"testing"

	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/tree"
)

// Files that are too long to be made of parts are told of where that matters: at shares
// behind a leg.
func TestLargeFiles(t *testing.T) {
	const gb = 1 << 30
	site := func(name, where string, mover bool, largest int64) *planSite {
		s := &planSite{replica: model.Replica{Name: name, Site: where}, place: plan.Place{Content: plan.Content{Largest: []int64{largest, 5}}}}
		if mover {
			s.server.Certificate = "of a mover"
		}
		return s
	}
	for what, c := range map[string]struct {
		sites []*planSite
		want  []string // the replicas that are told of
	}{
		"none is large":      {[]*planSite{site("fern", "Larkfield", false, 256<<20), site("sedge", "Tern Island", false, 0)}, nil},
		"one is":             {[]*planSite{site("fern", "Larkfield", false, gb), site("sedge", "Tern Island", false, 0)}, []string{"fern", "sedge"}},
		"a mover is there":   {[]*planSite{site("fern", "Larkfield", false, gb), site("sedge", "Tern Island", true, 0)}, []string{"fern"}},
		"all at one site":    {[]*planSite{site("fern", "Larkfield", false, gb), site("yarrow", "Larkfield", false, 0)}, nil},
		"only the other has": {[]*planSite{site("fern", "Larkfield", true, 0), site("sedge", "Tern Island", false, gb)}, []string{"sedge"}},
	} {
		p := &planner{sites: c.sites}
		p.judgeLarge()
		var told []string
		for _, l := range p.lines {
			name, rest, _ := strings.Cut(l.Found, ": ")
			if l.Name != "large files" || l.Outcome != model.Warn || !strings.Contains(rest, "more than 256 MiB") || !strings.Contains(rest, "the largest has 1.0 GiB") || l.Remedy == "" {
				t.Errorf("%s: %+v", what, l)
			}
			told = append(told, name)
		}
		if strings.Join(told, " ") != strings.Join(c.want, " ") {
			t.Errorf("%s: told of %v, want %v", what, told, c.want)
		}
	}
}

// What is to be carried needs room, and so do the intake and the attic.
func TestSpace(t *testing.T) {
	const gb = 1 << 30
	for what, c := range map[string]struct {
		free, intake, attic int64
		want                model.Outcome
		found               string
	}{
		"enough":               {20 * gb, gb, 0, model.Pass, "10 GiB are carried there, beside 1.0 GiB of intake; 20 GiB are free"},
		"enough for the attic": {20 * gb, gb, 5 * gb, model.Pass, "beside 1.0 GiB of intake and 5.0 GiB of attic"},
		"almost full":          {17 * gb, gb, 5 * gb, model.Warn, "17 GiB are free"},
		"no room for attics":   {15 * gb, gb, 5 * gb, model.Fail, "15 GiB are free"},
		"no room at all":       {5 * gb, gb, 0, model.Fail, "5.0 GiB are free"},
	} {
		s := &planSite{replica: model.Replica{Name: "sedge"}, place: plan.Place{Missing: plan.Count{Files: 3, Bytes: 10 * gb}}, space: tree.Space{Free: c.free}}
		p := &planner{}
		p.judgeSpace(s, c.intake, c.attic)
		if len(p.lines) != 1 || p.lines[0].Outcome != c.want || !strings.Contains(p.lines[0].Found, c.found) {
			t.Errorf("%s: %+v", what, p.lines)
		}
	}
	p := &planner{}
	if p.judgeSpace(&planSite{place: plan.Place{Seed: true}}, gb, 0); p.lines != nil {
		t.Errorf("of the seed, to which nothing is carried: %+v", p.lines)
	}
}
