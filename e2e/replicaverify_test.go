package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/core/verify"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

// verifying is a paused replica set whose replicas are verified.
type verifying struct {
	*gardenSet
}

func (v *verifying) verify(level string) model.ReplicaVerification {
	v.Helper()
	return verified(v.T, v.e.API, "beds", level, time.Minute)
}

// verified verifies a set.
func verified(t *testing.T, api *client.Client, set, level string, most time.Duration) model.ReplicaVerification {
	t.Helper()
	found, err := api.VerifyReplicaSet(t.Context(), set, model.VerifySet{Level: level})
	for deadline := time.Now().Add(most); err == nil && !found.Run.State.Ended() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		found, err = api.ReplicaVerification(t.Context(), found.Run.ID)
	}
	if err != nil || found.Run.State != model.RunDone {
		t.Fatalf("verification %s: %+v, %v", level, found, err)
	}
	return found
}

// found are the kinds and paths of what a verification found.
func (v *verifying) found(run int64) (list []string) {
	v.Helper()
	page, err := v.e.API.VerifyFindings(v.Context(), run, "", "", "", "", 100)
	if err != nil {
		v.Fatal(err)
	}
	for _, f := range page.Items {
		list = append(list, fmt.Sprintf("%s %s", f.Kind, f.Path))
	}
	slices.Sort(list)
	return list
}

// TestReplicaVerification finds exactly the differences that are planted, at
// each level, and opens a location that was held until a verification.
func TestReplicaVerification(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	v := &verifying{&gardenSet{T: t, e: e, trees: map[string]tree.Tree{"oak": harness.Tree(t, e.Oak, "store"), "elm": harness.Tree(t, e.Elm, "quiet")}}}
	for _, name := range []string{"bytes.txt", "rights.txt", "gone.txt", "locked.txt", "same.txt"} {
		v.write("oak", name, "planted in "+name)
	}
	if _, err := api.CreateReplicaSet(ctx, model.NewReplicaSet{Name: "beds", Replicas: []model.NewReplica{{Server: "oak", Share: "store"}, {Server: "elm", Share: "quiet"}}}, nil); err != nil {
		t.Fatal(err)
	}
	v.await("the first fill", steady)
	entry, err := api.AddEntry(ctx, "garden", model.NewEntry{Path: "beds", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "oak", Share: "store"}, {Server: "elm", Share: "quiet"}}})
	if err != nil || entry.Locations[1].State != namespace.Held {
		t.Fatalf("%+v, %v", entry, err)
	}
	paused := true
	if _, err := api.EditReplicaSet(ctx, "beds", model.EditReplicaSet{Paused: &paused}); err != nil {
		t.Fatal(err)
	}
	v.await("a pause", func(s model.ReplicaSet) bool { return s.State == model.SetPaused })
	clean := v.verify("full")
	if list := v.found(clean.Run.ID); len(list) != 0 || !strings.HasPrefix(clean.Verdict, "All replicas hold") || clean.Replicas[0].Read == 0 || !slices.Equal(clean.Replicas[0].Opened, []string{"/garden/beds"}) {
		set, err := api.ReplicaSet(ctx, "beds")
		t.Fatalf("before anything was planted: %v, %+v; the set: %+v, %v", list, clean, set, err)
	}
	if entry, err = api.EntryAt(ctx, "garden", "beds"); err != nil || entry.Locations[1].State != namespace.Open {
		t.Errorf("the held location is %+v, %v", entry.Locations, err)
	}
	v.manifest(clean.Run.ID)
	v.plant()
	names := []string{"attributes locked.txt", "extra stray.txt", "missing gone.txt", "permissions rights.txt"}
	if list := v.found(v.verify("names").Run.ID); !slices.Equal(list, names) {
		t.Errorf("by names: %v", list)
	}
	full := v.verify("full")
	if list := v.found(full.Run.ID); !slices.Equal(list, slices.Concat(names[:1], []string{"content bytes.txt"}, names[1:])) {
		t.Errorf("by every byte: %v", list)
	}
	if c := full.Replicas[0].Counts; c.Unexplained() != 5 || c.Contents != 1 || !strings.HasPrefix(full.Verdict, "Not all replicas hold") {
		t.Errorf("counts %+v: %s", c, full.Verdict)
	}
	page, err := api.VerifyFindings(ctx, full.Run.ID, "elm", string(verify.Permissions), "", "", 10)
	if err != nil || len(page.Items) != 1 || !strings.Contains(page.Items[0].Second, ": read") {
		t.Errorf("permissions are told as %+v, %v", page, err)
	}
	if s := v.verify("sample"); s.Replicas[0].Sampled == 0 || s.Replicas[0].Counts.Contents != 1 || !strings.Contains(s.Verdict, "With a confidence of 95%") {
		t.Errorf("a sample: %+v", s)
	}
	var report bytes.Buffer
	if err := api.VerifyReport(ctx, full.Run.ID, &report); err != nil || !strings.Contains(report.String(), "bytes.txt") || strings.Contains(report.String(), "src=") {
		t.Errorf("the report: %.300s, %v", report.String(), err)
	}
	set, err := api.ReplicaSet(ctx, "beds")
	if err != nil || set.Verified == nil || set.Verified.Level != "sample" || set.Verified.Differences != 5 {
		t.Errorf("the set tells %+v, %v", set.Verified, err)
	}
	if list, err := api.ReplicaVerifications(ctx, "beds"); err != nil || len(list) != 4 || list[0].Level != "sample" {
		t.Errorf("the history has %d, %v", len(list), err)
	}
	refused(t, "a manifest of names alone", api.VerifyManifest(ctx, clean.Run.ID+1, &report), http.StatusConflict, "")
	v.again()
	v.whilePeopleWork()
	v.withinCalendar()
}

// whilePeopleWork verifies while files are changed at both ends: what is on its
// way, or was changed between two lists, is no difference that needs somebody.
func (v *verifying) whilePeopleWork() {
	v.Helper()
	paused := false
	if _, err := v.e.API.EditReplicaSet(v.Context(), "beds", model.EditReplicaSet{Paused: &paused}); err != nil {
		v.Fatal(err)
	}
	v.look()
	v.await("the end of the pause", func(s model.ReplicaSet) bool { return steady(s) && v.text("oak", "stray.txt") != "" })
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
				name, at := fmt.Sprintf("busy %d.txt", i%7), []string{"oak", "elm"}[i%2]
				_, _ = v.trees[at].Put(v.Context(), name, strings.NewReader(strings.Repeat("busy ", i)), tree.PutOptions{Replace: true})
			}
		}
	}()
	for _, level := range []string{"names", "full"} {
		if f := v.verify(level); f.Replicas[0].Counts.Unexplained() != 0 {
			v.Errorf("%s while people work: %s, %+v", level, f.Verdict, f.Replicas)
		}
	}
	close(stop)
	<-stopped
}

// withinCalendar reads nothing while lanes are closed, says so, and goes on when
// they are opened.
func (v *verifying) withinCalendar() {
	v.Helper()
	api, ctx := v.e.API, v.Context()
	calendar := func(text string) {
		v.Helper()
		if _, err := api.EditReplicaSet(ctx, "beds", model.EditReplicaSet{Calendar: &text}); err != nil {
			v.Fatal(err)
		}
	}
	calendar("off")
	f, err := api.VerifyReplicaSet(ctx, "beds", model.VerifySet{Level: "full", WithinCalendar: true})
	for deadline := time.Now().Add(20 * time.Second); err == nil && f.Run.Waits == "" && time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		f, err = api.ReplicaVerification(ctx, f.Run.ID)
	}
	if err != nil || !strings.Contains(f.Run.Waits, "its calendar never opens it") || f.Run.State != model.RunRunning {
		v.Fatalf("while lanes are closed: %+v, %v", f, err)
	}
	calendar("full")
	for deadline := time.Now().Add(20 * time.Second); err == nil && !f.Run.State.Ended() && time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		f, err = api.ReplicaVerification(ctx, f.Run.ID)
	}
	if err != nil || f.Run.State != model.RunDone || f.Run.Waits != "" || f.Replicas[0].Read == 0 {
		v.Errorf("when they were opened: %+v, %v", f, err)
	}
}

// manifest has the checksums checked by the program that they are for.
func (v *verifying) manifest(run int64) {
	v.Helper()
	var manifest bytes.Buffer
	if err := v.e.API.VerifyManifest(v.Context(), run, &manifest); err != nil {
		v.Fatal(err)
	}
	name := filepath.Join(v.TempDir(), "manifest")
	if err := os.WriteFile(name, manifest.Bytes(), 0o600); err != nil {
		v.Fatal(err)
	}
	c := exec.Command("sha256sum", "-c", "--quiet", "--strict", name)
	c.Dir = v.e.Elm.SharePath("quiet")
	if out, err := c.CombinedOutput(); err != nil {
		v.Errorf("sha256sum at the other replica: %v\n%s%s", err, out, manifest.String())
	}
}

// plant makes one difference of each kind at elm.
func (v *verifying) plant() {
	v.Helper()
	ctx, elm := v.Context(), v.trees["elm"]
	was, err := elm.Stat(ctx, "bytes.txt")
	if err == nil {
		v.write("elm", "bytes.txt", "PLANTED in bytes.txt")
		err = elm.Apply(ctx, "bytes.txt", tree.Meta{Modified: was.Modified})
	}
	if err != nil {
		v.Fatal(err)
	}
	d, err := elm.Descriptor(ctx, "rights.txt")
	if err == nil {
		parts := d.Parts()
		parts.DACL = fewRights(v.T)
		d, err = parts.Descriptor()
	}
	readOnly := tree.ReadOnly
	for _, change := range []func() error{
		func() error { return elm.Apply(ctx, "rights.txt", tree.Meta{Descriptor: d}) },
		func() error { return elm.Apply(ctx, "locked.txt", tree.Meta{Attributes: &readOnly}) },
		func() error { return elm.Remove(ctx, "gone.txt") },
	} {
		if err == nil {
			err = change()
		}
	}
	if err != nil {
		v.Fatal(err)
	}
	v.write("elm", "stray.txt", "nobody carried this")
}

// fewRights let administrators do everything, and others read.
func fewRights(t *testing.T) *acl.List {
	t.Helper()
	d, err := acl.Parse("O:BAG:BAD:P(A;;FA;;;BA)(A;;FR;;;AU)")
	if err != nil {
		t.Fatal(err)
	}
	return d.Parts().DACL
}

// again verifies by a job that is saved.
func (v *verifying) again() {
	v.Helper()
	api, ctx := v.e.API, v.Context()
	_, err := api.ScheduleVerification(ctx, "beds", model.ScheduleVerification{Rule: "sometimes"})
	refused(v.T, "a job that is never due", err, http.StatusUnprocessableEntity, "rule")
	job, err := api.ScheduleVerification(ctx, "beds", model.ScheduleVerification{Rule: "mon-fri 02:30"})
	if err != nil || !job.Enabled || job.Next.Before(time.Now()) || job.Rule != "mon,tue,wed,thu,fri 02:30" {
		v.Fatalf("%+v, %v", job, err)
	}
	run, err := api.RunJob(ctx, job.ID)
	if err != nil || run.Kind != "verify-set" || run.Subject != "beds" {
		v.Errorf("%+v, %v", run, err)
	}
	off := false
	if job, err = api.EditJob(ctx, job.ID, model.EditJob{Enabled: &off}); err != nil || job.Enabled {
		v.Errorf("%+v, %v", job, err)
	}
	if err := api.RemoveJob(ctx, job.ID); err != nil {
		v.Error(err)
	}
	if list, err := api.Jobs(ctx); err != nil || len(list) != 0 {
		v.Errorf("there are still %+v, %v", list, err)
	}
}
