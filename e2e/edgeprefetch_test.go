package e2e

import (
	"os"

	"bridgespan/model"
)

// prefetched: changes in a folder come with their contents at once, those elsewhere as stubs; what it cost, and whether people used
// it, is told.
func (c *clouded) prefetched() {
	c.Helper()
	before := *c.edge().Edge
	set := func(p model.EdgePolicy) error {
		_, err := c.e.API.EditReplica(c.Context(), "scans", "sedge", model.EditReplica{Edge: &p})
		return err
	}
	for what, r := range map[string]struct {
		policy model.EdgePolicy
		field  string
	}{
		"hours that are none":    {model.EdgePolicy{Fill: model.FillStubs, Prefetch: &model.EdgePrefetch{Folders: []string{"live/"}, Hours: "at tea time"}}, "edge.prefetchHours"},
		"a pattern that is none": {model.EdgePolicy{Fill: model.FillStubs, Prefetch: &model.EdgePrefetch{Folders: []string{"["}}}, "edge.prefetch"},
		"an edge of whole files": {model.EdgePolicy{Fill: model.FillWhole, Prefetch: &model.EdgePrefetch{Folders: []string{"live/"}}}, "edge.prefetch"},
	} {
		refused(c.T, what, set(r.policy), 422, r.field)
	}
	p := model.EdgePolicy{Fill: model.FillStubs, Prefetch: &model.EdgePrefetch{Folders: []string{"live/"}}}
	if err := set(p); err != nil {
		c.Fatal(err)
	}
	await(c.T, "the policy", func() bool { return c.edge().PickedUp != nil })
	c.put("live/plan.dwg", random(64<<10), 0)
	c.put("cold/scan.tif", random(1<<20), 0)
	await(c.T, "contents of one folder alone", func() bool {
		_, live := os.Stat(c.path("live/plan.dwg"))
		_, cold := os.Stat(c.path("cold/scan.tif"))
		return live == nil && cold == nil && !c.stub(c.path("live/plan.dwg")) && c.stub(c.path("cold/scan.tif"))
	})
	usage := func() *model.PrefetchUsage {
		u, err := c.e.API.CloudUsage(c.Context(), "scans")
		if err != nil || len(u.Edges) != 2 {
			return nil
		}
		return u.Edges[1].Prefetched
	}
	await(c.T, "what was prefetched", func() bool {
		u := usage()
		return u != nil && u.Files == 1 && u.Bytes == 64<<10 && u.Used == 0 && u.Advice == ""
	})
	if _, err := os.ReadFile(c.path("live/plan.dwg")); err != nil {
		c.Fatal(err)
	}
	p.UnusedDays = 3000 // lets the edge be looked at
	if err := set(p); err != nil {
		c.Fatal(err)
	}
	await(c.T, "its use", func() bool { u := usage(); return u != nil && u.Used == 1 })
	for _, name := range []string{"live/plan.dwg", "cold/scan.tif"} {
		if err := os.Remove(c.path(name)); err != nil {
			c.Fatal(err)
		}
	}
	if err := set(before); err != nil {
		c.Fatal(err)
	}
}
