package movers

import (
	"slices"
	"testing"

	"bridgespan/model"
)

func TestWindows(t *testing.T) {
	jobs := []model.Job{
		{Kind: RunKind, Enabled: true, Rule: "sun 02:30", Settings: `{}`},
		{Kind: RunKind, Enabled: true, Rule: "daily 04:00", Settings: `{"servers":["Sedge"]}`},
		{Kind: RunKind, Rule: "mon 01:00", Settings: `{}`}, // disabled
		{Kind: "probe", Enabled: true, Rule: "tue 01:00", Settings: `{}`},
		{Kind: RunKind, Enabled: true, Rule: "wed 01:00", Settings: `{`},
	}
	for server, want := range map[string][]string{"sedge": {"sun 02:30", "daily 04:00"}, "reed": {"sun 02:30"}} {
		if got := Windows(jobs, server); !slices.Equal(got, want) {
			t.Errorf("%s is updated %q, want %q", server, got, want)
		}
	}
	if got := Windows(nil, "reed"); len(got) != 0 {
		t.Errorf("without jobs: %q", got)
	}
}

func TestEdgesAt(t *testing.T) {
	stubs, whole := &model.EdgePolicy{Fill: model.FillStubs}, &model.EdgePolicy{Fill: model.FillWhole}
	sets := []model.ReplicaSet{{Name: "scans", Replicas: []model.Replica{{Server: "haar", Share: "files"}, {Server: "sedge", Share: "beds", Edge: stubs}}},
		{Name: "notes", Replicas: []model.Replica{{Server: "sedge", Share: "notes", Edge: whole}, {Server: "sedge", Share: "more", Sub: "a", Edge: stubs}}}}
	edges := edgesAt(sets, "sedge")
	if len(edges) != 2 || edges[0].set != "scans" || edges[1].at.String() != "sedge/more/a" {
		t.Errorf("%+v", edges)
	}
}
