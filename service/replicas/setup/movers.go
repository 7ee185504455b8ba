package setup

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/endpoint"
	"bridgespan/service/movers"
	"bridgespan/service/preflight"
)

// askedTogether is how many servers are asked at the same time.
const askedTogether = 8

// movers checks the servers of the edges: their movers' programs and clocks, and how these reach the bucket.
func (w *checker) movers(ctx context.Context) {
	names := w.servers()
	if len(names) == 0 {
		w.todo("servers", "", "No server is chosen", "choose the servers that are to hold edges")
		return
	}
	all, err := w.DB.Servers(ctx, records.All)
	if err != nil {
		w.fail("servers", "", err)
		return
	}
	found := make([][]finding.Finding, len(names))
	var group guard.Group
	group.SetLimit(askedTogether)
	for i, name := range names {
		group.Go(func() error {
			one := &checker{Setups: w.Setups, setup: w.setup, cloud: w.cloud}
			one.server(ctx, name, all)
			found[i] = one.checks
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		w.fail("servers", "", err)
	}
	w.checks = slices.Concat(append([][]finding.Finding{w.checks}, found...)...)
}

// servers are the servers of the edges, each once.
func (w *checker) servers() (names []string) {
	for _, e := range w.setup.Edges {
		if !slices.ContainsFunc(names, func(n string) bool { return namespace.Key(n) == namespace.Key(e.Server) }) {
			names = append(names, e.Server)
		}
	}
	return names
}

func (w *checker) server(ctx context.Context, name string, all []model.Server) {
	i := slices.IndexFunc(all, func(v model.Server) bool { return namespace.Key(v.Name) == namespace.Key(name) })
	if i < 0 {
		w.add(finding.Fail, "server", name, "There is no such server", "", "choose another one, or add it first")
		return
	}
	v := all[i]
	if v.Cloud != nil {
		w.add(finding.Fail, "server", name, name+" is a cloud account", "", "choose a file server, or a host with a mover")
		return
	}
	r, err := w.Estate.Reach(ctx, v.Name)
	if err != nil {
		w.fail("server", name, err)
		return
	}
	defer r.Close()
	host, info, moves := endpoint.Host(r.Endpoint)
	if !moves {
		w.withoutMover(v, all)
		return
	}
	w.program(v, info.Version, info.Build)
	w.updates(ctx, v)
	w.checks = append(w.checks, preflight.Clock(ctx, preflight.Place{Name: v.Name, Server: v, Reach: r}))
	switch found, err := w.Estate.BucketFrom(ctx, host, namespace.Target{Server: w.cloud.Name, Share: w.setup.Bucket, Sub: w.setup.Folder}); {
	case err != nil:
		w.add(finding.Fail, "bucket", name, fmt.Sprintf("Its mover cannot open the bucket: %s", preflight.Words(err)), "stubs could not be filled there",
			fmt.Sprintf("allow connections from its host to %s, TCP port %d, or start the mover with --proxy; no other port is needed", w.cloud.Address, w.cloud.Port))
	case found.Proxy != "":
		w.pass("bucket", name, "Its mover opens the bucket through the proxy %s in %s; no other port is needed", found.Proxy, inMs(found.Delay))
	default:
		w.pass("bucket", name, "Its mover opens the bucket at %s:%d in %s, without a proxy; no other port is needed", w.cloud.Address, w.cloud.Port, inMs(found.Delay))
	}
}

// withoutMover tells what a file server without a mover can hold.
func (w *checker) withoutMover(v model.Server, all []model.Server) {
	for _, other := range all {
		if namespace.Key(other.Beside) == namespace.Key(v.Name) {
			w.pass("mover", v.Name, "Without a mover, it keeps whole files; for stubs, choose %s, the mover on the same host", other.Name)
			return
		}
	}
	w.pass("mover", v.Name, "Without a mover, it keeps whole files")
}

// updates tells how a mover is updated.
func (w *checker) updates(ctx context.Context, v model.Server) {
	jobs, err := w.Runs.Saved(ctx, movers.Subject)
	if err != nil {
		w.fail("updates", v.Name, err)
		return
	}
	if rules := movers.Windows(jobs, v.Name); len(rules) > 0 {
		w.pass("updates", v.Name, "Its mover is updated %s, one mover at a time", strings.Join(rules, ", "))
		return
	}
	w.pass("updates", v.Name, "Its mover is updated by hand")
}

// program compares the program of a mover with that of the service.
func (w *checker) program(v model.Server, version, build string) {
	severity, meaning := finding.Warn, "an older mover may not do all that edges need"
	if w.setup.Sealing != nil {
		severity, meaning = finding.Fail, "an older mover may not open sealed files"
	}
	switch {
	case build == "" || w.build == "":
		w.add(severity, "version", v.Name, "The version of its mover is unknown", meaning, "update the mover", finding.To(finding.UpdateMover, v.Name))
	case build != w.build:
		w.add(severity, "version", v.Name, "Its mover runs another build than this service: "+version, meaning, "update the mover", finding.To(finding.UpdateMover, v.Name))
	default:
		w.pass("version", v.Name, "Its mover runs the build of this service: %s", version)
	}
}
