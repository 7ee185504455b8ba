package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func storeCommand() *cli.Command {
	return &cli.Command{Name: "store", Usage: "chunk stores that proofs have kept", Commands: []*cli.Command{
		{Name: "list", Usage: "list the stores that are kept", Action: signedIn(listStores)},
		{Name: "inspect", Usage: "show the chunks of a proof's store, how often they occur, and what they share", ArgsUsage: "RUN", Flags: []cli.Flag{&cli.IntFlag{Name: "chunks", Usage: "show the `N` chunks that occur most, of a store that is kept"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onRun(args[0], func(id int64) error {
					if n := c.Int("chunks"); n > 0 {
						return showChunks(ctx, c, api, id, n)
					}
					return showProof(ctx, c, api, id)
				})
			}, "RUN")},
		{Name: "remove", Usage: "remove a store that is kept; what the proof found stays", ArgsUsage: "RUN", Flags: []cli.Flag{rehearseFlag()}, Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			return onRun(args[0], func(id int64) error {
				if err := api.RemoveStore(ctx, id); err != nil {
					return err
				}
				return done(c, nil, "the store of run %d is removed", id)
			})
		}, "RUN")}}}
}

func listStores(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
	list, err := api.KeptStores(ctx)
	if err != nil {
		return err
	}
	t := table{heads: []string{"run", "volume", "folder", "takes", "made", "where"}, empty: "No store is kept. A proof keeps its own with: bspan dedup prove --keep"}
	for _, k := range list {
		t.add(fmt.Sprint(k.Run), k.Volume, k.Folder, iec(k.Bytes), when(k.Made), k.Path)
	}
	return show(c, list, t)
}

// showChunks shows the chunks of a store that occur most.
func showChunks(ctx context.Context, c *cli.Command, api *client.Client, id int64, most int) error {
	list, err := api.StoreChunks(ctx, id, most)
	if err != nil {
		return err
	}
	t := table{heads: []string{"chunk", "fingerprint", "length", "compressed", "references", "among others in"}, empty: "The store is empty."}
	for _, k := range list {
		t.add(fmt.Sprint(k.Number), k.Fingerprint[:16], iec(k.Length), iec(k.Packed), humanize.Comma(k.Refs), strings.Join(k.Paths, ", "))
	}
	return show(c, list, t)
}

func proveEstimate(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	p, err := api.Prove(ctx, args[0], model.NewProof{Folder: args[1], Keep: c.Bool("keep"), Anyway: c.Bool("anyway")})
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, p.Run, p, func(id int64) error { return showProof(ctx, c, api, id) })
}

// showProof shows what a proof came to, and what its store held.
func showProof(ctx context.Context, c *cli.Command, api *client.Client, id int64) error {
	p, err := api.Proof(ctx, id)
	if err != nil {
		return err
	}
	t := table{heads: []string{"chunks that occur", "chunks", "bytes"}, after: p.Verdict, empty: p.Verdict}
	if p.Store != nil {
		for i, s := range p.Store.Shared {
			times := fmt.Sprintf("%d times or more", s.From)
			if i+1 < len(p.Store.Shared) {
				if last := p.Store.Shared[i+1].From - 1; last > s.From {
					times = fmt.Sprintf("%d to %d times", s.From, last)
				} else {
					times = map[int64]string{1: "once", 2: "twice"}[s.From]
				}
			}
			t.add(times, humanize.Comma(s.Chunks), iec(s.Bytes))
		}
		t.after = fmt.Sprintf("%s different chunks of %s, %s compressed; %s references in %s files of %s.\n", humanize.Comma(p.Store.Chunks), iec(p.Store.ChunkSize), iec(p.Store.Packed), humanize.Comma(p.Store.Refs), humanize.Comma(p.Store.Files), iec(p.Store.Bytes)) + p.Verdict
	}
	for _, d := range p.Different {
		t.after += "\nDifferent: " + d
	}
	if p.Kept != "" {
		t.after += "\nThe store is kept at " + p.Kept + "."
	}
	return show(c, p, t)
}
