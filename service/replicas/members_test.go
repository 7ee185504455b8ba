package replicas

import (
	"slices"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

func TestPassSeedOn(t *testing.T) {
	set := beds(model.LayoutHub)
	set.Replicas[0].Filled = true // it is not another one
	if err := passSeedOn(&set, &set.Replicas[0]); fault.KindOf(err) != fault.Needed || !set.Replicas[0].Seed {
		t.Errorf("while no other one is filled: %v", err)
	}
	set.Replicas[2].Filled = true
	if err := passSeedOn(&set, &set.Replicas[1]); err != nil || !set.Replicas[0].Seed {
		t.Errorf("of one that is not the seed: %v", err)
	}
	if err := passSeedOn(&set, &set.Replicas[0]); err != nil || set.Replicas[0].Seed || !set.Replicas[2].Seed || set.Replicas[1].Seed {
		t.Errorf("the seed is %+v, %v", set.Replicas, err)
	}
}

func TestChooseOtherSeed(t *testing.T) {
	for name, change := range map[string]func(*model.ReplicaSet){
		"something was carried":  func(s *model.ReplicaSet) { s.Lanes[1].Carried.Files = 1 },
		"something gave way":     func(s *model.ReplicaSet) { s.Replicas[2].Attic.Items = 1 },
		"nothing has happened":   nil,
		"all were looked at yet": func(s *model.ReplicaSet) { s.Replicas[1].Scanned, s.Replicas[0].Filled = true, true },
	} {
		set := beds(model.LayoutHub)
		refused := name[0] == 's'
		if change != nil {
			change(&set)
		}
		err := chooseOtherSeed(&set, &set.Replicas[1])
		if refused {
			if fault.KindOf(err) != fault.Needed || !set.Replicas[0].Seed {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		for i, r := range set.Replicas { // all begin anew
			if r.Seed != (i == 1) || r.ID != 0 || r.Scanned || r.Filled {
				t.Errorf("%s: %+v", name, r)
			}
		}
	}
}

// A replica leaves or joins, and lanes between the others stay as they are.
func TestLanesOfMembers(t *testing.T) {
	before := beds(model.LayoutMesh)
	before.Lanes[0].Calendar = "off; sat full"
	after := before
	after.Replicas = slices.Clone(before.Replicas[:2])
	if got := sets.LaneList(survivors(before, after)); got != "oak to elm, elm to oak" {
		t.Errorf("without ash there are %s", got)
	}
	joined := before
	joined.Layout = model.LayoutCustom
	joined.Replicas = append(slices.Clone(before.Replicas), model.Replica{ID: 4, Name: "yew"})
	joined.Lanes = survivors(before, joined)
	customLanes(&joined)
	if n := len(joined.Lanes); n != len(before.Lanes)+2 || sets.LaneList(joined.Lanes[n-2:]) != "oak to yew, yew to oak" {
		t.Errorf("with yew there are %s", sets.LaneList(joined.Lanes))
	}
	if err := everyoneIsReached(&joined); err != nil {
		t.Errorf("with yew: %v", err)
	}
	joined.Lanes = before.Lanes
	if err := everyoneIsReached(&joined); fault.KindOf(err) != fault.Needed {
		t.Errorf("with yew, and no lane to it: %v", err)
	}
}

// A replica that moved has lanes with other numbers and the calendars that it had.
func TestKeepCalendars(t *testing.T) {
	before := beds(model.LayoutHub)
	for i := range before.Lanes {
		before.Lanes[i].Calendar = before.Lanes[i].From + before.Lanes[i].To
	}
	moved := before
	moved.Replicas = slices.Clone(before.Replicas)
	moved.Replicas[1].ID = 9
	moved.Lanes = survivors(before, moved)
	sets.Relay(&moved)
	if fresh := func(l model.Lane) bool { return l.Calendar == "" }; len(moved.Lanes) != 4 || !slices.ContainsFunc(moved.Lanes, fresh) {
		t.Fatalf("the lanes are %+v", moved.Lanes)
	}
	keepCalendars(&moved, before.Lanes)
	for _, l := range moved.Lanes {
		if l.Calendar != l.From+l.To {
			t.Errorf("%s to %s has the calendar %q", l.From, l.To, l.Calendar)
		}
	}
}
