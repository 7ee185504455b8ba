package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"bridgespan/client"
	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// The service is killed while a file server makes a share. Another instance goes on with the
// change: it finds the share, or makes it when it is not there, and does nothing twice.
func TestShareChangeSurvivesKill(t *testing.T) {
	t.Setenv("BSPAND_TAKE_OVER", "2s")
	e := harness.StartEstate(t)
	script := filepath.Join(e.Oak.Dir, "share")
	works, err := os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	instead := func(text string) { // not in place: a shell may be reading it
		t.Helper()
		if err := errors.Join(os.WriteFile(script+".next", []byte(text), 0o755), os.Rename(script+".next", script)); err != nil {
			t.Fatal(err)
		}
	}
	asked, goOn := filepath.Join(t.TempDir(), "asked"), filepath.Join(t.TempDir(), "go")
	for _, pipe := range []string{asked, goOn} {
		if err := errors.Join(syscall.Mkfifo(pipe, 0o666), os.Chmod(pipe, 0o666)); err != nil {
			t.Fatal(err)
		}
	}
	working := e.Service
	for name, meanwhile := range map[string]string{
		"made":    string(works), // the server makes it after the service has ended
		"refused": "#!/bin/sh\nexit 1\n",
	} {
		if err := os.WriteFile(script+".meanwhile", []byte(meanwhile), 0o755); err != nil {
			t.Fatal(err)
		}
		instead(fmt.Sprintf("#!/bin/sh\necho asked >%s\nread answer <%s\nexec %s \"$@\"\n", asked, goOn, script+".meanwhile"))
		next := e.Another(t, "Upland")
		api := &client.Client{Base: working.Base, Token: e.API.Token}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			_, _ = api.CreateShare(context.WithoutCancel(t.Context()), "oak", model.NewShare{Name: name, Path: "store:" + name + "/in/here"}) // no answer comes
		}()
		if _, err := os.ReadFile(asked); err != nil { // until the server is about to make it
			t.Fatal(err)
		}
		working.Kill()
		<-ended
		instead(string(works))
		if err := os.WriteFile(goOn, []byte("on\n"), 0); err != nil {
			t.Fatal(err)
		}
		api.Base = next.Base
		var run model.Run
		await(t, "the change to come to its end", func() bool {
			runs, err := api.Runs(t.Context(), "share", 1)
			if err != nil || len(runs) == 0 {
				return false
			}
			run = runs[0]
			return run.State.Ended()
		})
		if run.State != model.RunDone || run.Subject != "oak/"+name {
			t.Errorf("%s: the run is %+v", name, run)
		}
		now, err := api.ShareNow(t.Context(), "oak", name)
		if err != nil || !strings.HasSuffix(now.Path, `\store\`+name+`\in\here`) {
			t.Errorf("%s: the share is %+v, %v", name, now, err)
		}
		changes, err := api.Changes(t.Context(), 50)
		kept := 0
		for _, c := range changes {
			if c.Action == "share.create" && c.Subject == "oak/"+name {
				kept++
			}
		}
		if kept != 1 {
			t.Errorf("%s: it is in the record of changes %d times, %v", name, kept, err)
		}
		working = next
	}
}
