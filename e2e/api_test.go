package e2e

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/client"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
)

// refused checks that err is a refusal with a status, and with a field ("" for any).
func refused(t *testing.T, what string, err error, status int, field string) {
	t.Helper()
	var e *client.Error
	if !errors.As(err, &e) {
		t.Errorf("%s: error %v, want a refusal", what, err)
		return
	}
	if e.Status != status || e.Detail == "" {
		t.Errorf("%s: status %d (%s), want %d", what, e.Status, e.Detail, status)
	}
	if field == "" {
		return
	}
	if len(e.Errors) == 0 || !strings.HasPrefix(e.Errors[0].Field, field) {
		t.Errorf("%s: blames %+v, want the field %s", what, e.Errors, field)
	}
}

// Two instances that start at once on an empty database both come up, and one
// first administrator can be made, not two.
func TestTwoInstancesStartAtOnce(t *testing.T) {
	db := standintest.Database(t)
	a, b := harness.StartService(t, db, ""), harness.StartService(t, db, "")
	b.AwaitReady(t) // before anybody is made: it is to offer that too
	api := a.SetUp(t)
	token, err := os.ReadFile(b.TokenFile())
	if err != nil {
		t.Fatal(err)
	}
	other := &client.Client{Base: b.Base}
	err = other.Setup(t.Context(), model.Setup{Token: string(token), Name: "second", Password: harness.Password})
	refused(t, "a second first administrator", err, http.StatusConflict, "token")
	// A change through one is told to the watchers of the other.
	watcher := watch(t, b.SignIn(t, harness.Admin, harness.Password))
	if _, err := api.AddSite(t.Context(), model.NewSite{Name: "Lowland"}); err != nil {
		t.Fatal(err)
	}
	if e := watcher.next(t); e.Topic != "site" || e.Subject != "Lowland" {
		t.Errorf("event %+v", e)
	}
}

type eventStream struct{ events chan model.Event }

func watch(t *testing.T, api *client.Client) eventStream {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", api.Base+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+api.Token)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { response.Body.Close() })
	s := eventStream{make(chan model.Event, 100)}
	lines := bufio.NewScanner(response.Body)
	lines.Scan() // the greeting: from now on nothing is missed
	go func() {
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				var e model.Event
				if json.Unmarshal([]byte(data), &e) == nil && e.Topic != "reset" {
					s.events <- e
				}
			}
		}
	}()
	return s
}

func (s eventStream) next(t *testing.T) model.Event {
	t.Helper()
	select {
	case e := <-s.events:
		return e
	case <-time.After(10 * time.Second):
		t.Fatal("no event came")
		return model.Event{}
	}
}

func TestAPI(t *testing.T) {
	e := harness.StartEstate(t)
	for name, test := range map[string]func(*testing.T, *harness.Estate){
		"SignIn": testSignIn, "Cookie": testCookie, "Guards": testGuards, "Roles": testRoles, "Rehearsal": testRehearsal, "BadInput": testBadInput, "Secrets": testSecrets,
		"Check": testCheck, "Names": testNames, "Pages": testPages, "Removal": testRemoval, "Events": testEvents, "CommandLine": testCommandLine,
	} {
		t.Run(name, func(t *testing.T) { test(t, e) })
	}
}

func testSignIn(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	stranger := &client.Client{Base: e.Base}
	_, err := stranger.Sites(ctx)
	refused(t, "without a token", err, http.StatusUnauthorized, "")
	_, err = stranger.Login(ctx, harness.Admin, "wrong", "")
	refused(t, "wrong password", err, http.StatusUnauthorized, "password")
	_, err = stranger.Login(ctx, "nobody", harness.Password, "")
	refused(t, "unknown user", err, http.StatusUnauthorized, "password")

	for _, role := range []model.Role{model.Viewer, model.Operator} {
		if _, err := e.API.AddUser(ctx, model.NewUser{Name: string(role), Password: harness.Password, Role: role}); err != nil {
			t.Fatal(err)
		}
	}
	viewer, operator := e.SignIn(t, "viewer", harness.Password), e.SignIn(t, "operator", harness.Password)
	if _, err := viewer.Servers(ctx); err != nil {
		t.Errorf("a viewer lists servers: %v", err)
	}
	_, err = viewer.AddNamespace(ctx, model.NewNamespace{Name: "mine"})
	refused(t, "a viewer makes a namespace", err, http.StatusForbidden, "")
	_, err = viewer.CheckServer(ctx, "oak")
	refused(t, "a viewer checks a server", err, http.StatusForbidden, "")
	_, err = operator.AddSite(ctx, model.NewSite{Name: "Mine"})
	refused(t, "an operator adds a site", err, http.StatusForbidden, "")
	_, err = operator.Users(ctx)
	refused(t, "an operator lists users", err, http.StatusForbidden, "")

	// A new password ends what the old one opened.
	if _, err := e.API.EditUser(ctx, "viewer", model.EditUser{Password: "another quiet heron"}); err != nil {
		t.Fatal(err)
	}
	_, err = viewer.Sites(ctx)
	refused(t, "a token from before", err, http.StatusUnauthorized, "")
	refused(t, "removing the last administrator", e.API.RemoveUser(ctx, harness.Admin), http.StatusConflict, "")
	if err := operator.Logout(ctx); err != nil {
		t.Fatal(err)
	}
	_, err = operator.Session(ctx)
	refused(t, "after signing out", err, http.StatusUnauthorized, "")

	// Guessing is slowed down.
	var last error
	for range 8 {
		_, last = stranger.Login(ctx, "operator", "guess", "")
	}
	refused(t, "many guesses", last, http.StatusTooManyRequests, "")
}

// testCookie: the session cookie is for the console alone, and changes under
// it need the header that other sites cannot send.
func testCookie(t *testing.T, e *harness.Estate) {
	post := func(path, body string, headers map[string]string) *http.Response {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), "POST", e.Base+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		for name, value := range headers {
			r.Header.Set(name, value)
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	signed := post("/session", `{"name":"`+harness.Admin+`","password":"`+harness.Password+`"}`, nil)
	cookies := signed.Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("cookies %+v", cookies)
	}
	var session model.Session
	if err := json.NewDecoder(signed.Body).Decode(&session); err != nil || session.CSRF == "" {
		t.Fatalf("session %+v, %v", session, err)
	}
	cookie := cookies[0].Name + "=" + cookies[0].Value
	if got := post("/sites", `{"name":"Forged"}`, map[string]string{"Cookie": cookie}).StatusCode; got != http.StatusForbidden {
		t.Errorf("a change without the header: %d", got)
	}
	if got := post("/sites", `{"name":"Meant"}`, map[string]string{"Cookie": cookie, "Bspan-Csrf": session.CSRF}).StatusCode; got != http.StatusCreated {
		t.Errorf("a change with the header: %d", got)
	}
}

// testGuards: two administrators cannot overwrite each other.
func testGuards(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	entry, err := e.API.EntryAt(ctx, "garden", "papers/quiet")
	if err != nil {
		t.Fatal(err)
	}
	held, err := e.API.EditLocation(ctx, "garden", entry, entry.Locations[0].ID, model.EditLocation{State: namespace.Held, Why: "stocktaking"})
	if err != nil || held.Locations[0].State != namespace.Held || held.Version <= entry.Version {
		t.Fatalf("held %+v, %v", held, err)
	}
	_, err = e.API.EditLocation(ctx, "garden", entry, entry.Locations[0].ID, model.EditLocation{Rank: namespace.Last})
	refused(t, "a change on what was read before", err, http.StatusPreconditionFailed, "")
	refused(t, "a removal on what was read before", e.API.RemoveEntry(ctx, "garden", entry), http.StatusPreconditionFailed, "")
	if _, err := e.API.EditLocation(ctx, "garden", held, held.Locations[0].ID, model.EditLocation{State: namespace.Open}); err != nil {
		t.Fatal(err)
	}
	if err := put(t, e, "/legs/Lowland/Upland", `{"mbit":1,"rttMs":1,"cost":1}`, ""); err != http.StatusPreconditionFailed {
		t.Errorf("a leg over one that is there: %d", err)
	}
	if err := put(t, e, "/legs/Upland/Lowland", `{"mbit":1,"rttMs":1,"cost":1}`, `"99"`); err != http.StatusPreconditionFailed {
		t.Errorf("a leg on what was read before: %d", err)
	}
	r, err := http.NewRequestWithContext(ctx, "DELETE", e.Base+"/api/v1/namespaces/garden", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+e.API.Token)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusPreconditionRequired || response.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("without If-Match: %d, %s", response.StatusCode, response.Header.Get("Content-Type"))
	}
}

// put sends a PUT and returns the status.
func put(t *testing.T, e *harness.Estate, path, body, etag string) int {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "PUT", e.Base+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+e.API.Token)
	r.Header.Set("Content-Type", "application/json")
	if etag != "" {
		r.Header.Set("If-Match", etag)
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	return response.StatusCode
}

// testBadInput: each is a clear error at the field, and nothing is stored.
func testBadInput(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	before := snapshot(t, e)
	server := func(change func(*model.NewServer)) error {
		n := harness.NewServer("ash", "Lowland", e.Oak)
		change(&n)
		_, err := e.API.AddServer(ctx, n)
		return err
	}
	entry := func(path string, targets ...string) error {
		n := model.NewEntry{Path: path, Kind: namespace.Signpost}
		for _, text := range targets {
			parts := strings.SplitN(text, "/", 3)
			l := model.NewLocation{Server: parts[0], Share: parts[1]}
			if len(parts) == 3 {
				l.Sub = parts[2]
			}
			n.Locations = append(n.Locations, l)
		}
		_, err := e.API.AddEntry(ctx, "garden", n)
		return err
	}
	space := func(name string) error {
		_, err := e.API.AddNamespace(ctx, model.NewNamespace{Name: name})
		return err
	}
	where := func(path, from string) error {
		_, err := e.API.Where(ctx, path, from, "")
		return err
	}
	leg := func(l namespace.Leg) error {
		_, err := e.API.SetLeg(ctx, l)
		return err
	}
	for _, test := range []struct {
		name   string
		err    error
		status int
		field  string
	}{
		{"leg to itself", leg(namespace.Leg{From: "Lowland", To: "LOWLAND", Mbit: 1, Cost: 1}), 422, "to"},
		{"leg to an unknown site", leg(namespace.Leg{From: "Lowland", To: "Atlantis", Mbit: 1, Cost: 1}), 422, "to"},
		{"leg without speed", leg(namespace.Leg{From: "Lowland", To: "Upland", Cost: 1}), 422, "mbit"},
		{"unknown host", server(func(n *model.NewServer) { n.Address = "no-such-host" }), 422, "address"},
		{"nothing listens", server(func(n *model.NewServer) { n.Port = 1 }), 422, "address"},
		{"port out of range", server(func(n *model.NewServer) { n.Port = 70000 }), 422, "port"},
		{"wrong password", server(func(n *model.NewServer) { n.Password = "wrong" }), 422, "password"},
		{"unknown account", server(func(n *model.NewServer) { n.Account = "nobody" }), 422, "password"},
		{"unknown site", server(func(n *model.NewServer) { n.Site = "Atlantis" }), 422, "site"},
		{"server name in another case", server(func(n *model.NewServer) { n.Name = "OAK" }), 409, "name"},
		{"server without a name", server(func(n *model.NewServer) { n.Name = "" }), 422, "name"},
		{"unknown server", entry("x", "birch/store"), 422, "locations"},
		{"share that vanished", entry("x", "oak/vanished"), 422, "locations"},
		{"folder that vanished", entry("x", "oak/store/vanished"), 422, "locations"},
		{"a file as location", entry("x", "oak/store/2026/spring/ledger.csv"), 422, "locations"},
		{"sub-folder with ..", entry("x", "oak/store/../quiet"), 422, "locations"},
		{"path with ..", entry("a/../b", "oak/store"), 422, "path"},
		{"path with NUL", entry("a\x00b", "oak/store"), 422, "path"},
		{"path that is not UTF-8", entry("a\xffb", "oak/store"), 422, "path"},
		{"asking for a path that is not UTF-8", where("/garden/\xff", ""), 422, "path"},
		{"over-long name", entry(strings.Repeat("x", 256), "oak/store"), 422, "path"},
		{"over-long path", entry(strings.Repeat("x/", 600)+"x", "oak/store"), 422, "path"},
		{"entry in another case", entry("STORE", "oak/store"), 409, "path"},
		{"entry below a signpost", entry("Store/below", "oak/quiet"), 422, "path"},
		{"location inside another", entry("x", "oak/store", "oak/store/2026"), 422, "locations"},
		{"the same location twice", entry("x", "oak/store", "OAK/Store"), 422, "locations"},
		{"signpost to nowhere", entry("x"), 422, "locations"},
		{"namespace name for a URL", space("East Gardens"), 422, "name"},
		{"namespace name with a slash", space("a/b"), 422, "name"},
		{"namespace that is there", space("garden"), 409, "name"},
		{"unknown site to stand at", where("/garden/store", "Atlantis"), 422, "from"},
		{"path without a slash", where("garden", ""), 422, "path"},
		{"path that leads nowhere", where("/garden/nothing", ""), 404, "path"},
		{"unknown namespace", where("/desert", ""), 404, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			refused(t, test.name, test.err, test.status, test.field)
		})
	}
	if after := snapshot(t, e); after != before {
		t.Errorf("something was stored:\nbefore %s\nafter  %s", before, after)
	}
}

// snapshot is everything that an administrator can have changed, as text.
func snapshot(t *testing.T, e *harness.Estate) string {
	t.Helper()
	servers, err1 := e.API.Servers(t.Context())
	spaces, err2 := e.API.Namespaces(t.Context())
	entries, err3 := e.API.Entries(t.Context(), "garden")
	if err := errors.Join(err1, err2, err3); err != nil {
		t.Fatal(err)
	}
	for i := range servers {
		servers[i].Check, servers[i].Since = nil, nil
	}
	for _, e := range entries {
		for i := range e.Locations { // they are looked at meanwhile
			e.Locations[i].Health, e.Locations[i].Since = "", nil
		}
	}
	text, err := json.Marshal([]any{servers, spaces, entries})
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// testSecrets: the password of a server's account is in no answer, no record
// of changes, no log, and not in the database in the clear.
func testSecrets(t *testing.T, e *harness.Estate) {
	secret := standintest.Password("warden")
	for _, path := range []string{"/servers", "/servers/oak", "/changes", "/shares"} {
		r, err := http.NewRequestWithContext(t.Context(), "GET", e.Base+"/api/v1"+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+e.API.Token)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(response.Body)
		response.Body.Close()
		if err != nil || response.StatusCode != 200 || strings.Contains(string(text), secret) {
			t.Errorf("%s: %d, %v, holds the secret: %v", path, response.StatusCode, err, strings.Contains(string(text), secret))
		}
	}
	if log, err := os.ReadFile(e.Dir + "/log"); err != nil || strings.Contains(string(log), secret) {
		t.Errorf("the log holds the secret, or %v", err)
	}
	if dump := dumpTable(t, e, "servers"); strings.Contains(dump, secret) || !strings.Contains(dump, "warden") {
		t.Error("the table holds the secret, or the dump is not of it")
	}
	// A password goes nowhere but where it was given for.
	address := "127.0.0.9"
	_, err := e.API.EditServer(t.Context(), "oak", model.EditServer{Address: &address})
	refused(t, "a new address without the password", err, 422, "password")
}

func testCheck(t *testing.T, e *harness.Estate) {
	check, err := e.API.CheckServer(t.Context(), "oak")
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]finding.Finding{}
	for _, l := range check.Lines {
		found[l.Code] = l
		if (l.Severity == finding.Pass) != (l.Remedy == "") {
			t.Errorf("%s: %s with remedy %q", l.Code, l.Severity, l.Remedy)
		}
	}
	for _, name := range []string{"address", "protocol", "encryption", "clock", "sign-in", "shares", "rights"} {
		if found[name].Severity != finding.Pass {
			t.Errorf("%s: %+v", name, found[name])
		}
	}
	var disk unix.Statfs_t // of this machine, which may itself be almost full
	if err := unix.Statfs(e.Oak.SharePath("store"), &disk); err != nil {
		t.Fatal(err)
	}
	if f := found["free space"]; f.Found == "" || f.Severity != finding.Pass && disk.Bavail > disk.Blocks/8 {
		t.Errorf("free space: %+v", f)
	}
	if found["signing"].Severity != finding.Warn {
		t.Errorf("signing: %+v", found["signing"])
	}
	share, err := e.API.Share(t.Context(), "oak", "STORE")
	if err != nil || share.Name != "store" || share.Free <= 0 || len(share.Entries) == 0 || !slices.Contains(share.LedToFrom, "/garden/store") {
		t.Errorf("share %+v, %v", share, err)
	}
	e.Elm.Halt()
	check, err = e.API.CheckServer(t.Context(), "elm")
	if err != nil || check.Outcome != finding.Fail || check.Lines[0].Code != "address" || check.Lines[0].Remedy == "" {
		t.Errorf("check of a halted server: %+v, %v", check, err)
	}
	d, err := e.API.Where(t.Context(), "/garden/store", "Upland", "")
	if err != nil || d.Directions[0].Server != "oak" || d.Directions[1].State != namespace.Failing {
		t.Errorf("directions past a halted server: %+v, %v", d, err)
	}
	if err := e.Elm.Restart(); err != nil {
		t.Fatal(err)
	}
	if check, err = e.API.CheckServer(t.Context(), "elm"); err != nil || check.Outcome == finding.Fail {
		t.Errorf("after the restart: %+v, %v", check, err)
	}
}

func testNames(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	d, err := e.API.Where(ctx, "/garden/Store/2026/spring", "Upland", "ada")
	if err != nil {
		t.Fatal(err)
	}
	if d.Signpost != "/garden/store" || d.Rest != "2026/spring" || d.Directions[0].Server != "elm" || d.Directions[0].Reason != "same site; not verified" || d.Directions[1].Reason != "Lowland, behind leg cost 40" {
		t.Errorf("directions %+v", d)
	}
	// A further location is held until somebody opens it.
	entry, err := e.API.AddEntry(ctx, "garden", model.NewEntry{Path: "Deep/Er/läuft", Kind: namespace.Signpost,
		Locations: []model.NewLocation{{Server: "oak", Share: "store", Sub: "2026"}, {Server: "elm", Share: "store", Sub: "2026/spring"}}})
	if err != nil || entry.Locations[1].State != namespace.Held || entry.Locations[1].Why != "not verified yet" {
		t.Fatalf("entry %+v, %v", entry, err)
	}
	d, err = e.API.Where(ctx, "/garden/deep/er/LÄUFT", "Upland", "")
	if err != nil || d.Directions[0].Server != "oak" || d.Directions[1].Usable || d.Directions[1].Reason != "held: not verified yet" {
		t.Errorf("directions %+v, %v", d, err)
	}
	entry, err = e.API.EditLocation(ctx, "garden", entry, entry.Locations[1].ID, model.EditLocation{State: namespace.Open})
	if err != nil || entry.Locations[1].State != namespace.Open || entry.Locations[1].Why == "" {
		t.Errorf("opened %+v, %v", entry, err)
	}
	if d, err = e.API.Where(ctx, "/garden/deep/er/läuft", "Upland", ""); err != nil || d.Directions[0].Server != "elm" {
		t.Errorf("directions after opening %+v, %v", d, err)
	}
	if d, err = e.API.Where(ctx, "/garden/deep", "", ""); err != nil || d.Kind != "folder" || len(d.Names) != 1 || d.Names[0] != "Er" {
		t.Errorf("folder %+v, %v", d, err)
	}
}

func testPages(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	if _, err := e.API.AddNamespace(ctx, model.NewNamespace{Name: "many"}); err != nil {
		t.Fatal(err)
	}
	const n = 1203 // over the largest page
	for i := range n {
		path := "folder " + strings.Repeat(string(rune('a'+i%26)), i/26+1)
		if _, err := e.API.AddEntry(ctx, "many", model.NewEntry{Path: path, Kind: namespace.Folder}); err != nil {
			t.Fatal(err)
		}
	}
	entries, err := e.API.Entries(ctx, "many")
	if err != nil || len(entries) != n {
		t.Fatalf("%d entries, %v", len(entries), err)
	}
	seen := map[string]bool{}
	for _, entry := range entries {
		seen[entry.Path] = true
	}
	if len(seen) != n {
		t.Errorf("%d different entries of %d", len(seen), n)
	}
	refused(t, "removing a full namespace", e.API.RemoveNamespace(ctx, "many", false), http.StatusConflict, "")
	if err := e.API.RemoveNamespace(ctx, "many", true); err != nil {
		t.Error(err)
	}
}

func testRemoval(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	refused(t, "a server that is led to", e.API.RemoveServer(ctx, "oak", false), http.StatusConflict, "")
	refused(t, "a site with servers", e.API.RemoveSite(ctx, "Lowland"), http.StatusConflict, "")
	papers, err := e.API.EntryAt(ctx, "garden", "papers")
	if err != nil {
		t.Fatal(err)
	}
	refused(t, "a folder that is not empty", e.API.RemoveEntry(ctx, "garden", papers), http.StatusConflict, "")
	quiet, err := e.API.EntryAt(ctx, "garden", "papers/quiet")
	if err != nil {
		t.Fatal(err)
	}
	_, err = e.API.RemoveLocation(ctx, "garden", quiet, quiet.Locations[0].ID)
	refused(t, "the only location", err, http.StatusConflict, "")
	changes, err := e.API.Changes(ctx, 1000)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range changes {
		if c.Who == "" || c.At.IsZero() || c.Action == "" || c.Before == nil && c.After == nil {
			t.Errorf("a thin record of a change: %+v", c)
		}
	}
}

func testEvents(t *testing.T, e *harness.Estate) {
	watcher := watch(t, e.API)
	start := time.Now()
	if _, err := e.API.AddSite(t.Context(), model.NewSite{Name: "Watched"}); err != nil {
		t.Fatal(err)
	}
	for event := watcher.next(t); event.Subject != "Watched"; event = watcher.next(t) {
	}
	if took := time.Since(start); took > 5*time.Second {
		t.Errorf("the event took %s", took)
	}
	if err := e.API.RemoveSite(t.Context(), "Watched"); err != nil {
		t.Error(err)
	}
}
