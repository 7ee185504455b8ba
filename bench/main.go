// Command bench measures Bridge Span against the machine's own limit, both in
// the same run, and prints one line a benchmark: name, ours, reference, ratio,
// bar, kept or missed. The same goes to var/bench.json.
//
//	go run ./bench [-only name]
package main

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/pprof"
	"slices"
	"syscall"
	"time"

	"bridgespan/mover/gctune"
)

// benchmark compares two ways to do one thing, turn by turn, so that a machine
// whose speed drifts is the same to both.
type benchmark struct {
	name string
	unit string // of ours and reference; more is better
	// bar is the least ratio of ours to the reference.
	bar float64
	// turns is how often each way is measured; 0 for the usual.
	turns int
	// prepare makes the two ways, and says how to end what it started.
	prepare func(ctx context.Context, after *endings) (ours, reference way, err error)
}

// endings are what is to be done after a benchmark, the last said first.
type endings []func()

func (e *endings) do(end func()) { *e = append(*e, end) }

// later is done when everything was measured. Files are removed then: a file system
// is slow to make new ones right after many were removed.
var later endings

// workFolder makes a folder for files, which is removed later.
func workFolder() (string, error) {
	dir, err := os.MkdirTemp("", "bspan-bench-")
	if err == nil {
		later.do(func() { os.RemoveAll(dir) })
	}
	return dir, err
}

func (e *endings) all() {
	for _, end := range slices.Backward(*e) {
		end()
	}
}

// turns is how often each way is measured; the median counts.
const turns = 7

type result struct {
	Name      string  `json:"name"`
	Ours      float64 `json:"ours"`
	Reference float64 `json:"reference"`
	Unit      string  `json:"unit"`
	Ratio     float64 `json:"ratio"`
	Bar       float64 `json:"bar"`
	Kept      bool    `json:"kept"`
	At        string  `json:"at"`
}

var benchmarks = []benchmark{gatewayRead, gatewayReadWide, gatewayList, directions, survey, decisions, fillLarge, fillSmall, moverFill, moverFillSmall, delta, deltaShare, shareFill, shareFillTimes, shareFillRights, rescan, million, arrival, livelock, signing, encryption, dedupOneCore, dedupTwoCores, dedupMemory, dedupExact, dedupShare, dedupAgain, frontWrite, frontChange, frontList, frontWriteBig, bucketUpload, bucketSealed, bucketSmall, bucketMover, bucketMoverSmall, bucketList, bucketSweep, stubFirst, stubFirstNear, stubFirstClose, stubSealed, stubStream}

// verbose shows every turn.
var verbose = flag.Bool("verbose", false, "show every turn")

func main() {
	only := flag.String("only", "", "run the benchmark of this name alone")
	profile := flag.String("cpuprofile", "", "write a profile of the processor to this file")
	flag.Parse()
	gctune.Tune() // as the service does
	if *profile != "" {
		f, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		defer pprof.StopCPUProfile()
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := run(ctx, *only)
	later.all()
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, only string) error {
	chosen := benchmarks
	if only != "" {
		chosen = slices.DeleteFunc(slices.Clone(benchmarks), func(b benchmark) bool { return b.name != only })
		if len(chosen) == 0 {
			return fmt.Errorf("there is no benchmark %q", only)
		}
	}
	var results []result
	for _, b := range chosen {
		r, err := b.measure(ctx)
		if err != nil {
			return fmt.Errorf("%s: %w", b.name, err)
		}
		verdict := "kept"
		if !r.Kept {
			verdict = "missed"
		}
		fmt.Printf("%-24s ours %8.1f %s   reference %8.1f %s   ratio %.2f   bar %.2f   %s\n", r.Name, r.Ours, r.Unit, r.Reference, r.Unit, r.Ratio, r.Bar, verdict)
		results = append(results, r)
	}
	if surveyMemory > 0 {
		fmt.Printf("%-24s took at most %d MiB of memory, of %d\n", survey.name, surveyMemory>>20, mostMemory>>20)
	}
	if bigNamesMemory > 0 {
		fmt.Printf("%-24s its namespace takes %d MiB of memory, of %d\n", directions.name, bigNamesMemory>>20, namesMemory>>20)
	}
	text, err := json.MarshalIndent(results, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll("var", 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join("var", "bench.json"), append(text, '\n'), 0o644)
}

func (b benchmark) measure(ctx context.Context) (result, error) {
	var after endings
	defer after.all()
	ours, reference, err := b.prepare(ctx, &after)
	if err != nil {
		return result{}, err
	}
	var mine, theirs, ratios []float64
	for turn := range cmp.Or(b.turns, turns) + 1 {
		m, err := ours(ctx)
		if err != nil {
			return result{}, err
		}
		r, err := reference(ctx)
		if err != nil {
			return result{}, err
		}
		if turn == 0 {
			continue // a warm-up for both
		}
		if *verbose {
			fmt.Printf("  turn %d: ours %.1f, reference %.1f %s\n", turn, m, r, b.unit)
		}
		mine, theirs, ratios = append(mine, m), append(theirs, r), append(ratios, m/r)
	}
	ratio := median(ratios)
	return result{Name: b.name, Ours: median(mine), Reference: median(theirs), Unit: b.unit, Ratio: ratio, Bar: b.bar, Kept: ratio >= b.bar, At: time.Now().UTC().Format(time.RFC3339)}, nil
}

func median[T cmp.Ordered](values []T) T {
	slices.Sort(values)
	return values[len(values)/2]
}
