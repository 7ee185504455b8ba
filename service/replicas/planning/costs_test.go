package planning

import (
	"math"
	"testing"

	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/tree"
)

// A plan of a cloud set has what its bucket stores, and what the edges read by their policies; other sets cost nothing.
func TestCosts(t *testing.T) {
	site := func(name string, seed bool, missing int64, edge *model.EdgePolicy) *planSite {
		s := &planSite{replica: model.Replica{Name: name, Edge: edge}, place: plan.Place{Seed: seed}, space: tree.Space{Total: 1000e9, Free: 400e9}}
		s.place.Missing.Bytes = missing
		return s
	}
	fern := site("fern", true, 0, nil)
	fern.place.Content = plan.Content{Count: plan.Count{Bytes: 500e9}, Weekly: 7e9}
	haar := site("haar", false, 500e9, nil)
	haar.server.Cloud = &model.CloudReach{Currency: "EUR", StoredPrice: 0.02, OutPrice: 0.1}
	set := model.ReplicaSet{Layout: model.LayoutHub, Replicas: []model.Replica{{Name: "haar", Swept: true}, {Name: "fern"}, {Name: "other"}}}
	month := plan.Monthly(7e9)
	for what, c := range map[string]struct {
		edge          *model.EdgePolicy
		fill, monthly int64
	}{
		"whole files":       {nil, 500e9, month},
		"up to the line":    {&model.EdgePolicy{Fill: model.FillNames, FreePercent: 30}, 100e9, month},
		"a line that is up": {&model.EdgePolicy{Fill: model.FillNames, FreePercent: 50}, 0, 0},
		"on first use":      {&model.EdgePolicy{Fill: model.FillStubs}, 0, 0},
	} {
		p := &planner{set: set, sites: []*planSite{haar, fern, site("other", false, 500e9, c.edge)}}
		got := p.costs()
		if got == nil || got.StoredBytes != 500e9 || math.Abs(got.Stored-10) > 1e-6 || got.FillBytes != c.fill || math.Abs(got.Fill-float64(c.fill)*0.1/1e9) > 1e-6 || got.MonthlyBytes != c.monthly || got.Currency != "EUR" {
			t.Errorf("%s: %+v", what, got)
		}
	}
	set.Layout = model.LayoutMesh
	if got := (&planner{set: set, sites: []*planSite{haar, fern}}).costs(); got != nil {
		t.Errorf("of another set: %+v", got)
	}
}
