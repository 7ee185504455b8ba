package replicas

import (
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/service/replicas/planning"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/replicas/sets/setstest"
)

// beds is a set of three replicas, of which the first is the seed.
func beds(layout string) model.ReplicaSet {
	set := setstest.Beds(layout)
	sets.Relay(&set)
	return set
}

func TestChangedBy(t *testing.T) {
	chain, thin, nonsense, closed, quota := model.LayoutChain, "off; sat full", "sometimes", true, int64(7)
	lane := func(from, to string) *model.LaneChange {
		return &model.LaneChange{From: from, To: to, Change: model.EditLane{Closed: &closed}}
	}
	for name, c := range map[string]struct {
		change model.SettingsChange
		ok     func(model.ReplicaSet) bool
		kind   fault.Kind
	}{
		"nothing":  {model.SettingsChange{}, func(s model.ReplicaSet) bool { return sets.JsonText(s) == sets.JsonText(beds(model.LayoutHub)) }, 0},
		"layout":   {model.SettingsChange{Set: &model.EditReplicaSet{Layout: &chain}}, func(s model.ReplicaSet) bool { return s.Layout == chain && len(s.Lanes) == 4 }, 0},
		"calendar": {model.SettingsChange{Set: &model.EditReplicaSet{Calendar: &thin}}, func(s model.ReplicaSet) bool { return s.Calendar == thin }, 0},
		"lane": {model.SettingsChange{Lane: lane("oak", "elm")}, func(s model.ReplicaSet) bool {
			l, err := sets.FindLane(&s, "oak", "elm")
			return err == nil && l.Closed
		}, 0},
		"quota":           {model.SettingsChange{Replica: &model.ReplicaChange{Name: "ash", Change: model.EditReplica{AtticQuota: &quota}}}, func(s model.ReplicaSet) bool { return s.Replicas[2].AtticQuota == 7 }, 0},
		"bad calendar":    {model.SettingsChange{Set: &model.EditReplicaSet{Calendar: &nonsense}}, nil, fault.Invalid},
		"no such lane":    {model.SettingsChange{Lane: lane("elm", "ash")}, nil, fault.NotFound},
		"no such replica": {model.SettingsChange{Replica: &model.ReplicaChange{Name: "yew"}}, nil, fault.NotFound},
	} {
		before := beds(model.LayoutHub)
		was := sets.JsonText(before)
		after, err := changedBy(before, c.change)
		if fault.KindOf(err) != c.kind || err == nil && !c.ok(after) {
			t.Errorf("%s: %+v, %v", name, after, err)
		}
		if sets.JsonText(before) != was {
			t.Errorf("%s: the set itself was changed", name)
		}
	}
}

func TestLanesWithout(t *testing.T) {
	hub, chain := beds(model.LayoutHub), beds(model.LayoutChain)
	if got := sets.LaneList(lanesWithout(chain, hub)); got != "elm to ash, ash to elm" {
		t.Errorf("new are %s", got)
	}
	if got := sets.LaneList(lanesWithout(hub, chain)); got != "oak to ash, ash to oak" {
		t.Errorf("gone are %s", got)
	}
	if got := sets.LaneList(slices.Repeat(hub.Lanes, 3)); !strings.HasSuffix(got, ", 4 more") {
		t.Errorf("many are %s", got)
	}
}

// What a preview says of calendars, lags and filters, of figures that are known.
func TestPreviewWords(t *testing.T) {
	before, after := beds(model.LayoutHub), beds(model.LayoutHub)
	after.Calendar, after.AtticDays, after.Filter.LeaveOut = "off; mon 0-1 1", 1, []string{"*.tmp"}
	p := &preview{before: before, after: after, at: time.Now(), held: plan.Content{Count: plan.Count{Files: 9, Bytes: 10 << 30}, Weekly: 1 << 30}, left: plan.Count{Files: 2, Bytes: 3 << 20}}
	p.was, p.will = p.steady(before), p.steady(after)
	p.filters()
	p.calendars()
	p.lags()
	said := strings.Join(p.found.Follows, "|")
	for _, want := range []string{"Left out from now on: 2 files (3.0 MiB).", "oak to elm: 429 MiB fit into a week", "found at the next look"} {
		if !strings.Contains(said, want) {
			t.Errorf("it does not say %q: %s", want, said)
		}
	}
	if len(p.found.Checks) != 2 || finding.Worst(p.found.Checks) != finding.Fail || p.found.Checks[0].Meaning != "the backlog grows without end" {
		t.Errorf("checks %+v", p.found.Checks)
	}
	p = &preview{before: before, after: before, at: time.Now()}
	p.was, p.will = p.steady(before), p.steady(before)
	p.filters()
	p.layouts()
	p.calendars()
	p.lags()
	p.intakes()
	p.pauses()
	if len(p.found.Follows) != 0 || finding.Worst(p.found.Checks) != finding.Pass {
		t.Errorf("of nothing follows %+v", p.found)
	}
}

func TestLasting(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "a minute", 59 * time.Second: "a minute", 90 * time.Second: "2 min", 119 * time.Minute: "119 min", 7 * time.Hour: "7.0 h"} {
		if got := lasting(d); got != want {
			t.Errorf("%v is told as %s, want %s", d, got, want)
		}
	}
}

func TestCheckRights(t *testing.T) {
	for rights, ok := range map[string]bool{"": true, "inherit": true, "seed": true, "O:BAG:BAD:P(A;OICI;FA;;;BA)": true, "D:P(A;;FA;;;BA)": true,
		"nobody": false, "D:P(A;;": false, "D:P": false, "O:BAG:BA": false} {
		if err := sets.CheckRights("rights", rights); (err == nil) != ok {
			t.Errorf("%q: %v", rights, err)
		}
	}
}

func TestCheckPublish(t *testing.T) {
	for path, ok := range map[string]bool{"": true, "/garden/beds": true, "/garden/kept/beds/": true, "/garden": false, "/garden/": false, "garden/beds": false, "/garden/a//b": false} {
		if err := sets.CheckPublish(path); (err == nil) != ok {
			t.Errorf("%q: %v", path, err)
		}
	}
}

func TestClosedTo(t *testing.T) {
	set := beds(model.LayoutHub)
	set.Lanes[0].State, set.Lanes[0].Words = model.LaneClosed, "closed until Mon 19:00"
	if got := closedTo(&set, set.Lanes[0].To); got != "; the lane from "+set.Lanes[0].From+" is closed until Mon 19:00" {
		t.Errorf("told is %q", got)
	}
	if got := closedTo(&set, set.Lanes[0].From); got != "" {
		t.Errorf("of lanes that are open is told %q", got)
	}
}

// What the steps of a creation say is what a plan foretells.
func TestStepWords(t *testing.T) {
	set := beds(model.LayoutHub)
	set.AccountMap, set.AccountsOf = "trees", "oak"
	set.Replicas[2].Rights = sets.RightsOfSeed
	for got, want := range map[string]string{
		folderStep(&set, 1):         "Make the folder elm/store.",
		folderStep(&set, 2):         "Make the folder ash/store/copy, with the permissions of the seed's folder.",
		accountsStep(&set):          "Pair the accounts of oak with those of the other servers by the map trees.",
		recordStep(&set):            "Write down the set beds: 3 replicas, 4 lanes (hub).",
		publishStep("/garden/beds"): "Let the signpost /garden/beds lead to all of them; those that were not verified are held.",
		pickUpStep(&set, 1):         "Mark elm/store as the replica elm, in its folder .bspan, and begin to look at all of it.",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestShortList(t *testing.T) {
	if got := planning.ShortList([]string{"a", "b"}); got != "a; b" {
		t.Error(got)
	}
	if got := planning.ShortList([]string{"a", "b", "c", "d", "e", "f", "g"}); got != "a; b; c; d; e; and 2 more" {
		t.Error(got)
	}
}
