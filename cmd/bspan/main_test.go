package main

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/client"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

func TestExitCodes(t *testing.T) {
	refusal := func(status int) error { return &client.Error{Problem: model.Problem{Status: status}} }
	for _, test := range []struct {
		err  error
		code int
	}{
		{usageError{"x"}, 2}, {fault.Field("path", "", "x"), 2}, {refusal(http.StatusUnprocessableEntity), 2},
		{errNoSignIn, 3}, {fmt.Errorf("%w (elsewhere)", errNoSignIn), 3}, {refusal(http.StatusUnauthorized), 3},
		{refusal(http.StatusForbidden), 4},
		{refusal(http.StatusNotFound), 1}, {refusal(http.StatusConflict), 1}, {refusal(http.StatusServiceUnavailable), 1},
		{client.ErrNoAnswer, 1}, {errors.New("x"), 1},
	} {
		if got := exitCode(test.err); got != test.code {
			t.Errorf("exit code of %v is %d, want %d", test.err, got, test.code)
		}
	}
}

func TestTables(t *testing.T) {
	location := func(server string, state namespace.State, why string) namespace.Location {
		return namespace.Location{Server: server, Share: "s", Site: "Site", State: state, Why: why, Rank: namespace.Normal}
	}
	entry := namespace.Entry{Path: "a/b", Kind: namespace.Signpost, Locations: []namespace.Location{location("one", namespace.Open, ""), location("two", namespace.Held, "not verified yet")}}
	var people, programs table
	for _, e := range []namespace.Entry{{Path: "a", Kind: namespace.Folder}, entry} {
		addEntryRows(&people, "n", e, true)
		addEntryRows(&programs, "n", e, false)
	}
	if got := fmt.Sprint(people.rows); got != "[[a/    ] [  b one/s Site open normal] [ two/s Site held: not verified yet normal]]" {
		t.Errorf("rows for people: %s", got)
	}
	for _, row := range programs.rows[1:] {
		if row[0] != "/n/a/b" {
			t.Errorf("a row for programs lacks its path: %q", row)
		}
	}

	d := model.Directions{Path: "/n/a/b/c", Kind: "signpost", Signpost: "/n/a/b", Rest: "c", TTL: 300, Directions: namespace.Order(entry.Locations, namespace.Traveller{}, nil)}
	var out bytes.Buffer
	shown := directionsTable(d)
	if err := shown.write(&out); err != nil || !strings.Contains(out.String(), "1  one/s/c") || !strings.Contains(out.String(), "-  two/s/c") {
		t.Errorf("directions: %s, %v", out.String(), err)
	}
	d.Directions = d.Directions[1:]
	if text := directionsTable(d).after; !strings.Contains(text, "leads nowhere now") {
		t.Errorf("directions to nowhere: %s", text)
	}
	out.Reset()
	if err := (&table{empty: "Nothing here."}).write(&out); err != nil || out.String() != "Nothing here.\n" {
		t.Errorf("an empty table: %q, %v", out.String(), err)
	}
}

// A sign-in is kept for its owner alone, and its token goes to no other service.
func TestSignInFile(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	if _, err := readSignIn(); !errors.Is(err, errNoSignIn) {
		t.Errorf("before signing in: %v", err)
	}
	want := signIn{Server: "http://127.0.0.1:1", Token: "secret"}
	if err := want.write(); err != nil {
		t.Fatal(err)
	}
	if got, err := readSignIn(); err != nil || got != want {
		t.Errorf("read %+v, %v", got, err)
	}
	for args, code := range map[string]int{
		"bspan --server http://127.0.0.2:1 whoami": 3, // another service
		"bspan whoami": 1, // nobody answers there
	} {
		if got := run(t.Context(), strings.Fields(args)); got != code {
			t.Errorf("%s: exit %d, want %d", args, got, code)
		}
	}
}

func TestPasswordFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "password")
	for content, want := range map[string]string{"one\n": "one", "two": "two", "three\r\nrest\n": "three", "": ""} {
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := firstLine(f); err != nil || got != want {
			t.Errorf("%q gives %q, %v", content, got, err)
		}
		f.Close()
	}
}

// Every command has a sentence of help.
func TestEveryCommandHasHelp(t *testing.T) {
	app := newApp()
	seen := 0
	for _, c := range app.Commands {
		for _, sub := range append(c.Commands, c) {
			seen++
			if sub.Usage == "" {
				t.Errorf("%s %s has no help", c.Name, sub.Name)
			}
		}
	}
	if seen < 30 {
		t.Errorf("only %d commands were looked at", seen)
	}
}
