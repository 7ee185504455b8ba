package e2e

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"bridgespan/core/namespace"
	"bridgespan/e2e/browser"
	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// checker looks at every page that a test reaches.
type checker struct {
	t   *testing.T
	tab *browser.Tab
	axe string
}

func startBrowser(t *testing.T) checker {
	t.Helper()
	b, err := browser.Start(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	tab, err := b.Tab()
	if err != nil {
		t.Fatal(err)
	}
	source, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed; run make setup: %v", err)
	}
	return checker{t, tab, string(source)}
}

// accessible fails for everything that axe finds, in both themes.
func (c checker) accessible(page string) {
	c.t.Helper()
	// What differs at night are colours alone.
	for _, theme := range []string{"day", "night"} {
		var rules []string
		if theme == "night" {
			rules = []string{"color-contrast", "link-in-text-block"}
		}
		_, err := browser.Eval[bool](c.tab, "document.documentElement.dataset.theme = '"+theme+"', true")
		found, axeErr := c.tab.Violations(c.axe, rules...)
		if err := errors.Join(err, axeErr); err != nil {
			c.t.Fatal(err)
		}
		for _, violation := range found {
			c.t.Errorf("%s by %s: %s", page, theme, violation)
		}
	}
}

func (c checker) must(errs ...error) {
	c.t.Helper()
	if err := errors.Join(errs...); err != nil {
		c.t.Fatal(err)
	}
}

func TestConsole(t *testing.T) {
	e := harness.StartEstate(t)
	c := startBrowser(t)
	tab := c.tab

	// The checker itself can fail.
	c.must(tab.Open("data:text/html,<title>x</title><img src=x><input><p style='color:silver'>pale</p>"))
	if found, err := tab.Violations(c.axe); err != nil || len(found) < 2 {
		t.Fatalf("axe finds %v in a page that is full of faults, %v", found, err)
	}

	if found, err := tab.Violations(c.axe, "color-contrast"); err != nil || len(found) != 1 || !strings.HasPrefix(found[0], "color-contrast:") {
		t.Fatalf("of pale text axe finds %v, %v", found, err)
	}

	c.must(tab.Open(e.Base+"/"), tab.See("With your Bridge Span user"))
	c.accessible("sign-in")
	c.must(tab.Type("Name", harness.Admin), tab.Type("Password", "wrong"), tab.Click("button", "Sign in"), tab.See("The name or the password is wrong"))
	c.accessible("sign-in with an error")
	c.must(tab.Type("Password", harness.Password), tab.Click("button", "Sign in"), tab.See("Latest changes"), tab.See("Live"))
	c.accessible("overview")

	c.must(tab.Click("link", "Servers"), tab.Click("button", "Add a server"), tab.See("Nothing is installed on a file server"))
	c.must(tab.Type("Name", "hazel"), tab.Choose("Site", "Upland"), tab.Type("Address", e.Elm.Address), tab.Type("Port", itoa(e.Elm.Port)),
		tab.Type("Account", "warden"), tab.Type("Password", "wrong"), tab.Click("button", "Sign in and add"), tab.See("refuses the account warden"))
	c.accessible("adding a server, with an error")
	c.must(tab.Type("Password", "larkfield-warden"), tab.Click("button", "Sign in and add"), tab.See("hazel was added"), tab.See("It was not checked yet"))
	c.must(tab.Click("button", "Check now"), tab.See("lists, reads permissions and may write on all of them"))
	c.accessible("server")
	c.must(tab.Click("button", "Change"), tab.Type("Note", "in the cellar"), tab.Click("button", "Save"), tab.See("hazel was changed"), tab.See("in the cellar"))
	testShareAndRights(c)
	testMoverInConsole(c)
	testCloudInConsole(c)

	c.must(tab.Click("link", "Namespaces"), tab.Click("link", "/garden"), tab.Click("button", "Add an entry"))
	c.must(tab.Type("Path in /garden", "science/plots"), tab.Choose("Server", "hazel (Upland)"), tab.Choose("Share", "store"), tab.Type("Folder below the share", "nowhere"),
		tab.Click("button", "Add"), tab.See("There is no folder hazel/store/nowhere"))
	c.accessible("adding an entry, with an error")
	c.must(tab.Type("Folder below the share", "2026"), tab.Click("button", "Add"), tab.See("The entry was added"), tab.See("Signpost"))
	c.must(tab.Click("button", "Add a location"), tab.Choose("Server", "oak (Lowland)"), tab.Choose("Share", "store"), tab.Type("Folder below the share", "2026"),
		tab.Click("button", "Add"), tab.See("held: not verified yet"))

	c.must(tab.Choose("Standing at", "Lowland"), tab.See("People are led to hazel/store/2026"), tab.See("Upland, behind leg cost 40"))
	c.accessible("namespace")
	c.must(tab.Click("button", "Open oak/store/2026"), tab.See("People are led to oak/store/2026"), tab.See("same site"))
	c.must(tab.Type("Path", "/garden/nothing"), tab.See("Nothing in the namespace is called /garden/nothing"))
	added, err := e.API.AddEntry(t.Context(), "garden", model.NewEntry{Path: "zinnias", Kind: namespace.Folder}) // by somebody else
	c.must(err, tab.See("6 entries"), tab.See("Nothing in the namespace is called /garden/nothing"))
	c.must(e.API.RemoveEntry(t.Context(), "garden", added), tab.See("5 entries"))
	testUpkeep(c)
	testKeyboard(c)
	testDrives(c)
	testMeanwhile(c, e)
	testDragging(c, e)
	testAccountMaps(c)
	testReplicaPages(c, e)
	testDedupPages(c)
	testMigrationPages(c)
	if faults := tab.Faults(); len(faults) > 0 {
		t.Errorf("the console's own programs met %v", faults)
	}

	// What others do shows by itself.
	if _, err := e.API.AddSite(t.Context(), model.NewSite{Name: "Far Shore"}); err != nil {
		t.Fatal(err)
	}
	c.must(tab.Click("link", "Sites"), tab.See("Far Shore"))
	c.accessible("sites")
	if err := e.API.RemoveSite(t.Context(), "Far Shore"); err != nil {
		t.Fatal(err)
	}
	c.must(tab.Gone("Far Shore"))
	testNeverLater(c, e)
	c.must(tab.Click("button", "Add a site"), tab.Type("Name", "bad/name"), tab.Click("button", "Add"), tab.See("holds a character that some systems refuse"))
	c.must(tab.Press("\x1b"))

	c.must(tab.Click("link", "Users"), tab.Click("button", "Add a user"), tab.Type("Name", "clerk"), tab.Type("Password", "short"), tab.Click("button", "Add"), tab.See("The password has 5 characters"))
	c.accessible("adding a user, with an error")
	c.must(tab.Type("Password", harness.Password), tab.Choose("Role", "Operator"), tab.Click("button", "Add"), tab.See("clerk was added"), tab.See("operator"))
	c.accessible("users")
	c.must(tab.Click("button", "Remove "+harness.Admin), tab.Click("button", "Remove"), tab.See("This is the last administrator"))
	c.must(tab.Press("\x1b"), tab.Gone("This is the last administrator"))

	c.must(tab.Click("link", "Changes"), tab.See("location.add"))
	c.accessible("changes")
	c.must(tab.Click("button", "location.add"), tab.See("Before"))
	c.accessible("change")
	c.must(tab.Press("\x1b"))
	c.must(tab.Click("link", "Servers"), tab.See("hazel"))
	c.accessible("servers")
	c.must(tab.Click("link", "Namespaces"), tab.See("Directions kept"))
	c.accessible("namespaces")
	c.must(tab.Click("link", "API"), tab.See("/api/v1/directions"), tab.Click("summary", "GET/api/v1/directions"), tab.See("Needs the role viewer"))
	c.accessible("api")
	c.must(tab.Open(e.Base+"/nothing/here"), tab.See("There is no such page"))
	c.accessible("no page")

	// A halted server shows by itself once somebody finds out.
	c.must(tab.Open(e.Base+"/"), tab.See("Latest changes"), tab.See("Live"))
	e.Elm.Halt()
	if _, err := e.API.CheckServer(t.Context(), "elm"); err != nil {
		t.Fatal(err)
	}
	c.must(tab.See("elm at Upland does not answer"))
	c.accessible("overview with trouble")
	testNoStrangers(t, tab)
	c.must(tab.Click("button", "Sign out"), tab.See("With your Bridge Span user"))
}

// testNeverLater: a change that is asked for while the browser takes itself to be offline is
// tried at once, and is not kept to be made when somebody has given it up.
func testNeverLater(c checker, e *harness.Estate) {
	online := func(is string) error {
		_, err := browser.Eval[bool](c.tab, "dispatchEvent(new Event('"+is+"'))")
		return err
	}
	c.must(online("offline"), c.tab.Click("button", "Add a site"), c.tab.Type("Name", "Tried At Once"), c.tab.Click("button", "Add"), c.tab.See("Tried At Once was added"), online("online"))
	c.must(e.API.RemoveSite(c.t.Context(), "Tried At Once"), c.tab.Gone("Tried At Once"))
}

// testKeyboard: the tree, a choice and a dialog are used without a mouse.
func testKeyboard(c checker) {
	focus := func(selector string) error {
		_, err := browser.Eval[bool](c.tab, "document.querySelector('"+selector+"').focus(), true")
		return err
	}
	focused := func(text string) error {
		return c.tab.Wait("the focus on "+text, "document.activeElement.innerText.replace(/\\s+/g, ' ').includes('"+text+"')")
	}
	c.must(focus("[role=treeitem][tabindex=\"0\"]"), c.tab.Press(kb.Home), focused("papers/"))
	c.must(c.tab.Press(kb.ArrowLeft), c.tab.Wait("the branch to close", "!document.querySelector('[role=tree]').innerText.includes('quiet')"))
	c.must(c.tab.Press(kb.ArrowRight), c.tab.Press(kb.ArrowRight), focused("quiet"), c.tab.Press(kb.Enter), c.tab.See("oak/quiet"))
	c.must(c.tab.Press(kb.End), focused("store"), c.tab.Press(kb.ArrowUp), focused("beds"))
	c.must(focus("[role=combobox]"), c.tab.Press(kb.Enter), c.tab.Wait("the list", "document.querySelector('[role=listbox]')"), c.tab.Press(kb.Escape), c.tab.Wait("no list", "!document.querySelector('[role=listbox]')"))
	c.must(c.tab.Click("button", "Add an entry"), c.tab.Wait("the focus in the dialog", "document.querySelector('[role=dialog]')?.contains(document.activeElement)"), c.tab.Press(kb.Escape), c.tab.Wait("no dialog", "!document.querySelector('[role=dialog]')"))
}

// testNoStrangers: the console asks no other host for anything.
func testNoStrangers(t *testing.T, tab *browser.Tab) {
	names, err := browser.Eval[[]string](tab, "performance.getEntriesByType('resource').map(e => e.name).concat([...document.querySelectorAll('[src],[href]')].map(e => e.src || e.href))")
	if err != nil || len(names) < 4 {
		t.Fatalf("resources %v, %v", names, err)
	}
	for _, name := range names {
		if !strings.HasPrefix(name, "http://127.0.0.1:") && !strings.HasPrefix(name, "data:") {
			t.Errorf("the console asks for %s", name)
		}
	}
}

// The first administrator is set up in the console.
func TestFirstRunInConsole(t *testing.T) {
	e := harness.StartEmpty(t)
	c := startBrowser(t)
	tab := c.tab
	token, err := os.ReadFile(e.TokenFile())
	if err != nil {
		t.Fatal(err)
	}
	c.must(tab.Open(e.Base+"/"), tab.See("Nobody can sign in yet"))
	c.accessible("first run")
	c.must(tab.Type("Set-up token", "wrong"), tab.Type("Name", "first"), tab.Type("Password", "short"), tab.Click("button", "Make the administrator"), tab.See("This is not the set-up token"))
	c.must(tab.Type("Set-up token", strings.TrimSpace(string(token))), tab.Click("button", "Make the administrator"), tab.See("The password has 5 characters"))
	c.must(tab.Type("Password", harness.Password), tab.Click("button", "Make the administrator"), tab.See("Nothing is here yet"))
	c.accessible("empty overview")
	for _, page := range []struct{ link, says string }{{"Servers", "No server is known yet"}, {"Sites", "There is no site yet"}, {"Namespaces", "There is no namespace yet"}} {
		c.must(tab.Click("link", page.link), tab.See(page.says))
		c.accessible("empty " + page.link)
	}
}

// testShareAndRights surveys a share, looks at its files and their rights, rehearses
// and makes a change, and rehearses a new share.
func testShareAndRights(c checker) {
	tab := c.tab
	c.must(tab.Click("button", "Create a share …"), tab.Type("Name", "two words"), tab.Type("Folder", "nowhere"), tab.Click("button", "Rehearse"), tab.See("is not a path from the top of a volume"))
	c.must(tab.Type("Folder", "store:lent"), tab.Click("button", "Rehearse"), tab.See("there is a space in the name"), tab.See("make the folder store/lent"), tab.See("So in the end"))
	c.accessible("creating a share")
	c.must(tab.Press("\x1b"), tab.Click("link", "store"), tab.See("not surveyed yet"), tab.See("those that people choose"))
	c.accessible("share that was not surveyed")
	c.must(tab.Click("button", "Survey now"), tab.See("whoever signs in may change and remove it"), tab.See("By time since the last change"))
	c.accessible("share")
	c.must(tab.Click("link", "Files and rights"), tab.See("Rights to the whole share"), tab.See("Authenticated Users may change this folder and everything below"))
	c.must(tab.Type("As", "ada"), tab.See("has change here"))
	c.accessible("files and rights")
	c.must(tab.Click("button", "change"), tab.See("at least change"), tab.Type("Path", "hazel/quiet"), tab.Click("button", "Compare these two"), tab.See("as against here"))
	c.accessible("who can, and a comparison")
	c.must(tab.Click("button", "And everything below"), tab.See("Who gains, who loses"), tab.See("2026/spring/ledger.csv"))
	c.accessible("comparison of everything below")
	c.must(tab.Type("Filter differences", "no such path"), tab.See("No path with"), tab.Click("link", "hazel/store"))
	c.must(tab.Click("link", "2026/"), tab.Click("button", "Show rights of spring"), tab.See("from /store"))
	c.must(tab.Click("button", "Change rights …"), tab.Type("Account", "nobody-here"), tab.Click("button", "Rehearse"), tab.See("knows no account"))
	c.accessible("changing rights, with an error")
	c.must(tab.Type("Account", "ben"), tab.Click("button", "Rehearse"), tab.See("2 files and folders would change"), tab.Click("button", "Do it"), tab.See("2 of 2 changed"), tab.Click("button", "Undo"), tab.See("2 of 2 are as they were before"))
	c.accessible("rights changed and undone")
	c.must(tab.Press("\x1b"), tab.Click("link", "Runs"), tab.See("change of rights"))
	c.accessible("runs")
}

// testUpkeep verifies a location, moves an entry, and returns to how it was.
// testDrives makes drives for somebody, hands them out, and sees what changed since.
func testDrives(c checker) {
	tab := c.tab
	c.must(tab.See("No drives were handed out yet"), tab.Click("button", "Make drives …"), tab.Type("For", "nobody.at.all"), tab.Click("button", "Show"), tab.See("nobody.at.all"), tab.See("check the spelling"))
	c.accessible("making drives, with an error")
	c.must(tab.Type("For", "ada"), tab.Choose("At", "Lowland"), tab.Choose("As", "PowerShell script"), tab.Click("button", "Show"), tab.See("/garden/store"))
	c.must(tab.Click("summary", "The file"), tab.See("made by Bridge Span"))
	c.accessible("making drives")
	c.must(tab.Click("button", "Hand out"), tab.See("The file was saved"), tab.Click("button", "Close"), tab.See("nothing changed since"))
}

// testMeanwhile: what somebody else changes while a form is open is taken over
// where nothing was typed, and told where something was.
func testMeanwhile(c checker, e *harness.Estate) {
	tab, t := c.tab, c.t
	c.must(tab.Click("item", "store"), tab.Click("button", "Change …"), tab.Type("Note", "mine"))
	entry, err := e.API.EntryAt(t.Context(), "garden", "store")
	if err != nil {
		t.Fatal(err)
	}
	theirs, ttl := "theirs", 77
	if _, err := e.API.EditEntry(t.Context(), "garden", entry, model.EditEntry{Note: &theirs, TTL: &ttl}); err != nil {
		t.Fatal(err)
	}
	c.must(tab.See("Somebody else changed this meanwhile"), tab.See("yours replaces it"), tab.See("taken over"))
	c.accessible("a form that somebody else changed")
	c.must(tab.Click("button", "Save"), tab.See("was changed"))
	if entry, err = e.API.EntryAt(t.Context(), "garden", "store"); err != nil || entry.Note != "mine" || entry.TTL != 77 {
		t.Errorf("after both changes: %q, %d, %v", entry.Note, entry.TTL, err)
	}
	c.must(tab.See(`note: "theirs" → "mine"`))
	// Who is second without having seen it is told what the first changed.
	stale := entry
	stale.Version--
	_, err = e.API.EditEntry(t.Context(), "garden", stale, model.EditEntry{Note: &theirs})
	refused(t, "a change on what was read before", err, http.StatusPreconditionFailed, "")
	if text := fmt.Sprint(err); !strings.Contains(text, harness.Admin) || !strings.Contains(text, `note: "theirs" → "mine"`) {
		t.Errorf("it is told %s", text)
	}
}

// testDragging moves an entry by dragging it onto a folder, and not into itself.
func testDragging(c checker, e *harness.Estate) {
	tab, t := c.tab, c.t
	if taken, err := tab.Drag("papers/", "beds"); err != nil || taken {
		t.Errorf("a folder was dropped on a signpost: %v, %v", taken, err)
	}
	taken, err := tab.Drag("beds", "papers/")
	if err != nil || !taken {
		t.Fatalf("dropped: %v, %v", taken, err)
	}
	c.must(tab.See("Everything below it moves with it"), tab.Click("button", "Move"), tab.See("was moved"), tab.Click("item", "beds"), tab.See("/garden/papers/beds"))
	if _, err := e.API.EntryAt(t.Context(), "garden", "papers/beds"); err != nil {
		t.Errorf("after dragging: %v", err)
	}
	if taken, err = tab.Drag("beds", "science/"); err != nil || !taken {
		t.Fatalf("dropped back: %v, %v", taken, err)
	}
	c.must(tab.Click("button", "Move"), tab.See("/garden/science/beds"))
}

func testUpkeep(c checker) {
	tab := c.tab
	c.must(tab.See("one location"), tab.Click("button", "Verify oak/store/2026"), tab.See("Missing at the second"), tab.See("what hazel/store/2026 holds"))
	c.accessible("verification")
	c.must(tab.Click("link", "/garden/science/plots"), tab.Click("item", "plots"), tab.Click("button", "Change …"), tab.Type("Note", "kept twice"), tab.Click("button", "Save"), tab.See("kept twice"))
	c.must(tab.Click("button", "Move …"), tab.Type("New path in /garden", "science/plots/inside"), tab.Click("button", "Move"), tab.See("cannot move into its own branch"))
	c.accessible("moving an entry, with an error")
	c.must(tab.Type("New path in /garden", "science/beds"), tab.Click("button", "Move"), tab.See("/garden/science/beds"), tab.See("entry.move"))
	c.accessible("namespace with flaws and history")
}
