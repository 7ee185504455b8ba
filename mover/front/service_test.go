package front_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	corefront "bridgespan/core/front"
	"bridgespan/mover/front"
)

// tools puts scripts in the place of the file service's own tools.
func tools(t *testing.T, scripts map[string]string) {
	t.Helper()
	dir := t.TempDir()
	for name, script := range scripts {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
}

// beside is a keeper beside a configuration that nothing runs with.
func beside(t *testing.T) (k *front.Keeper, include string) {
	t.Helper()
	configuration := filepath.Join(t.TempDir(), "smb.conf")
	include = filepath.Join(filepath.Dir(configuration), "bspan-fronts.conf")
	if err := os.WriteFile(configuration, []byte("[global]\ninclude = "+include+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	k, err := front.Open(filepath.Join(t.TempDir(), "fronts"), t.TempDir(), configuration)
	if err != nil {
		t.Fatal(err)
	}
	return k, include
}

// A front that the file service does not like to read is offered neither now nor with the next one.
func TestRefusedConfiguration(t *testing.T) {
	tools(t, map[string]string{
		"testparm":   `[ "$2" = -v ] || ! grep -q "comment = refuse me" "$(dirname "$2")/bspan-fronts.conf"`,
		"smbcontrol": `true`,
	})
	k, include := beside(t)
	if _, err := k.Offer(t.Context(), "one", "refuse me"); err == nil {
		t.Error("it is offered")
	}
	_, _ = k.Offer(t.Context(), "two", "") // nothing runs with it: it is not seen to be offered
	text, err := os.ReadFile(include)
	if err != nil || strings.Contains(string(text), "[one]") || !strings.Contains(string(text), "[two]") {
		t.Errorf("it says %q, %v", text, err)
	}
}

// What a tool says beyond its bound is an error: part of it would be taken for all.
func TestEndlessTool(t *testing.T) {
	tools(t, map[string]string{"testparm": `yes "[share]"`})
	k, _ := beside(t)
	if o, err := k.Offered(t.Context(), "trust"); err == nil {
		t.Errorf("it is taken: %d shares", len(o.Shares))
	}
}

// A file service that takes its time to be told of a share keeps nobody's links waiting.
func TestWriteBesideASlowFileService(t *testing.T) {
	k, include := beside(t)
	waits := filepath.Join(filepath.Dir(include), "waits")
	tools(t, map[string]string{"testparm": `: >` + waits + `; while [ -e ` + waits + ` ]; do sleep 0.01; done`, "smbcontrol": `true`})
	if err := k.Make(t.Context(), "trust"); err != nil {
		t.Fatal(err)
	}
	offered := make(chan error)
	go func() {
		_, err := k.Offer(t.Context(), "other", "")
		offered <- err
	}()
	for _, err := os.Stat(waits); err != nil; _, err = os.Stat(waits) {
		time.Sleep(time.Millisecond)
	}
	write(t, k, change{Entry: corefront.Entry{Path: "a", To: []string{`one\s`}}})
	select {
	case err := <-offered:
		t.Errorf("it did not wait: %v", err)
	default:
	}
	for done := false; !done; { // each time that it is asked it waits
		_ = os.Remove(waits)
		select {
		case <-offered:
			done = true
		case <-time.After(time.Millisecond):
		}
	}
}
