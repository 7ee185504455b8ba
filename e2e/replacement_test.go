package e2e

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bridgespan/e2e/harness"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// A folder that is replaced through a gateway is seen until all that replaces it has come,
// and comes back when the gateway ends in the middle.
func TestReplacementSurvives(t *testing.T) {
	t.Setenv("BSPAND_TAKE_OVER", "2s")
	e := harness.StartEstate(t)
	store := harness.Tree(t, e.Oak, "store")
	put := func(name, text string) {
		t.Helper()
		if err := tree.MkdirAll(t.Context(), store, filepath.Dir(name)); err != nil {
			t.Fatal(err)
		}
		if _, err := store.Put(t.Context(), name, strings.NewReader(text), tree.PutOptions{Replace: true}); err != nil {
			t.Fatal(err)
		}
	}
	text := func(name string) string {
		b, _ := tree.ReadFile(t.Context(), store, name)
		return string(b)
	}
	hidden := func() (names []string) {
		entries, err := os.ReadDir(e.Oak.SharePath("store"))
		if err != nil {
			t.Fatal(err)
		}
		for _, entry := range entries {
			if tree.Reserved(entry.Name()) {
				names = append(names, entry.Name())
			}
		}
		return names
	}
	for i := range 500 {
		put(fmt.Sprintf("fresh/%d", i), "fresh")
	}
	for _, name := range []string{"copied", "swapped", "between", "taken", "moved", "done"} {
		put(name+"/mine", "mine")
	}
	ada := person(t, e, "ada")
	if a := ada.do("COPY", "/garden/store/fresh", nil, "Destination", e.Gateway+"/garden/store/swapped"); a.status != 204 || text("swapped/7") != "fresh" || text("swapped/mine") != "" || len(hidden()) > 0 {
		t.Errorf("a copy over a folder: %d %s; hidden are %v", a.status, a.body, hidden())
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if r, err := http.NewRequestWithContext(t.Context(), "COPY", e.Gateway+"/garden/store/fresh", nil); err == nil {
			r.SetBasicAuth("ada", standintest.Password("ada"))
			r.Header.Set("Destination", e.Gateway+"/garden/store/copied")
			if answer, err := http.DefaultClient.Do(r); err == nil { // none comes: the gateway ends
				answer.Body.Close()
			}
		}
	}()
	await(t, "the copy to be half-done", func() bool {
		names := hidden()
		if len(names) == 0 {
			return false
		}
		inside, _ := os.ReadDir(filepath.Join(e.Oak.SharePath("store"), names[0]))
		return len(inside) > 5
	})
	if text("copied/mine") != "mine" {
		t.Error("while it is replaced, the folder is not seen")
	}
	e.Service.Kill()
	<-ended
	if text("copied/mine") != "mine" {
		t.Error("when the gateway had ended, the folder was not seen")
	}
	// As after an end between the two renames: of a folder that people have made anew since, and
	// of one whose replacement they have renamed since.
	pool := openPool(t, e)
	keep := func(final, aside, incoming string, placed bool) {
		t.Helper()
		if _, err := pool.ExecContext(t.Context(), `INSERT INTO gateway_replacements (server, share, sub, final, aside, incoming, copied, placed, until) VALUES ('oak', 'store', '', ?, ?, ?, ?, ?, '2026-01-01')`,
			final, aside, incoming, final != "moved", placed); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"between", "taken", "moved"} {
		aside, incoming := ".bspan-aside-"+name+".part", ".bspan-incoming-"+name+".part"
		if err := store.Rename(t.Context(), name, aside, false); err != nil {
			t.Fatal(err)
		}
		if name != "moved" {
			put(incoming+"/fresh", "fresh")
		}
		keep(name, aside, incoming, false)
	}
	// And after an end between the second rename and the removal of the old folder.
	if err := store.Rename(t.Context(), "done", ".bspan-aside-done.part", false); err != nil {
		t.Fatal(err)
	}
	put("done/fresh", "fresh")
	keep("done", ".bspan-aside-done.part", ".bspan-incoming-done.part", true)
	put("taken/anew", "anew")
	if r, err := pool.ExecContext(t.Context(), `UPDATE gateway_replacements SET until = '2026-01-01'`); err != nil {
		t.Fatal(err)
	} else if n, _ := r.RowsAffected(); n != 1 { // of the copy; the others are so already
		t.Errorf("%d replacements were kept of the copy", n)
	}
	e.Another(t, "Lowland")
	await(t, "what was left behind to be put right", func() bool { return len(hidden()) == 0 && text("between/mine") == "mine" })
	got := []string{text("copied/mine"), text("between/mine"), text("taken/anew"), text("taken (put back)/mine"), text("moved/mine"), text("done/fresh"), text("done/mine")}
	if want := []string{"mine", "mine", "anew", "mine", "mine", "fresh", ""}; !slices.Equal(got, want) {
		t.Errorf("put right: %v, want %v", got, want)
	}
}
