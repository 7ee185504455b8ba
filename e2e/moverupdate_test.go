package e2e

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// TestMoverUpdates updates a mover that runs another build than the service.
func TestMoverUpdates(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	program := otherBuild(t)
	old := harness.StartMoverOf(t, program)
	current := harness.StartMover(t)
	for name, m := range map[string]*harness.Mover{"reed": old, "sedge": current} {
		if _, err := api.AddServer(ctx, m.NewServer(name, "Upland")); err != nil {
			t.Fatal(err)
		}
	}
	states := func() (reed, sedge model.Mover) {
		t.Helper()
		list, err := api.Movers(ctx)
		if err != nil || len(list) != 2 {
			t.Fatalf("%+v, %v", list, err)
		}
		return list[0], list[1]
	}
	if reed, sedge := states(); reed.State != model.MoverOutdated || reed.Unable || reed.Problem != "" || sedge.State != model.MoverCurrent || sedge.Problem != "" {
		t.Fatalf("before: %+v, %+v", reed, sedge)
	}
	if _, err := api.UpdateMovers(ctx, model.UpdateMovers{Servers: []string{"oak"}}); err == nil || !strings.Contains(err.Error(), "no mover") {
		t.Errorf("a file server was updated: %v", err)
	}

	u := updated(t, e, model.UpdateMovers{})
	if len(u.Movers) != 1 || u.Movers[0].Server != "reed" || u.Movers[0].State != model.UpdateDone || u.Run.State != model.RunDone {
		t.Fatalf("the update: %+v\n%s", u, old.Log(t))
	}
	if reed, _ := states(); reed.State != model.MoverCurrent || reed.Problem != "" {
		t.Errorf("after: %+v", reed)
	}
	if !sameFiles(t, program, harness.Program(t, "bspand")) {
		t.Error("the program of the service is not in place")
	}
	if _, err := os.Stat(program + ".previous"); err != nil {
		t.Error(err)
	}

	u = updated(t, e, model.UpdateMovers{Servers: []string{"reed", "sedge"}})
	if len(u.Movers) != 2 || u.Movers[0].State != model.UpdateNeedless || u.Movers[1].State != model.UpdateNeedless {
		t.Errorf("again: %+v", u)
	}

	job, err := api.ScheduleMoverUpdates(ctx, model.ScheduleMoverUpdates{Rule: "sun 02:30", UpdateMovers: model.UpdateMovers{ForMin: 120}})
	if err != nil || job.Rule != "sun 02:30" || job.Next.Local().Weekday() != time.Sunday || !strings.Contains(job.Settings, `"forMin":120`) {
		t.Errorf("%+v, %v", job, err)
	}
	if _, err := api.ScheduleMoverUpdates(ctx, model.ScheduleMoverUpdates{Rule: "sometimes"}); err == nil {
		t.Error("a window that is none was saved")
	}
	unable(t, e)
}

// unable: a mover whose program lies in a folder that cannot be written says so, and is left alone.
func unable(t *testing.T, e *harness.Estate) {
	t.Helper()
	stuck := harness.StartMoverOf(t, otherBuild(t))
	if _, err := e.API.AddServer(t.Context(), stuck.NewServer("rush", "Upland")); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Dir(stuck.Program)); err != nil {
		t.Fatal(err)
	}
	u := updated(t, e, model.UpdateMovers{Servers: []string{"rush"}})
	if len(u.Movers) != 1 || u.Movers[0].State != model.UpdateFailed || !strings.Contains(u.Movers[0].Problem, "cannot be written") || u.Run.State != model.RunFailed {
		t.Errorf("%+v", u)
	}
	if u = updated(t, e, model.UpdateMovers{}); len(u.Movers) != 0 {
		t.Errorf("it is tried again and again: %+v", u)
	}
}

// updated updates movers, and waits until that has ended.
func updated(t *testing.T, e *harness.Estate, asked model.UpdateMovers) model.MoverUpdates {
	t.Helper()
	u, err := e.API.UpdateMovers(t.Context(), asked)
	if err != nil {
		t.Fatal(err)
	}
	return updatesEnded(t, e, u)
}

// updatesEnded waits until a run that updates movers has ended.
func updatesEnded(t *testing.T, e *harness.Estate, u model.MoverUpdates) model.MoverUpdates {
	t.Helper()
	var err error
	await(t, "the update to end", func() bool {
		u, err = e.API.MoverUpdates(t.Context(), u.Run.ID)
		return err != nil || u.Run.State.Ended()
	})
	if err != nil {
		t.Fatal(err)
	}
	return u
}

// otherBuild is a copy of the service's program that is not the same: a few bytes follow it, which nobody reads.
func otherBuild(t *testing.T) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "bspand")
	from, err := os.Open(harness.Program(t, "bspand"))
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	to, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE, 0o755)
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	if _, err := io.Copy(to, io.MultiReader(from, strings.NewReader("another build"))); err != nil {
		t.Fatal(err)
	}
	return name
}

func sameFiles(t *testing.T, a, b string) bool {
	t.Helper()
	var texts [2][]byte
	for i, name := range []string{a, b} {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		texts[i] = text
	}
	return string(texts[0]) == string(texts[1])
}
