package main

import (
	"context"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/dedup"
	"bridgespan/core/finding"
	"bridgespan/model"
)

func showEstimate(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	id, err := estimateRun(ctx, api, args[0])
	if err != nil {
		return err
	}
	if name := c.String("report"); name != "" {
		if err := writeFile(name, func(w io.Writer) error { return api.EstimateReport(ctx, id, w) }); err != nil {
			return err
		}
		return done(c, map[string]string{"file": name}, "%s is written", name)
	}
	return showFound(ctx, c, api, id, c.String("by"))
}

// estimateRun is the run that is named, or the latest estimate of a volume.
func estimateRun(ctx context.Context, api *client.Client, text string) (int64, error) {
	if id, err := strconv.ParseInt(text, 10, 64); err == nil && id > 0 {
		return id, nil
	}
	v, err := api.EstimatedVolume(ctx, text)
	switch {
	case err != nil:
		return 0, err
	case v.Busy != nil:
		return v.Busy.ID, nil
	case v.Latest == nil:
		return 0, fmt.Errorf("no estimate of %s came to its end yet; begin one with: bspan dedup estimate %q", v.Name, v.Name)
	}
	return v.Latest.Run, nil
}

func showFound(ctx context.Context, c *cli.Command, api *client.Client, id int64, by string) error {
	e, err := api.Estimate(ctx, id)
	if err != nil {
		return err
	}
	if e.Found == nil {
		t := table{}
		t.empty = fmt.Sprintf("Estimate %d of %s is %s: %s. %s", id, e.Volume.Name, e.Run.State, estimateWords(&e.Progress), leftWords(e.Run))
		return show(c, e, t)
	}
	t, err := foundTable(e.Found, by)
	if err != nil {
		return err
	}
	t.after = sentence(e.Volume.Name, e.Found) + proofLine(e.Volume.Proof) + warningLines(e.Warnings)
	if p := e.Progress; p.ReadBytes > 0 {
		t.after += fmt.Sprintf("\nRead now: %s in %s, %s/s.", iec(p.ReadBytes), filesOf(p.Read), iec(p.ReadBytes*1000/max(p.ReadMs, 1)))
	} else {
		t.after += "\nNothing had to be read: nothing has changed since the last estimate."
	}
	for _, trouble := range e.Progress.Troubles {
		t.after += "\nNot read: " + trouble
	}
	for _, s := range e.Found.Suggested {
		t.after += fmt.Sprintf("\nLeaving out %s (%s) costs %.1f%% of the saving and spares %.0f%% of the reading: %s.", s.What, strings.Join(s.Rules, " "), s.Costs, s.Reading, s.Why)
	}
	if len(t.rows) == 0 {
		t.empty = t.after
	}
	return show(c, e, t)
}

// estimateWords says how far an estimate is.
func estimateWords(p *model.DedupProgress) string {
	text := fmt.Sprintf("%s in %s found", iec(p.FoundBytes), filesOf(p.Found))
	if p.ReadMs == 0 {
		return text
	}
	return text + fmt.Sprintf(", %s of %s read at %s/s, of which %s were there already", iec(p.ReadBytes), iec(p.ToRead), iec(p.ReadBytes*1000/max(p.ReadMs, 1)), iec(p.Saved))
}

// sentence says what was found.
func sentence(volume string, f *dedup.Found) string {
	t := &f.Totals
	rate, low, high := t.Rate()
	text := fmt.Sprintf("%s: %s of %s in policy would be saved, %.1f%%", volume, figure(t.Saving), iec(t.InPolicy.Bytes), rate)
	if !t.Saving.IsExact() {
		text += fmt.Sprintf(" (between %.1f%% and %.1f%%, with 95%% confidence)", low, high)
	}
	text += fmt.Sprintf(".\nIn policy: %s files of %s, profile %s. Different chunks: %s; compressed: %s; to know which are whose: %s. Equal files alone would save %s.",
		humanize.Comma(t.InPolicy.Files), humanize.Comma(t.Files), t.Profile, figure(t.Unique), figure(t.Packed), iec(t.Metadata), iec(f.WholeFiles))
	if t.Sampled > 1 {
		text += fmt.Sprintf(" One of %d chunks was counted.", t.Sampled)
	}
	for _, l := range t.Left {
		text += fmt.Sprintf("\nNot deduplicated: %s in %s, %s.", iec(l.Bytes), filesOf(l.Files), l.Why)
	}
	return text
}

// proofLine is what the last proof came to.
func proofLine(p *model.ProofPoint) string {
	if p == nil {
		return ""
	}
	return fmt.Sprintf("\nLast proof: %.2f%% off, on %s, %s (run %d).", math.Abs(p.Off), p.Folder, when(p.At), p.Run)
}

func warningLines(list []finding.Finding) (text string) {
	for _, w := range list {
		text += "\n" + findingLine(w)
	}
	return text
}

// iec writes bytes, also fewer than none.
func iec(n int64) string {
	if n < 0 {
		return "-" + humanize.IBytes(uint64(-n))
	}
	return humanize.IBytes(uint64(n))
}

// figure writes a figure with its interval.
func figure(f dedup.Figure) string {
	if f.IsExact() {
		return iec(f.Bytes)
	}
	return fmt.Sprintf("%s (%s to %s)", iec(f.Bytes), iec(f.Low), iec(f.High))
}

// How deep folders are that a command shows, the server and the share with them, and
// how many rows of them: all are in --output json.
const (
	shownDepth = 3
	shownRows  = 40
)

// foundTable shows where the saving is.
func foundTable(f *dedup.Found, by string) (table, error) {
	parts := map[string][]dedup.Part{"type": f.Where.Types, "age": f.Where.Ages, "size": f.Where.Sizes, "owner": f.Where.Owners, "folder": f.Where.Folders.Parts(shownDepth)}
	t := table{heads: []string{by, "files", "bytes", "would take", "saves", "rate"}}
	if list, ok := parts[by]; ok {
		for _, p := range list {
			if p.Files > 0 && len(t.rows) < shownRows {
				t.add(p.Name, humanize.Comma(p.Files), iec(p.Bytes), iec(p.Stored), iec(p.Saving), fmt.Sprintf("%.1f%%", 100*float64(p.Saving)/float64(max(p.Bytes, 1))))
			}
		}
		return t, nil
	}
	switch by {
	case "twins":
		t.heads = []string{"files", "each", "spares", "among them"}
		for _, s := range f.Twins {
			t.add(humanize.Comma(s.Files), iec(s.Size), iec(s.Spares), strings.Join(s.Paths, ", "))
		}
	case "near":
		t.heads = []string{"in common", "of the smaller", "file", "and"}
		for _, n := range f.Where.Near {
			t.add(iec(n.Common), fmt.Sprintf("%.0f%%", 100*n.Part), n.A, n.B)
		}
	case "chunks":
		t.heads = []string{"chunk", "length", "times", "spares", "among others in"}
		for _, p := range f.Where.Popular {
			t.add(p.Print[:16], iec(p.Length), humanize.Comma(p.Times), iec(p.Spares), strings.Join(p.Paths, ", "))
		}
	case "min-age":
		t.heads = []string{"unchanged for", "files", "bytes", "saves"}
		for _, p := range f.Curve {
			t.add(fmt.Sprint(p.Days, " days"), humanize.Comma(p.Files), iec(p.Bytes), figure(p.Saving))
		}
	default:
		return t, usageError{fmt.Sprintf("--by: %q is none of folder, type, age, size, owner, twins, near, chunks, min-age", by)}
	}
	return t, nil
}

// filesOf is so many files, in words.
func filesOf(n int64) string { return humanize.Comma(n) + " " + english.PluralWord(int(n), "file", "") }

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
