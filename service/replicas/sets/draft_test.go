package sets

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/model"
	"bridgespan/service/replicas/sets/setstest"
)

// wantField has an error be about a field, or be none where that is "".
func wantField(t *testing.T, what string, err error, field string) {
	t.Helper()
	var f *fault.Error
	switch {
	case field == "" && err != nil:
		t.Errorf("%s: %v", what, err)
	case field != "" && (!errors.As(err, &f) || f.Field != field || f.Remedy == ""):
		t.Errorf("%s: %v, want a fault of %s with a remedy", what, err, field)
	}
}

// beds is a set of three replicas, of which the first is the seed.
func beds(layout string) model.ReplicaSet {
	set := setstest.Beds(layout)
	Relay(&set)
	return set
}

func lanesOf(set *model.ReplicaSet) string { return LaneList(set.Lanes) }

func TestRelation(t *testing.T) {
	for _, c := range []struct{ a, b, want string }{
		{"", "", "the same as"},
		{"beds", "Beds", "the same as"},
		{"beds/row", "beds", "inside"},
		{"beds", "", "inside"},
		{"beds", "beds/row", "around"},
		{"", "beds", "around"},
		{"beds", "bedstead", ""}, // it begins alike, and is another folder
		{"bedstead", "beds", ""},
		{"beds/row", "beds/row 2", ""},
		{"a", "b", ""},
	} {
		if got := relation(c.a, c.b); got != c.want {
			t.Errorf("%q is %q %q, want %q", c.a, got, c.b, c.want)
		}
	}
}

func TestApart(t *testing.T) {
	for name, c := range map[string]struct {
		replicas []model.Replica
		field    string
	}{
		"other servers": {[]model.Replica{{Server: "oak", Share: "a"}, {Server: "elm", Share: "a"}}, ""},
		"other shares":  {[]model.Replica{{Server: "oak", Share: "a"}, {Server: "oak", Share: "b"}}, ""},
		"other folders": {[]model.Replica{{Server: "oak", Share: "a", Sub: "x"}, {Server: "oak", Share: "a", Sub: "y"}}, ""},
		"one place":     {[]model.Replica{{Server: "oak", Share: "a"}, {Server: "elm", Share: "a"}, {Server: "oak", Share: "a"}}, "replicas[2].sub"},
		"one inside":    {[]model.Replica{{Server: "oak", Share: "a"}, {Server: "oak", Share: "a", Sub: "x"}}, "replicas[1].sub"},
		"one around":    {[]model.Replica{{Server: "oak", Share: "a", Sub: "x/y"}, {Server: "oak", Share: "a", Sub: "x"}}, "replicas[1].sub"},
	} {
		wantField(t, name, Apart(&model.ReplicaSet{Replicas: c.replicas}), c.field)
	}
}

func TestNameReplicas(t *testing.T) {
	for name, c := range map[string]struct {
		replicas []model.Replica
		want     string
		field    string
	}{
		"as their servers":     {[]model.Replica{{Server: "oak", Share: "a"}, {Server: "elm", Share: "a"}}, "oak, elm", ""},
		"as given":             {[]model.Replica{{Server: "oak", Share: "a", Name: "first"}, {Server: "elm", Share: "a"}}, "first, elm", ""},
		"several of a server":  {[]model.Replica{{Server: "oak", Share: "a", Sub: "x/y"}, {Server: "oak", Share: "b"}, {Server: "elm", Share: "b"}}, "oak a x y, oak b, elm", ""},
		"one name twice":       {[]model.Replica{{Server: "oak", Share: "a"}, {Server: "elm", Share: "a", Name: "OAK"}}, "", "replicas[1].name"},
		"a name that is a way": {[]model.Replica{{Server: "oak", Share: "a", Name: "a/b"}}, "", "replicas[0].name"},
	} {
		set := model.ReplicaSet{Replicas: c.replicas}
		err := NameReplicas(&set)
		wantField(t, name, err, c.field)
		if got := NamesOf(&set); err == nil && got != c.want {
			t.Errorf("%s: they are called %s, want %s", name, got, c.want)
		}
	}
}

func TestChooseSeed(t *testing.T) {
	for name, c := range map[string]struct {
		seeds []bool
		want  int
		field string
	}{
		"none is":  {[]bool{false, false}, 0, ""},
		"one is":   {[]bool{false, true}, 1, ""},
		"two are":  {[]bool{true, false, true}, 0, "replicas[2].seed"},
		"only one": {[]bool{false}, 0, ""},
	} {
		var set model.ReplicaSet
		for _, s := range c.seeds {
			set.Replicas = append(set.Replicas, model.Replica{Seed: s})
		}
		err := chooseSeed(&set)
		wantField(t, name, err, c.field)
		if err == nil && slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Seed }) != c.want {
			t.Errorf("%s: %+v", name, set.Replicas)
		}
	}
}

func TestLayLanes(t *testing.T) {
	const thin = "off; sat full"
	for name, c := range map[string]struct {
		layout string
		given  []model.NewLane
		want   string
		field  string
	}{
		"mesh":             {model.LayoutMesh, nil, "oak to elm, oak to ash, elm to oak, elm to ash, ash to oak, ash to elm", ""},
		"hub":              {model.LayoutHub, nil, "oak to elm, elm to oak, oak to ash, ash to oak", ""},
		"chain":            {model.LayoutChain, nil, "oak to elm, elm to oak, elm to ash, ash to elm", ""},
		"custom":           {model.LayoutCustom, []model.NewLane{{From: "oak", To: "ash"}, {From: "ASH", To: "elm"}}, "oak to ash, ash to elm", ""},
		"with a calendar":  {model.LayoutChain, []model.NewLane{{From: "oak", To: "elm", Calendar: thin}}, "oak to elm, elm to oak, elm to ash, ash to elm", ""},
		"not of a layout":  {model.LayoutHub, []model.NewLane{{From: "oak", To: "elm"}, {From: "elm", To: "ash"}}, "", "lanes[1].to"},
		"to itself":        {model.LayoutCustom, []model.NewLane{{From: "oak", To: "oak"}}, "", "lanes[0].to"},
		"twice":            {model.LayoutCustom, []model.NewLane{{From: "oak", To: "elm"}, {From: "oak", To: "elm"}}, "", "lanes[1].to"},
		"from nowhere":     {model.LayoutCustom, []model.NewLane{{From: "yew", To: "elm"}}, "", "lanes[0].from"},
		"to nowhere":       {model.LayoutCustom, []model.NewLane{{From: "oak", To: "yew"}}, "", "lanes[0].to"},
		"no calendar":      {model.LayoutHub, []model.NewLane{{From: "oak", To: "elm", Calendar: "sometimes"}}, "", "lanes[0].calendar"},
		"one is left out":  {model.LayoutCustom, []model.NewLane{{From: "oak", To: "elm"}}, "", "lanes"},
		"only towards it":  {model.LayoutCustom, []model.NewLane{{From: "elm", To: "oak"}, {From: "ash", To: "oak"}}, "", "lanes"},
		"none of a custom": {model.LayoutCustom, nil, "", "lanes"},
	} {
		set := beds(c.layout)
		set.Lanes = nil
		err := layLanes(&set, c.given)
		wantField(t, name, err, c.field)
		if err != nil {
			continue
		}
		got, want := strings.Split(lanesOf(&set), ", "), strings.Split(c.want, ", ")
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("%s: the lanes are %q, want %q", name, got, want)
		}
		for _, l := range set.Lanes {
			calendar := ""
			if name == "with a calendar" && l.From == "oak" && l.To == "elm" {
				calendar = thin
			}
			if l.Calendar != calendar || l.State != model.LaneNew {
				t.Errorf("%s: %+v", name, l)
			}
		}
	}
}

func TestCheckSettings(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*model.ReplicaSet)
		field  string
	}{
		"as usual":       {func(*model.ReplicaSet) {}, ""},
		"a long note":    {func(s *model.ReplicaSet) { s.Note = strings.Repeat("n", 1001) }, "note"},
		"no calendar":    {func(s *model.ReplicaSet) { s.Calendar = "sometimes" }, "calendar"},
		"no days":        {func(s *model.ReplicaSet) { s.AtticDays = 0 }, "atticDays"},
		"too many days":  {func(s *model.ReplicaSet) { s.AtticDays = 3651 }, "atticDays"},
		"never again":    {func(s *model.ReplicaSet) { s.Retry.FirstS = 0 }, "retry.mostS"},
		"less and less":  {func(s *model.ReplicaSet) { s.Retry.FirstS, s.Retry.MostS = 60, 59 }, "retry.mostS"},
		"no alert":       {func(s *model.ReplicaSet) { s.Retry.AlertAfter = 0 }, "retry.mostS"},
		"a broken name":  {func(s *model.ReplicaSet) { s.Filter = filter.Rules{LeaveOut: []string{"*.tmp", "["}} }, "filter.leaveOut[1]"},
		"the most of it": {func(s *model.ReplicaSet) { s.Note, s.AtticDays = strings.Repeat("n", 1000), 3650 }, ""},
	} {
		set := beds(model.LayoutHub)
		c.change(&set)
		wantField(t, name, CheckSettings(&set), c.field)
	}
}

func TestEditLane(t *testing.T) {
	thin, nonsense, closed, hour, none := "off; sat full", "sometimes", true, 60, 0
	var l model.Lane
	wantField(t, "a calendar", EditLane(&l, model.EditLane{Calendar: &thin, Closed: &closed}), "")
	if l.Calendar != thin || !l.Closed || l.OpenUntil != nil {
		t.Errorf("%+v", l)
	}
	wantField(t, "open for an hour", EditLane(&l, model.EditLane{OpenMinutes: &hour}), "")
	if l.OpenUntil == nil || l.Closed || l.OpenUntil.Sub(Now()).Minutes() < 59 || l.OpenUntil.Sub(Now()).Minutes() > 60 {
		t.Errorf("a lane that was opened is %+v", l)
	}
	wantField(t, "no longer", EditLane(&l, model.EditLane{OpenMinutes: &none}), "")
	if l.OpenUntil != nil || l.Calendar != thin {
		t.Errorf("a lane that follows its calendar again is %+v", l)
	}
	wantField(t, "nonsense", EditLane(&l, model.EditLane{Calendar: &nonsense}), "calendar")
}
