package fronts

import (
	"testing"

	"bridgespan/core/finding"
	"bridgespan/core/front"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
)

// A share around the folder of a front is told of; only a signpost that leads back through it is in the way.
func TestLoop(t *testing.T) {
	for place, want := range map[string]finding.Severity{
		`bracken\trust`:          finding.Fail,
		`BRACKEN\Trust\anything`: finding.Fail,
		`bracken\whole`:          finding.Fail,
		`bracken\whole\fronts`:   finding.Fail,
		`bracken\whole\other`:    finding.Warn,
		`bracken\whole\front`:    finding.Warn,
		`bracken\beside`:         finding.Warn,
		`fern\whole`:             finding.Warn,
	} {
		k := checks{Front: model.Front{Host: "bracken", Share: "trust", Namespace: "larkfield"}, folder: "/srv/fronts/trust"}
		k.shares([]moverfront.Share{{Name: "whole", Path: "/srv/"}, {Name: "beside", Path: "/srv/fronts/tru"}, {Name: "trust", Path: "/srv/fronts/trust"}}, k.folder)
		k.loop([]front.Entry{{Path: "folder"}, {Path: "folder/a", To: []string{`fern\first`, place}}})
		if got := finding.Worst(k.list); got != want {
			t.Errorf("a link to %s: %+v", place, k.list)
		}
	}
}

// A share of the same name that is not the front's is in the way.
func TestShareInTheWay(t *testing.T) {
	k := checks{Front: model.Front{Share: "trust"}, folder: "/srv/fronts/trust"}
	k.shares([]moverfront.Share{{Name: "Trust", Path: "/srv/old"}}, k.folder)
	if finding.Worst(k.list) != finding.Fail || k.list[0].Code != "share" {
		t.Errorf("found %+v", k.list)
	}
}
