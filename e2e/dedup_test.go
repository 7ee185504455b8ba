package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/client"
	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/mover/pack"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// estimating is a volume of two shares that is estimated.
type estimating struct {
	*testing.T
	e     *harness.Estate
	trees map[string]tree.Tree
}

func (v *estimating) put(share, name string, content []byte, days int) {
	v.Helper()
	t := v.trees[share]
	if err := tree.MkdirAll(v.Context(), t, filepath.Dir(name)); err != nil {
		v.Fatal(err)
	}
	if _, err := t.Put(v.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: time.Now().AddDate(0, 0, -days)}}); err != nil {
		v.Fatal(err)
	}
}

// estimate estimates, and waits until that has ended.
func (v *estimating) estimate(asked model.NewEstimate) model.Estimate {
	v.Helper()
	e, err := v.e.API.StartEstimate(v.Context(), asked)
	e, err = throughRun(v, e, err, func(e model.Estimate) model.Run { return e.Run }, v.e.API.Estimate)
	if err != nil || e.Run.State != model.RunDone || e.Found == nil {
		v.Fatalf("the estimate: %+v, %v", e, err)
	}
	return e
}

func randomBytes(seed byte, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

// TestDedup estimates a volume of two shares of a real server, changes it, and asks
// for other policies.
func TestDedup(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	v := &estimating{t, e, map[string]tree.Tree{"store": harness.Tree(t, e.Oak, "store"), "quiet": harness.Tree(t, e.Oak, "quiet")}}
	scan := randomBytes(1, 1<<20)
	v.put("store", "est/rose.tif", scan, 40)
	v.put("store", "est/copy of rose.tif", scan, 20)
	v.put("quiet", "est/rose.tif", scan, 2)
	v.put("quiet", "est/notes.txt", bytes.Repeat([]byte("in flower on the north bed\n"), 10_000), 100)
	v.put("quiet", "est/cache/a.tmp", randomBytes(2, 300_000), 100)
	places := []model.DedupPlace{{Server: "oak", Share: "store", Sub: "est"}, {Server: "OAK", Share: "quiet", Sub: "est"}}
	policy := filter.Rules{LeaveOut: []string{"cache/", "nowhere/"}}

	v.look(places)
	first := v.estimate(model.NewEstimate{Name: "oak data", Places: places, Counting: model.Counting{Policy: policy, Budget: 8 << 20}, Compress: "all"})
	f := first.Found
	if f.Totals.Files != 5 || f.Totals.InPolicy.Bytes != 3<<20+270_000 || !f.Totals.Exact || f.WholeFiles != 2<<20 || f.Totals.Unique.Bytes < 1<<20 || f.Totals.Unique.Bytes > 1<<20+270_000 || f.Totals.Packed.Bytes > 1<<20+20_000 {
		t.Errorf("%+v", f.Totals)
	}
	if first.Progress.Read != 4 || first.Progress.ReadBytes != f.Totals.InPolicy.Bytes || first.Volume.Places[1].Server != "oak" {
		t.Errorf("%+v, %+v", first.Progress, first.Volume)
	}
	if len(first.Warnings) != 1 || !strings.Contains(first.Warnings[0].Found, `"nowhere/"`) {
		t.Errorf("warnings are %+v", first.Warnings)
	}
	if len(f.Twins) != 1 || f.Twins[0].Files != 3 || !slices.Contains(f.Twins[0].Paths, "oak/quiet/est/rose.tif") {
		t.Errorf("equal files are %+v", f.Twins)
	}
	if owners := f.Where.Owners; len(owners) != 1 || !strings.HasPrefix(owners[0].Name, "S-1-5-21-") {
		t.Errorf("owners are %+v", owners)
	}

	// The second time, what changed is read alone.
	v.put("store", "est/rose.tif", randomBytes(3, 1<<20), 0)
	second := v.estimate(model.NewEstimate{Name: "oak data", Counting: model.Counting{Policy: policy}})
	if p := second.Progress; p.Read != 1 || p.ReadBytes != 1<<20 || second.Found.WholeFiles != 1<<20 {
		t.Errorf("the second time: %+v, %+v", p, second.Found.Totals)
	}
	// The third time nothing has changed, and it comes to the same.
	third := v.estimate(model.NewEstimate{Name: "oak data", Counting: model.Counting{Policy: policy}})
	same := *third.Found
	same.Totals.Now = second.Found.Totals.Now
	if third.Progress.Read != 0 || !third.Found.Totals.Now.After(second.Found.Totals.Now) || !reflect.DeepEqual(same, *second.Found) {
		t.Errorf("the third time: %+v, not %+v", third.Found, second.Found)
	}
	second = third
	volume, err := e.API.EstimatedVolume(t.Context(), "oak data")
	if err != nil || len(volume.Trend) != 3 || volume.Latest.Run != second.Run.ID || volume.Latest.Capacity == 0 || volume.Busy != nil {
		t.Errorf("the volume: %+v, %v", volume, err)
	}
	both, err := e.API.CompareEstimates(t.Context(), second.Run.ID, first.Run.ID)
	if err != nil || both.Before.Run.ID != first.Run.ID {
		t.Errorf("compared: %+v, %v", both.Before.Run, err)
	}
	v.whatIf()
	v.plan()
	v.prove()
	v.pool(scan)
	v.linksAndHoles()
	v.again()
	v.calendar()
	v.vanishes()
	v.refusals(places)
	v.commands(second.Run.ID)
	if err := e.API.ForgetEstimatedVolume(t.Context(), "oak data"); err != nil {
		t.Fatal(err)
	}
	if jobs, err := e.API.Jobs(t.Context()); err != nil || len(jobs) != 0 {
		t.Errorf("with a volume, its jobs are forgotten: %+v, %v", jobs, err)
	}
	wantRefused(t, "a forgotten volume", lastError(e.API.EstimatedVolume(t.Context(), "oak data")), http.StatusNotFound)
	if again, err := e.API.Estimate(t.Context(), second.Run.ID); err != nil || again.Found == nil {
		t.Errorf("what a run found is gone with its volume: %v", err)
	}
}

// wantRefused checks that the API has refused something.
func wantRefused(t *testing.T, what string, err error, status int) {
	t.Helper()
	var refused *client.Error
	if !errors.As(err, &refused) || refused.Status != status {
		t.Errorf("%s: %v, want status %d", what, err, status)
	}
}

func lastError[T any](_ T, err error) error { return err }

// whatIf asks for other policies; what was not read is told of.
func (v *estimating) whatIf() {
	v.Helper()
	ask := func(asked model.Counting) (model.WhatIfAnswer, error) {
		a, err := v.e.API.StartWhatIf(v.Context(), "oak data", model.WhatIf{Counting: asked})
		return throughRun(v, a, err, func(a model.WhatIfAnswer) model.Run { return a.Run }, v.e.API.WhatIf)
	}
	older, err := ask(model.Counting{Policy: filter.Rules{MinDays: 10, LeaveOut: []string{"cache/"}}})
	if err != nil || older.Found.Totals.InPolicy.Files != 2 || !slices.Contains(older.Found.Totals.Left, dedup.Left{Why: "changed too recently", Files: 2, Bytes: 2 << 20}) {
		v.Errorf("older alone: %+v, %v", older.Found.Totals, err)
	}
	all, err := ask(model.Counting{})
	if err != nil || !slices.Contains(all.Found.Totals.Left, dedup.Left{Why: dedup.NotYet, Files: 1, Bytes: 300_000}) || len(all.Warnings) != 1 || !strings.Contains(all.Warnings[0].Found, "never read") {
		v.Errorf("all: %+v, %+v, %v", all.Found.Totals, all.Warnings, err)
	}
	none, err := ask(model.Counting{Policy: filter.Rules{MinDays: 9999}})
	if err != nil || len(none.Warnings) != 1 || none.Warnings[0].Found != "the policy leaves nothing" {
		v.Errorf("nothing: %+v, %v", none.Warnings, err)
	}
	// With sorted files it comes to the same, to the byte.
	exact, err := ask(model.Counting{Exact: true, Anyway: true, Budget: dedup.LeastBudget})
	if err != nil || !exact.Found.Totals.Exact || exact.Found.Totals.Saving != all.Found.Totals.Saving {
		v.Errorf("with sorted files: %+v, not %+v, %v", exact.Found.Totals, all.Found.Totals, err)
	}
	if sameDisk(v.T, v.e.Dir, v.e.Oak.SharePath("store")) {
		wantRefused(v.T, "sorted files on the volume", lastError(ask(model.Counting{Exact: true})), http.StatusUnprocessableEntity)
	}
	wantRefused(v.T, "an estimate for a what-if", lastError(v.e.API.Estimate(v.Context(), exact.Run.ID)), http.StatusNotFound)
	wantRefused(v.T, "a what-if for a pool", lastError(v.e.API.Pool(v.Context(), exact.Run.ID)), http.StatusNotFound)
}

// throughRun waits until what was begun has ended.
func throughRun[T any](v *estimating, begun T, err error, run func(T) model.Run, get func(context.Context, int64) (T, error)) (T, error) {
	v.Helper()
	for deadline := time.Now().Add(time.Minute); err == nil && !run(begun).State.Ended() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		begun, err = get(v.Context(), run(begun).ID)
	}
	if err == nil && run(begun).State != model.RunDone {
		v.Fatalf("%+v", begun)
	}
	return begun, err
}

func (v *estimating) refusals(places []model.DedupPlace) {
	v.Helper()
	for name, asked := range map[string]model.NewEstimate{
		"nothing":     {},
		"no share":    {Places: []model.DedupPlace{{Server: "oak", Share: "nowhere"}}},
		"overlap":     {Places: []model.DedupPlace{{Server: "oak", Share: "store"}, {Server: "oak", Share: "store", Sub: "est"}}},
		"other parts": {Name: "oak data", Places: places[:1]},
		"no memory":   {Name: "oak data", Counting: model.Counting{Budget: 1000}},
		"no pattern":  {Name: "oak data", Counting: model.Counting{Policy: filter.Rules{LeaveOut: []string{"[/"}}}},
	} {
		if _, err := v.e.API.StartEstimate(v.Context(), asked); err == nil {
			v.Errorf("%s is taken", name)
		} else {
			wantRefused(v.T, name, err, http.StatusUnprocessableEntity)
		}
	}
	wantRefused(v.T, "an unknown volume", lastError(v.e.API.StartEstimate(v.Context(), model.NewEstimate{Name: "unknown"})), http.StatusNotFound)
	wantRefused(v.T, "another", lastError(v.e.API.StartWhatIf(v.Context(), "unknown", model.WhatIf{})), http.StatusNotFound)
}

// commands shows the same on the command line.
func (v *estimating) commands(run int64) {
	v.Helper()
	s := shell{harness.Program(v.T, "bspan"), v.TempDir()}
	if _, complaint, code := s.run(v.T, harness.Password+"\n", "--server", v.e.Base, "login", "--name", harness.Admin, "--password-file", "-"); code != 0 {
		v.Fatal(complaint)
	}
	for _, step := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"dedup", "list"}, 0, "oak data"},
		{[]string{"dedup", "estimate", "--rehearse", "elm/store", "oak/store"}, 0, "do not lie on one volume"},
		{[]string{"dedup", "estimate", "--rehearse", "elm/store"}, 0, "fixed"},
		{[]string{"dedup", "estimate", "--rehearse", "oak/store"}, 0, "Neither SMB nor the server's registry tells what kind of storage it is"},
		{[]string{"dedup", "estimate", "--rehearse", "--profile", "backups", "oak data"}, 0, "all of it is to be read again"},
		{[]string{"dedup", "show", "oak data"}, 0, "oak/store/est"},
		{[]string{"dedup", "show", fmt.Sprint(run), "--by", "type"}, 0, ".tif"},
		{[]string{"dedup", "show", "oak data", "--by", "twins"}, 0, "copy of rose.tif"},
		{[]string{"dedup", "show", "oak data", "--by", "min-age"}, 0, "730 days"},
		{[]string{"dedup", "show", "oak data", "--by", "colour"}, 2, "none of folder"},
		{[]string{"dedup", "what-if", "oak data", "--min-age", "10", "--skip-folder", "cache"}, 0, "UNDER THIS POLICY"},
		{[]string{"dedup", "what-if", "oak data", "--min-size", "many"}, 2, "no size"},
		{[]string{"dedup", "estimate", "oak data", "--skip-type", ".tmp"}, 0, "Nothing had to be read"},
		{[]string{"dedup", "plan", "oak data", "--week", "off; sat full"}, 0, "The first pass reads"},
		{[]string{"dedup", "plan", "oak data", "--week", "sometimes"}, 2, "not a rule"},
		{[]string{"dedup", "pool", "oak data", "elm data"}, 0, "all together"},
		{[]string{"dedup", "prove", "oak data", "oak/store/est", "--anyway"}, 0, "came out as they are"},
		{[]string{"dedup", "store", "list"}, 0, "No store is kept"},
		{[]string{"dedup", "prove", "oak data", "oak/store/est", "--anyway", "--keep"}, 0, "The store is kept at"},
		{[]string{"dedup", "store", "list"}, 0, "oak/store/est"},
		{[]string{"dedup", "estimate", "oak data", "--again", "every 12h"}, 0, "estimates oak data every 12h"},
		{[]string{"dedup", "forget", "oak data", "--rehearse"}, 0, "volume"},
		{[]string{"dedup", "estimate", "oak"}, 2, "does not name a share"},
		{[]string{"dedup", "show", "pine"}, 1, "no volume"},
	} {
		out, complaint, code := s.run(v.T, "", step.args...)
		if code != step.code || !strings.Contains(out+complaint, step.says) {
			v.Errorf("bspan %s: %d %s%s", strings.Join(step.args, " "), code, out, complaint)
		}
	}
	out, _, _ := s.run(v.T, "", "-o", "json", "dedup", "show", "oak data")
	var told model.Estimate
	if err := json.Unmarshal([]byte(out), &told); err != nil || told.Found == nil {
		v.Errorf("as JSON: %v", err)
	}
}

// plan fits the work into weeks.
func (v *estimating) plan() {
	v.Helper()
	begins := time.Date(2026, 11, 27, 12, 0, 0, 0, time.Local)
	ask := func(week string) model.DedupPlan {
		var asked model.NewDedupPlan
		asked.Begins = &begins
		var err error
		if asked.Week, err = calendar.Parse("week", week); err != nil {
			v.Fatal(err)
		}
		backups, _ := calendar.Parse("backups", "off; fri 20-22 full")
		asked.Backups = &backups
		p, err := v.e.API.PlanDedup(v.Context(), "oak data", asked)
		if err != nil {
			v.Fatal(err)
		}
		return p
	}
	night := ask("off; mon-fri 21-23 full")
	if n := night.Nights; n.First.Windows != 1 || n.First.Bytes < 3<<20 || n.First.Done.Hour() != 21 || len(n.Windows) != 5 || !n.Keeps || night.Memory == 0 || n.Rate <= 0 {
		v.Errorf("nights: %+v", night)
	}
	if len(night.Warnings) != 1 || !strings.Contains(night.Warnings[0].Found, "1 window of the week is shared with a backup, for 1 hour") {
		v.Errorf("beside a backup: %+v", night.Warnings)
	}
	for _, line := range []string{"BEGIN:VCALENDAR", "DTSTART:20261130T210000", "DTEND:20261130T230000", "RRULE:FREQ=WEEKLY", "SUMMARY:Deduplication of oak data"} {
		if !strings.Contains(night.ICalendar, line+"\r\n") {
			v.Errorf("the iCalendar lacks %s: %s", line, night.ICalendar)
		}
	}
	if never := ask("off"); len(never.Warnings) != 1 || never.Warnings[0].Severity != "fail" || !never.Nights.First.Done.IsZero() {
		v.Errorf("never: %+v", never)
	}
}

// prove packs a folder and takes it out again.
func (v *estimating) prove() {
	v.Helper()
	ask := func(p model.NewProof) (model.Proof, error) {
		proof, err := v.e.API.Prove(v.Context(), "oak data", p)
		return throughRun(v, proof, err, func(p model.Proof) model.Run { return p.Run }, v.e.API.Proof)
	}
	if sameDisk(v.T, v.e.Dir, v.e.Oak.SharePath("store")) {
		wantRefused(v.T, "a work folder on the volume", lastError(ask(model.NewProof{Folder: "oak/store/est"})), http.StatusUnprocessableEntity)
	}
	wantRefused(v.T, "another folder", lastError(ask(model.NewProof{Folder: "oak/store/2026", Anyway: true})), http.StatusUnprocessableEntity)
	v.put("quiet", "est/notes.txt", []byte("another by now"), 0)
	proof, err := ask(model.NewProof{Folder: "oak/quiet/est", Anyway: true, Keep: true})
	if err != nil || proof.Came == nil || proof.Came.Files != 1 || proof.Skipped != 1 || len(proof.Different) != 0 || proof.Came.Off < -1 || proof.Came.Off > 1 || proof.Store.Chunks != proof.Store.Refs {
		v.Errorf("the proof: %+v, %v", proof, err)
	}
	v.store(proof)
	if volume, err := v.e.API.EstimatedVolume(v.Context(), "oak data"); err != nil || volume.Proof == nil || volume.Proof.Run != proof.Run.ID {
		v.Errorf("with its proof: %+v, %v", volume.Proof, err)
	}
	v.put("quiet", "est/notes.txt", bytes.Repeat([]byte("in flower on the north bed\n"), 10_000), 100)
	v.estimate(model.NewEstimate{Name: "oak data", Counting: model.Counting{Policy: filter.Rules{LeaveOut: []string{"cache/"}}}})
}

// store looks at the store that a proof has kept, and removes it.
func (v *estimating) store(proof model.Proof) {
	v.Helper()
	ctx, api, run := v.Context(), v.e.API, proof.Run.ID
	store, err := pack.Open(proof.Kept)
	if err != nil {
		v.Fatal(err)
	}
	store.Close()
	kept, err := api.KeptStores(ctx)
	if err != nil || len(kept) != 1 || kept[0].Run != run || kept[0].Volume != "oak data" || kept[0].Folder != "oak/quiet/est" || kept[0].Bytes != proof.Store.Stored {
		v.Errorf("kept are %+v, %v", kept, err)
	}
	if chunks, err := api.StoreChunks(ctx, run, 3); err != nil || len(chunks) != 3 || !slices.Equal(chunks[0].Paths, []string{"oak/quiet/est/rose.tif"}) {
		v.Errorf("chunks are %+v, %v", chunks, err)
	}
	var told *client.Rehearsed
	if err := api.RemoveStore(client.Rehearse(ctx), run); !errors.As(err, &told) || len(told.Changes) != 1 {
		v.Errorf("rehearsed: %+v, %v", told, err)
	}
	if _, err := os.Stat(proof.Kept); err != nil {
		v.Errorf("after a rehearsal: %v", err)
	}
	if err := api.RemoveStore(ctx, run); err != nil {
		v.Error(err)
	}
	if _, err := os.Stat(proof.Kept); !errors.Is(err, os.ErrNotExist) {
		v.Errorf("after it was removed: %v", err)
	}
	wantRefused(v.T, "a store that was removed", api.RemoveStore(ctx, run), http.StatusNotFound)
	if p, err := api.Proof(ctx, run); err != nil || p.Kept != "" || p.Came == nil {
		v.Errorf("the proof: %+v, %v", p, err)
	}
}

// again estimates by a job.
func (v *estimating) again() {
	v.Helper()
	asked := model.NewEstimate{Name: "oak data", Priority: "low", Counting: model.Counting{Policy: filter.Rules{LeaveOut: []string{"cache/"}}}}
	wantRefused(v.T, "a rule that is none", lastError(v.e.API.ScheduleEstimate(v.Context(), model.ScheduleEstimate{NewEstimate: asked, Rule: "now and then"})), http.StatusUnprocessableEntity)
	job, err := v.e.API.ScheduleEstimate(v.Context(), model.ScheduleEstimate{NewEstimate: asked, Rule: "sat 02:30"})
	if err != nil || job.Kind != "estimate" || job.Subject != "oak data" || job.Next.Local().Weekday() != time.Saturday {
		v.Fatalf("the job: %+v, %v", job, err)
	}
	run, err := v.e.API.RunJob(v.Context(), job.ID)
	if err != nil {
		v.Fatal(err)
	}
	e, err := v.e.API.Estimate(v.Context(), run.ID)
	if e, err = throughRun(v, e, err, func(e model.Estimate) model.Run { return e.Run }, v.e.API.Estimate); err != nil || e.Found == nil || e.Asked.Priority != "low" {
		v.Errorf("by a job: %+v, %v", e, err)
	}
}

// calendar begins an estimate in hours in which it may not read.
func (v *estimating) calendar() {
	v.Helper()
	off := calendar.Week{}
	e, err := v.e.API.StartEstimate(v.Context(), model.NewEstimate{Name: "oak data", Calendar: &off})
	if err != nil {
		v.Fatal(err)
	}
	run := e.Run
	for deadline := time.Now().Add(20 * time.Second); err == nil && run.Waits == "" && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		run, err = v.e.API.Run(v.Context(), e.Run.ID)
	}
	if err != nil || run.Waits != "its calendar never lets it read" || run.Done != 0 {
		v.Errorf("by a calendar: %+v, %v", run, err)
	}
	if _, err := v.e.API.StopRun(v.Context(), run.ID); err != nil {
		v.Error(err)
	}
	for deadline := time.Now().Add(20 * time.Second); err == nil && !run.State.Ended() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		run, err = v.e.API.Run(v.Context(), run.ID)
	}
	if err != nil || run.State != model.RunStopped {
		v.Errorf("stopped: %+v, %v", run, err)
	}
	v.estimate(model.NewEstimate{Name: "oak data", Counting: model.Counting{Policy: filter.Rules{LeaveOut: []string{"cache/"}}}})
}

// vanishes lets the server go away while it is read: what was read is kept and counted,
// and the run goes on from there.
func (v *estimating) vanishes() {
	v.Helper()
	const files, size = 6, 1 << 20
	for i := range byte(files) {
		v.put("store", fmt.Sprintf("gone/%d.bin", i), randomBytes(20+i, size), 30)
	}
	api := v.e.API
	e, err := api.StartEstimate(v.Context(), model.NewEstimate{Name: "gone", Places: []model.DedupPlace{{Server: "oak", Share: "store", Sub: "gone"}}, Priority: "low", Pace: 8})
	until := func(what string, reached func() bool) {
		v.Helper()
		for deadline := time.Now().Add(time.Minute); err == nil && !reached(); time.Sleep(20 * time.Millisecond) {
			if e, err = api.Estimate(v.Context(), e.Run.ID); time.Now().After(deadline) {
				v.Fatalf("%s: %+v", what, e)
			}
		}
		if err != nil {
			v.Fatal(err)
		}
	}
	until("two files read", func() bool { return e.Progress.Read >= 2 })
	v.e.Oak.Halt()
	until("the run ended", func() bool { return e.Run.State.Ended() })
	if err := v.e.Oak.Restart(); err != nil {
		v.Fatal(err)
	}
	if e.Run.State != model.RunFailed || !strings.Contains(e.Run.Trouble, "stopped answering") || e.Found == nil {
		v.Fatalf("without its server: %+v", e)
	}
	read := e.Found.Totals.InPolicy.Files
	if read < 2 || read == files || !slices.ContainsFunc(e.Found.Totals.Left, func(l dedup.Left) bool { return l.Why == dedup.NotYet && l.Files == files-read }) || !slices.ContainsFunc(e.Warnings, func(w finding.Finding) bool { return w.Found == "it did not come to its end" }) {
		v.Errorf("of six files %d were read: %+v, %+v", read, e.Found.Totals, e.Warnings)
	}
	if _, err := api.ResumeRun(v.Context(), e.Run.ID); err != nil {
		v.Fatal(err)
	}
	until("it went on", func() bool { return e.Run.State == model.RunDone })
	if e.Found.Totals.InPolicy.Files != files || e.Progress.Read != files-read {
		v.Errorf("gone on with: %+v, %+v", e.Progress, e.Found.Totals)
	}
	if err := api.ForgetEstimatedVolume(v.Context(), "gone"); err != nil {
		v.Error(err)
	}
}

// pool compares with another volume.
func (v *estimating) pool(scan []byte) {
	v.Helper()
	v.trees["elm"] = harness.Tree(v.T, v.e.Elm, "store")
	v.put("elm", "est/the same.tif", scan, 30)
	v.estimate(model.NewEstimate{Name: "elm data", Places: []model.DedupPlace{{Server: "elm", Share: "store", Sub: "est"}}})
	ask := func(asked model.Counting) model.DedupPool {
		p, err := v.e.API.StartPool(v.Context(), model.NewPool{Volumes: []string{"oak data", "elm data"}, Counting: asked})
		if p, err = throughRun(v, p, err, func(p model.DedupPool) model.Run { return p.Run }, v.e.API.Pool); err != nil {
			v.Fatal(err)
		}
		return p
	}
	p := ask(model.Counting{})
	if exact := ask(model.Counting{Exact: true, Anyway: true, Budget: dedup.LeastBudget}); !reflect.DeepEqual(exact.Pooled, p.Pooled) || exact.Summary != p.Summary {
		v.Errorf("with sorted files: %+v, not %+v", exact.Pooled, p.Pooled)
	}
	common := func(a, b string) bool {
		return slices.ContainsFunc(p.Pooled.Common, func(c dedup.Common) bool { return c.A == a && c.B == b && c.Bytes.Bytes > 1<<20 })
	}
	if r := p.Pooled; len(r.Alone) != 2 || r.Gain < 1<<20 || r.Gain > 1<<20+20_000 || !common("oak/store/est", "elm/store/est") || !common("oak/store/est", "oak/quiet/est") || len(r.Shares) != 3 {
		v.Errorf("pooled: %+v", p)
	}
	wantRefused(v.T, "one twice", lastError(v.e.API.StartPool(v.Context(), model.NewPool{Volumes: []string{"elm data", "ELM DATA"}})), http.StatusUnprocessableEntity)
	wantRefused(v.T, "an unknown one", lastError(v.e.API.StartPool(v.Context(), model.NewPool{Volumes: []string{"elm data", "pine"}})), http.StatusNotFound)
}

// look asks what speaks against an estimate: that begins nothing.
func (v *estimating) look(places []model.DedupPlace) {
	v.Helper()
	l, err := v.e.API.LookBeforeEstimate(v.Context(), model.NewEstimate{Name: "oak data", Places: places})
	if err != nil || l.Volume.Name != "oak data" || len(l.Places) != 2 || l.Places[0].Capacity == 0 || len(l.Warnings) != 0 {
		v.Errorf("beforehand: %+v, %v", l, err)
	}
	wantRefused(v.T, "a volume that was only looked at", lastError(v.e.API.EstimatedVolume(v.Context(), "oak data")), http.StatusNotFound)
	both := []model.DedupPlace{places[0], {Server: "elm", Share: "store"}}
	if l, err = v.e.API.LookBeforeEstimate(v.Context(), model.NewEstimate{Places: both}); err != nil || len(l.Warnings) != 1 || !strings.Contains(l.Warnings[0].Found, "do not lie on one volume") {
		v.Errorf("of two servers: %+v, %v", l, err)
	}
	wantRefused(v.T, "a look at nothing", lastError(v.e.API.LookBeforeEstimate(v.Context(), model.NewEstimate{})), http.StatusUnprocessableEntity)
	v.removable()
}

// removable lets elm tell that what its shares lie on can be taken out.
func (v *estimating) removable() {
	v.Helper()
	asked := model.NewEstimate{Places: []model.DedupPlace{{Server: "elm", Share: "store"}}}
	look := func() model.DedupLook {
		l, err := v.e.API.LookBeforeEstimate(v.Context(), asked)
		if err != nil || len(l.Places) != 1 {
			v.Fatalf("%+v, %v", l, err)
		}
		return l
	}
	if l := look(); l.Places[0].Storage != "" {
		v.Errorf("nobody has told of %+v", l.Places[0])
	}
	standintest.MountDevices(v.T, v.e.Elm, map[byte][]byte{'C': standintest.InRegistry(`_??_USBSTOR#Disk&Ven_Larkfield&Prod_Stick`)})
	if l := look(); l.Places[0].Storage != "removable" || !slices.ContainsFunc(l.Warnings, func(w finding.Finding) bool {
		return w.Severity == "fail" && strings.Contains(w.Found, "elm/store lies on storage that can be taken out")
	}) {
		v.Errorf("a stick: %+v", l)
	}
	standintest.MountDevices(v.T, v.e.Elm, map[byte][]byte{'C': append([]byte("DMIO:ID:"), make([]byte, 16)...)})
	if l := look(); l.Places[0].Storage != "fixed" {
		v.Errorf("a disk: %+v", l)
	}
}

// linksAndHoles estimates what a server keeps under two names, and what it keeps no
// space for.
func (v *estimating) linksAndHoles() {
	v.Helper()
	const size, written = 2 << 30, 1 << 20 // with more chunks than are kept in one part
	v.put("store", "links/scan.tif", randomBytes(7, written), 20)
	v.put("store", "links/image.raw", randomBytes(8, written), 20)
	at := func(name string) string { return filepath.Join(v.e.Oak.SharePath("store"), "links", name) }
	if err := errors.Join(os.Link(at("scan.tif"), at("scan again.tif")), os.Truncate(at("image.raw"), size)); err != nil {
		v.Fatal(err)
	}
	e := v.estimate(model.NewEstimate{Name: "links", Profile: "disk-images", Places: []model.DedupPlace{{Server: "oak", Share: "store", Sub: "links"}}})
	t := &e.Found.Totals
	const block = 4 << 10 // in which the server may keep the permissions of a file
	if t.Chunks != (size+written)/(32<<10) {
		v.Errorf("%d chunks", t.Chunks)
	}
	if t.Files != 3 || t.Bytes != size+2*written || t.InPolicy.Files != 2 || t.Holes < size-written-block || t.Holes > size-written || t.InPolicy.Bytes != size+written-t.Holes {
		v.Errorf("links and holes: %+v", t)
	}
	if !slices.Contains(t.Left, dedup.Left{Why: "another name of a file that is counted", Files: 1, Bytes: written}) || t.Saving.Bytes > 0 || e.Found.WholeFiles != 0 {
		v.Errorf("links and holes save something: %+v", t)
	}
	if t.Allocated < 2*written || t.Allocated > 2*written+written/4 {
		v.Errorf("they occupy %d bytes", t.Allocated)
	}
	if err := v.e.API.ForgetEstimatedVolume(v.Context(), "links"); err != nil {
		v.Error(err)
	}
}

func sameDisk(t *testing.T, names ...string) bool {
	t.Helper()
	disks := map[uint64]bool{}
	for _, name := range names {
		var st unix.Stat_t
		if err := unix.Stat(name, &st); err != nil {
			t.Fatal(err)
		}
		disks[st.Dev] = true
	}
	return len(disks) == 1
}
