package demo

import (
	"context"
	"fmt"
	"time"

	"bridgespan/client"
	"bridgespan/core/filter"
	"bridgespan/model"
)

// The volumes whose deduplication is estimated: all of Larkfield's shares, which are to
// move to a new server, and the scans at Highmoor.
var (
	larkfield = model.NewEstimate{Name: "Larkfield shares", Counting: model.Counting{Policy: filter.Rules{MinDays: 3}},
		Places: []model.DedupPlace{{Server: "fern", Share: "herbarium"}, {Server: "fern", Share: "seedbank"}, {Server: "fern", Share: "education"}, {Server: "fern", Share: "council"}, {Server: "fern", Share: "fieldnotes"}, {Server: "fern", Share: "glasshouse"}}}
	highmoor = model.NewEstimate{Name: "Highmoor scans", Priority: "low", Places: []model.DedupPlace{{Server: "heather", Share: "herbarium"}}}
)

// estimate estimates the volumes, and proves one on a folder.
func (d *Demo) estimate(ctx context.Context, api *client.Client) error {
	for _, asked := range []model.NewEstimate{larkfield, {Name: larkfield.Name, Counting: larkfield.Counting}} {
		e, err := api.StartEstimate(ctx, asked)
		if err != nil {
			return err
		}
		err = every(ctx, 200*time.Millisecond, func() (bool, error) {
			e, err = api.Estimate(ctx, e.Run.ID)
			return e.Run.State.Ended(), err
		})
		if err == nil && e.Run.State != model.RunDone {
			err = fmt.Errorf("the estimate of %s: %s", larkfield.Name, e.Run.Trouble)
		}
		if err != nil {
			return err
		}
	}
	// Everything of the demo lies on one disk, the work folder too.
	if _, err := api.Prove(ctx, larkfield.Name, model.NewProof{Folder: "fern/seedbank", Keep: true, Anyway: true}); err != nil {
		return err
	}
	_, err := api.StartEstimate(ctx, highmoor)
	return err
}
