package client

import (
	"context"
	"fmt"
	"io"
	"net/url"

	"bridgespan/core/dedup"
	"bridgespan/model"
)

// StartEstimate starts an estimate of what deduplication would save on a volume.
func (c *Client) StartEstimate(ctx context.Context, asked model.NewEstimate) (model.Estimate, error) {
	return add[model.Estimate](ctx, c, asked, "dedup", "estimates")
}

// ScheduleEstimate saves an estimate that is done again and again.
func (c *Client) ScheduleEstimate(ctx context.Context, asked model.ScheduleEstimate) (model.Job, error) {
	return add[model.Job](ctx, c, asked, "dedup", "estimates", "jobs")
}

// KeptStores lists the chunk stores that proofs have kept.
func (c *Client) KeptStores(ctx context.Context) ([]model.KeptStore, error) {
	return all[model.KeptStore](ctx, c, "dedup", "stores")
}

// StoreChunks lists the chunks of a kept store that occur most.
func (c *Client) StoreChunks(ctx context.Context, run int64, most int) ([]dedup.StoredChunk, error) {
	p, err := read[model.Page[dedup.StoredChunk]](ctx, c, url.Values{"limit": {fmt.Sprint(most)}}, "dedup", "stores", fmt.Sprint(run), "chunks")
	return p.Items, err
}

// RemoveStore removes a chunk store that a proof has kept.
func (c *Client) RemoveStore(ctx context.Context, run int64) error {
	return remove(ctx, c, nil, "dedup", "stores", fmt.Sprint(run))
}

// LookBeforeEstimate tells what speaks against an estimate before it is begun.
func (c *Client) LookBeforeEstimate(ctx context.Context, asked model.NewEstimate) (model.DedupLook, error) {
	return add[model.DedupLook](ctx, c, asked, "dedup", "look")
}

// Estimate shows an estimate as far as it is.
func (c *Client) Estimate(ctx context.Context, run int64) (model.Estimate, error) {
	return read[model.Estimate](ctx, c, nil, "dedup", "estimates", fmt.Sprint(run))
}

// EstimateReport writes an estimate as a page that needs nothing else.
func (c *Client) EstimateReport(ctx context.Context, run int64, w io.Writer) error {
	return c.text(ctx, w, "dedup", "estimates", fmt.Sprint(run), "report")
}

// CompareEstimates shows two estimates side by side.
func (c *Client) CompareEstimates(ctx context.Context, earlier, later int64) (model.EstimateComparison, error) {
	return read[model.EstimateComparison](ctx, c, nil, "dedup", "estimates", fmt.Sprint(later), "since", fmt.Sprint(earlier))
}

// EstimatedVolumes lists the volumes that were estimated.
func (c *Client) EstimatedVolumes(ctx context.Context) ([]model.EstimatedVolume, error) {
	return all[model.EstimatedVolume](ctx, c, "dedup", "volumes")
}

// EstimatedVolume shows a volume that was estimated.
func (c *Client) EstimatedVolume(ctx context.Context, name string) (model.EstimatedVolume, error) {
	return read[model.EstimatedVolume](ctx, c, nil, "dedup", "volumes", name)
}

// StartWhatIf starts to count what another policy would save.
func (c *Client) StartWhatIf(ctx context.Context, volume string, asked model.WhatIf) (model.WhatIfAnswer, error) {
	return add[model.WhatIfAnswer](ctx, c, asked, "dedup", "volumes", volume, "what-ifs")
}

// WhatIf shows what another policy would save, once that is counted.
func (c *Client) WhatIf(ctx context.Context, run int64) (model.WhatIfAnswer, error) {
	return read[model.WhatIfAnswer](ctx, c, nil, "dedup", "what-ifs", fmt.Sprint(run))
}

// StartPool starts to count what volumes would save together.
func (c *Client) StartPool(ctx context.Context, asked model.NewPool) (model.DedupPool, error) {
	return add[model.DedupPool](ctx, c, asked, "dedup", "pools")
}

// Pool shows what volumes would save together, once that is counted.
func (c *Client) Pool(ctx context.Context, run int64) (model.DedupPool, error) {
	return read[model.DedupPool](ctx, c, nil, "dedup", "pools", fmt.Sprint(run))
}

// Prove starts a proof of an estimate.
func (c *Client) Prove(ctx context.Context, volume string, asked model.NewProof) (model.Proof, error) {
	return add[model.Proof](ctx, c, asked, "dedup", "volumes", volume, "proofs")
}

// Proof shows a proof as far as it is.
func (c *Client) Proof(ctx context.Context, run int64) (model.Proof, error) {
	return read[model.Proof](ctx, c, nil, "dedup", "proofs", fmt.Sprint(run))
}

// PlanDedup tells when the work could be done.
func (c *Client) PlanDedup(ctx context.Context, volume string, asked model.NewDedupPlan) (model.DedupPlan, error) {
	return add[model.DedupPlan](ctx, c, asked, "dedup", "volumes", volume, "plan")
}

// ForgetEstimatedVolume forgets a volume and what was read of it.
func (c *Client) ForgetEstimatedVolume(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "dedup", "volumes", name)
}
