package front_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	corefront "bridgespan/core/front"
	"bridgespan/mover/front"
)

type change = corefront.Change

type entry = corefront.Entry

func gone(path string) change { return change{Entry: entry{Path: path}, Gone: true} }

// keeper is a keeper without a file service, with a front "trust" that is made.
func keeper(t *testing.T) (*front.Keeper, string) {
	t.Helper()
	k := &front.Keeper{Folder: t.TempDir(), State: filepath.Join(t.TempDir(), "state")}
	if err := k.Make(t.Context(), "trust"); err != nil {
		t.Fatal(err)
	}
	return k, k.Path("trust")
}

func write(t *testing.T, k *front.Keeper, changes ...change) []front.Outcome {
	t.Helper()
	failed, err := k.Write(t.Context(), "trust", changes)
	if err != nil {
		t.Fatal(err)
	}
	return failed
}

func holds(t *testing.T, k *front.Keeper) string {
	t.Helper()
	found, err := k.Look(t.Context(), "trust")
	if err != nil {
		t.Fatal(err)
	}
	slices.SortFunc(found.Entries, func(a, b entry) int { return strings.Compare(a.Path, b.Path) })
	return fmt.Sprint(found.Entries, found.Foreign)
}

func TestWriteAndLook(t *testing.T) {
	k, _ := keeper(t)
	if failed := write(t, k, change{Entry: entry{Path: "f"}}, change{Entry: entry{Path: "f/a", To: []string{`one\s`, `two\s\x`}}}, change{Entry: entry{Path: "b", To: []string{`one\s`}}}); len(failed) > 0 {
		t.Errorf("failed %v", failed)
	}
	if got := holds(t, k); got != `[{b [one\s]} {f []} {f/a [one\s two\s\x]}] []` {
		t.Errorf("it holds %s", got)
	}
	write(t, k, change{Entry: entry{Path: "b", To: []string{`two\s`}}}, gone("f/a"), gone("f"), gone("never"))
	again := &front.Keeper{Folder: k.Folder, State: k.State} // as after a start
	if got := holds(t, again); got != `[{b [two\s]}] []` {
		t.Errorf("after a start it holds %s", got)
	}
}

// What was not made by the keeper is never touched: not replaced, not removed, not walked through.
func TestForeignIsLeftAlone(t *testing.T) {
	k, folder := keeper(t)
	outside := t.TempDir()
	for _, err := range []error{
		os.WriteFile(filepath.Join(folder, "file"), []byte("mine"), 0o644), os.Mkdir(filepath.Join(folder, "folder"), 0o755),
		os.Symlink("msdfs:other\\share", filepath.Join(folder, "link")), os.Symlink(outside, filepath.Join(folder, "out")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	want := `[] [file folder link out]` // in their order
	if got := holds(t, k); got != want {
		t.Errorf("it holds %s", got)
	}
	var changes []change
	for _, name := range []string{"file", "folder", "link", "out"} {
		changes = append(changes, change{Entry: entry{Path: name, To: []string{`one\s`}}}, gone(name), change{Entry: entry{Path: name}})
	}
	changes = append(changes, change{Entry: entry{Path: "out/a", To: []string{`one\s`}}}, change{Entry: entry{Path: "folder/a", To: []string{`one\s`}}})
	failed := write(t, k, changes...)
	// Into a folder that is not ours a link of ours may go; out of the front nothing may.
	if len(failed) != len(changes)-1 || holds(t, k) != want {
		t.Errorf("failed %v; it holds %s", failed, holds(t, k))
	}
	if list, err := os.ReadDir(outside); err != nil || len(list) > 0 {
		t.Errorf("outside are %v, %v", list, err)
	}
	write(t, k, change{Entry: entry{Path: "ours", To: []string{`one\s`}}})
	if _, err := k.Clear(t.Context(), "trust"); err != nil {
		t.Fatal(err)
	}
	left, err := os.ReadDir(folder)
	if err != nil || len(left) != 4 {
		t.Errorf("left are %v, %v", left, err)
	}
	if err := k.Make(t.Context(), "trust"); !errors.Is(err, fs.ErrExist) {
		t.Errorf("over what is somebody's: %v", err)
	}
}

// A writing that was broken off leaves each entry as it was or as it is to be, and what is beside
// goes with the next look.
func TestBrokenOff(t *testing.T) {
	k, folder := keeper(t)
	write(t, k, change{Entry: entry{Path: "a", To: []string{`one\s`}}})
	if err := os.Symlink("msdfs:two\\s", filepath.Join(folder, ".bspan-front-0")); err != nil {
		t.Fatal(err)
	}
	notes, err := filepath.Glob(filepath.Join(k.State, "*.front"))
	if err != nil || len(notes) != 1 {
		t.Fatal(notes, err)
	}
	f, err := os.OpenFile(notes[0], os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteString("{\"path\":\"noted, never made\"}\n{\"path\":\"torn"); err != nil {
		t.Fatal(err)
	}
	f.Close()
	again := &front.Keeper{Folder: k.Folder, State: k.State}
	if got := holds(t, again); got != `[{a [one\s]}] []` {
		t.Errorf("it holds %s", got)
	}
	if _, err := os.Lstat(filepath.Join(folder, ".bspan-front-0")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what was beside: %v", err)
	}
	write(t, again, change{Entry: entry{Path: "b", To: []string{`one\s`}}})
	if got := holds(t, &front.Keeper{Folder: k.Folder, State: k.State}); got != `[{a [one\s]} {b [one\s]}] []` {
		t.Errorf("after a torn line it holds %s", got)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := again.Write(ended, "trust", []change{{Entry: entry{Path: "c", To: []string{`one\s`}}}}); !errors.Is(err, context.Canceled) {
		t.Errorf("with a context that has ended: %v", err)
	}
}

// breaksOff is a context that ends after it was asked for its end some times.
type breaksOff struct {
	context.Context
	left int
}

func (b *breaksOff) Err() error {
	if b.left--; b.left < 0 {
		return context.Canceled
	}
	return nil
}

// What was removed before a writing ends is not ours any more: somebody may make something there.
func TestBrokenOffKnowsWhatIsGone(t *testing.T) {
	k, folder := keeper(t)
	write(t, k, change{Entry: entry{Path: "a", To: []string{`one\s`}}}, change{Entry: entry{Path: "b", To: []string{`one\s`}}})
	if _, err := k.Write(&breaksOff{t.Context(), 1}, "trust", []change{gone("a"), gone("b")}); !errors.Is(err, context.Canceled) {
		t.Fatalf("broken off: %v", err)
	}
	if err := os.Symlink(`msdfs:mine\s`, filepath.Join(folder, "a")); err != nil {
		t.Fatal(err)
	}
	again := &front.Keeper{Folder: k.Folder, State: k.State}
	if got := holds(t, again); got != `[{b [one\s]}] [a]` {
		t.Errorf("it holds %s", got)
	}
}

// What somebody put into a folder of ours stays, and the folders around it with it: all else goes.
func TestClearLeavesFoldersAroundForeign(t *testing.T) {
	k, folder := keeper(t)
	one := []string{`one\s`}
	write(t, k, change{Entry: entry{Path: "f"}}, change{Entry: entry{Path: "f/g"}}, change{Entry: entry{Path: "f/g/a", To: one}}, change{Entry: entry{Path: "h"}}, change{Entry: entry{Path: "h/b", To: one}})
	if err := os.WriteFile(filepath.Join(folder, "f/g/mine"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if failed, err := k.Clear(t.Context(), "trust"); err != nil || len(failed) > 0 {
		t.Fatalf("%v, %v", failed, err)
	}
	var left []string
	_ = filepath.WalkDir(folder, func(path string, _ fs.DirEntry, _ error) error {
		left = append(left, strings.TrimPrefix(strings.TrimPrefix(path, folder), "/"))
		return nil
	})
	if !slices.Equal(left, []string{"", "f", "f/g", "f/g/mine"}) || holds(t, k) != `[] [f]` {
		t.Errorf("left are %q; it holds %s", left, holds(t, k))
	}
}

// A front whose folder somebody removed is forgotten like another: what stands there later is not ours.
func TestClearOfARemovedFolder(t *testing.T) {
	k, folder := keeper(t)
	write(t, k, change{Entry: entry{Path: "a", To: []string{`one\s`}}})
	if err := os.RemoveAll(folder); err != nil {
		t.Fatal(err)
	}
	if failed, err := k.Clear(t.Context(), "trust"); err != nil || len(failed) > 0 {
		t.Fatalf("%v, %v", failed, err)
	}
	for _, err := range []error{os.Mkdir(folder, 0o755), os.Symlink(`msdfs:mine\s`, filepath.Join(folder, "a"))} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if got := holds(t, k); got != `[] [a]` {
		t.Errorf("it holds %s", got)
	}
}

// Many changes over time leave notes that are about as long as what is there.
func TestNotesStayShort(t *testing.T) {
	k, _ := keeper(t)
	for range 30 {
		var there, then []change
		for i := range 100 {
			there = append(there, change{Entry: entry{Path: fmt.Sprint("n", i), To: []string{`one\s`}}})
			then = append(then, gone(fmt.Sprint("n", i)))
		}
		write(t, k, there...)
		write(t, k, then...)
	}
	notes, err := filepath.Glob(filepath.Join(k.State, "*.front"))
	if err != nil || len(notes) != 1 {
		t.Fatal(notes, err)
	}
	if d, err := os.Stat(notes[0]); err != nil || d.Size() > 40_000 {
		t.Errorf("the notes of nothing are %d bytes, %v", d.Size(), err)
	}
}

func TestCheckChanges(t *testing.T) {
	long := make([]string, corefront.MostPlaces)
	for i := range long {
		long[i] = `server\` + strings.Repeat("x", 1000)
	}
	for name, c := range map[string]change{
		"no path":           {Entry: entry{Path: ""}},
		"out":               {Entry: entry{Path: "../a"}},
		"a root":            {Entry: entry{Path: "/a"}},
		"a comma":           {Entry: entry{Path: "a", To: []string{`one\a,b`}}},
		"no share":          {Entry: entry{Path: "a", To: []string{`one`}}},
		"a line":            {Entry: entry{Path: "a", To: []string{"one\\a\nb"}}},
		"too many":          {Entry: entry{Path: "a", To: slices.Repeat([]string{`one\s`}, corefront.MostPlaces+1)}},
		"longer than links": {Entry: entry{Path: "a", To: long}},
	} {
		if err := front.CheckChanges([]change{c}); err == nil {
			t.Errorf("%s is let through", name)
		}
	}
	for name, right := range map[string]bool{"trust": true, "Larkfield trust": true, "a-b_c": true, "": false, "a]b": false, "global": false, "a\nb": false, "../a": false, ".hidden": false, "a%U": false, strings.Repeat("a", 81): false} {
		if err := front.CheckShare(name); (err == nil) != right {
			t.Errorf("the share %q: %v", name, err)
		}
	}
}
