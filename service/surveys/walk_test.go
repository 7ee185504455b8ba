package surveys

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/survey"
	"bridgespan/model"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

var at = time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)

// garden is a tree of folders and files with a few sets of permissions.
func garden(t *testing.T) *memory.Tree {
	t.Helper()
	m := new(memory.Tree)
	top := parse(t, "O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;WD)")
	if err := m.Apply(t.Context(), ".", tree.Meta{Descriptor: top}); err != nil {
		t.Fatal(err)
	}
	for f := range 30 {
		folder := fmt.Sprintf("bed %02d/row %d", f%6, f)
		if err := tree.MkdirAll(t.Context(), m, folder); err != nil {
			t.Fatal(err)
		}
		for i := range 7 {
			name := fmt.Sprintf("%s/plant %d.txt", folder, i)
			if _, err := m.Put(t.Context(), name, strings.NewReader(strings.Repeat("x", i*100)), tree.PutOptions{}); err != nil {
				t.Fatal(err)
			}
		}
	}
	// What is handed down, except where somebody cut it or forgot to pass it on.
	for e, err := range tree.Walk(t.Context(), m, ".", tree.Plain) {
		if err != nil {
			t.Fatal(err)
		}
		d := parse(t, "O:BAD:AI(A;ID;FA;;;BA)(A;ID;FR;;;WD)")
		if e.Kind == tree.Folder {
			d = parse(t, "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
		}
		switch {
		case e.Path == "bed 01/row 1/plant 3.txt":
			d = parse(t, "O:BAD:P(A;;FA;;;BA)")
		case e.Path == "bed 02/row 2/plant 3.txt":
			d = parse(t, "O:BAD:AI(A;ID;FA;;;BA)")
		}
		if err := m.Apply(t.Context(), e.Path, tree.Meta{Descriptor: d, Modified: at.AddDate(0, 0, -3)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := m.Apply(t.Context(), ".", tree.Meta{Descriptor: top}); err != nil {
		t.Fatal(err)
	}
	return m
}

func parse(t *testing.T, text string) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func surveyed(t *testing.T, m tree.Tree) (*Walker, survey.Figures) {
	t.Helper()
	w := NewWalker(m, ".", at)
	if err := errors.Join(w.Begin(t.Context()), w.Walk(t.Context())); err != nil {
		t.Fatal(err)
	}
	return w, w.Figures()
}

func TestWalk(t *testing.T) {
	w, f := surveyed(t, garden(t))
	if f.Files != 210 || f.Folders != 36 || f.Bytes != 30*2100 || f.Deepest != 3 || f.Unreadable+f.Unseen != 0 {
		t.Errorf("%+v", f)
	}
	if done, bytes, fraction := w.Progress(); done != 246 || bytes != f.Bytes || fraction < 0.999 || fraction > 1.001 {
		t.Errorf("progress %d, %d, %v", done, bytes, fraction)
	}
	if w.Distinct() != 5 {
		t.Errorf("%d kinds of permissions", w.Distinct())
	}
	var stale, total int64
	for _, d := range w.descriptors() {
		stale, total = stale+d.stale, total+d.count()
		if d.stale > 0 && d.staleSample != "bed 02/row 2/plant 3.txt" {
			t.Errorf("stale: %s", d.staleSample)
		}
	}
	if stale != 1 || total != 247 {
		t.Errorf("%d are stale, %d have permissions", stale, total)
	}
}

// A survey that is interrupted anywhere, kept as JSON and gone on with counts
// everything once.
func TestInterruptedAnywhere(t *testing.T) {
	m := garden(t)
	_, whole := surveyed(t, m)
	for after := range int64(37) {
		var listed atomic.Int64
		m.Fault = func(step, _ string) error {
			if step == "list" && listed.Add(1) > after {
				return tree.ErrUnreachable
			}
			return nil
		}
		w := NewWalker(m, ".", at)
		err := w.Begin(t.Context())
		if err == nil {
			err = w.Walk(t.Context())
		}
		if after < 36 && !errors.Is(err, tree.ErrUnreachable) {
			t.Fatalf("after %d folders: %v", after, err)
		}
		m.Fault = nil
		text, err := json.Marshal(w.Kept())
		if err != nil {
			t.Fatal(err)
		}
		var kept Kept
		if err := json.Unmarshal(text, &kept); err != nil {
			t.Fatal(err)
		}
		again := NewWalker(m, ".", at)
		again.Resume(kept)
		if err := again.Walk(t.Context()); err != nil {
			t.Fatal(err)
		}
		if got := again.Figures(); !reflect.DeepEqual(got, whole) || again.Distinct() != 5 {
			t.Errorf("interrupted after %d folders: %d files, %d bytes, %d kinds; want %d, %d", after, got.Files, got.Bytes, again.Distinct(), whole.Files, whole.Bytes)
		}
	}
}

func TestWalkStopsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	m := garden(t)
	w := NewWalker(m, ".", at)
	if err := w.Begin(ctx); err != nil {
		t.Fatal(err)
	}
	m.Fault = func(step, _ string) error {
		cancel()
		return nil
	}
	if err := w.Walk(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("%v, want the end of the context", err)
	}
}

// What cannot be read is counted and named, and the rest is surveyed.
func TestUnreadable(t *testing.T) {
	m := garden(t)
	m.Fault = func(step, name string) error {
		if step == "list" && name == "bed 03/row 3" {
			return errors.New("access denied")
		}
		return nil
	}
	if _, f := surveyed(t, m); f.Unreadable != 1 || f.Files != 203 || len(f.Trouble) != 1 || !strings.Contains(f.Trouble[0], "bed 03/row 3") {
		t.Errorf("%d unreadable, %d files, %q", f.Unreadable, f.Files, f.Trouble)
	}
}

// One file of each set of permissions is read, and all of that set count as it does. It is known after an interruption, too.
func TestKeptOut(t *testing.T) {
	m := garden(t)
	w, f := surveyed(t, m)
	var opened atomic.Int64
	m.Fault = func(step, name string) error {
		if step != "open" {
			return nil
		}
		opened.Add(1)
		if strings.HasSuffix(name, "1/plant 3.txt") {
			return fs.ErrPermission
		}
		return nil
	}
	k, err := w.KeptOut(t.Context())
	if err != nil || k.Files != 1 || k.Tried != 3 || opened.Load() != 3 || len(k.Samples) != 1 || k.Samples[0] != "bed 01/row 1/plant 3.txt" {
		t.Errorf("%+v, %d opened, %v", k, opened.Load(), err)
	}
	if found, ok := judgeKeptOut("warden", k, f); !ok || found.Count != 1 || found.Subject != "warden" {
		t.Errorf("found %+v", found)
	}
	again := NewWalker(m, ".", at)
	again.Resume(w.Kept())
	m.Fault = func(step, name string) error {
		if step == "open" && name != "bed 01/row 1/plant 3.txt" {
			return fs.ErrPermission
		}
		return nil
	}
	if k, err := again.KeptOut(t.Context()); err != nil || k.Files != 209 {
		t.Errorf("all but one: %+v, %v", k, err)
	}
	m.Fault = func(string, string) error { return tree.ErrUnreachable }
	if _, err := again.KeptOut(t.Context()); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("a server that is away: %v", err)
	}
	if _, ok := judgeKeptOut("warden", model.KeptOut{Tried: 3}, f); ok {
		t.Error("nothing is kept out, and something was found")
	}
}
