package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"testing/iotest"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
)

// davClient speaks to a gateway as one person.
type davClient struct {
	t       *testing.T
	base    string
	account string
	secret  string
}

func person(t *testing.T, e *harness.Estate, account string) davClient {
	return davClient{t, e.Gateway, account, standintest.Password(account)}
}

type answer struct {
	status int
	header http.Header
	body   []byte
}

func (d davClient) do(method, path string, body io.Reader, headers ...string) answer {
	d.t.Helper()
	r, err := http.NewRequestWithContext(d.t.Context(), method, d.base+path, body)
	if err != nil {
		d.t.Fatal(err)
	}
	r.SetBasicAuth(d.account, d.secret)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return answer{header: http.Header{}}
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		d.t.Errorf("%s %s: %v", method, path, err)
	}
	return answer{response.StatusCode, response.Header, text}
}

func (d davClient) want(status int, method, path string, body io.Reader, headers ...string) answer {
	d.t.Helper()
	a := d.do(method, path, body, headers...)
	if a.status != status {
		d.t.Errorf("%s %s as %s: %d, want %d: %.300s", method, path, d.account, a.status, status, a.body)
	}
	return a
}

// smbclient reads a file with Samba's own client.
func smbclient(t *testing.T, server *fileserver.Server, share, path string) []byte {
	t.Helper()
	local := filepath.Join(t.TempDir(), "file")
	out, err := exec.Command("smbclient", "//"+server.Address+"/"+share, "-p", fmt.Sprint(server.Port),
		"-U", "warden%"+standintest.Password("warden"), "-c", `get "`+path+`" `+local).CombinedOutput()
	if err != nil {
		t.Fatalf("smbclient: %v: %s", err, out)
	}
	b, err := os.ReadFile(local)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

const ledger = "/garden/store/2026/spring/ledger.csv"

func TestGateway(t *testing.T) {
	e := harness.StartEstate(t)
	for _, test := range []struct {
		name string
		run  func(*testing.T, *harness.Estate)
	}{
		{"Reads", testGatewayReads}, {"Writes", testGatewayWrites}, {"Permissions", testGatewayPermissions},
		{"Litmus", testLitmus}, {"Mount", testMount}, {"Locks", testLocks}, {"Properties", testProperties}, {"LiveProperties", testLiveProperties}, {"Transfers", testTransfers}, {"Conditions", testConditions}, {"Crowd", testCrowd}, {"TornUploads", testTornUploads}, {"Listing", testGatewayListing}, {"Browsing", testBrowsing}, {"Hiding", testHiding}, {"Failover", testFailover}, {"ReadFailover", testReadFailover}, {"Returns", testReturns}, {"SeveralGateways", testSeveralGateways},
	} {
		t.Run(test.name, func(t *testing.T) { test.run(t, e) })
	}
}

func testGatewayReads(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	a := ada.want(200, "GET", ledger, nil)
	if want := smbclient(t, e.Oak, "store", "2026/spring/ledger.csv"); !bytes.Equal(a.body, want) || len(want) != len(harness.Ledger) {
		t.Errorf("the gateway gives %d bytes, smbclient %d", len(a.body), len(want))
	}
	if a.header.Get("Bspan-Location") != "oak/store" || a.header.Get("Etag") == "" || !strings.HasPrefix(a.header.Get("Content-Type"), "text/csv") {
		t.Errorf("headers %v", a.header)
	}
	part := ada.want(206, "GET", ledger, nil, "Range", "bytes=1000000-1000099")
	if !bytes.Equal(part.body, harness.Ledger[1_000_000:1_000_100]) {
		t.Errorf("range gives %q", part.body)
	}
	ada.want(304, "GET", ledger, nil, "If-None-Match", a.header.Get("Etag"))
	ada.want(404, "GET", "/garden/store/nothing.txt", nil)
	ada.want(404, "GET", "/garden/nothing", nil)
	ada.want(404, "GET", "/desert/x", nil)
	ada.want(404, "GET", "/garden/store/.bspan/intake", nil)
	if a := ada.do("GET", "/garden/store/../papers", nil); a.status == 200 {
		t.Errorf("a path with ..: %d", a.status)
	}
}

func testGatewayWrites(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	content := bytes.Repeat([]byte("Primula veris\n"), 200_000)
	name := "/garden/store/2026/new list.csv"
	path := strings.ReplaceAll(name, " ", "%20")
	ada.want(201, "PUT", path, bytes.NewReader(content))
	if got := smbclient(t, e.Oak, "store", "2026/new list.csv"); !bytes.Equal(got, content) {
		t.Errorf("smbclient reads %d bytes, want %d", len(got), len(content))
	}
	ada.want(204, "PUT", path, strings.NewReader("short"))
	if got := ada.want(200, "GET", path, nil).body; string(got) != "short" {
		t.Errorf("after replacing: %q", got)
	}
	ada.want(201, "MKCOL", "/garden/store/summer", nil)
	ada.want(405, "MKCOL", "/garden/store/summer", nil)
	ada.want(409, "MKCOL", "/garden/store/a/b/c", nil)
	ada.want(201, "MOVE", path, nil, "Destination", e.Gateway+"/garden/store/summer/moved.csv")
	ada.want(404, "GET", path, nil)
	ada.want(201, "COPY", "/garden/store/summer/moved.csv", nil, "Destination", e.Gateway+"/garden/papers/quiet/copied.csv")
	if got := smbclient(t, e.Oak, "quiet", "copied.csv"); string(got) != "short" {
		t.Errorf("copied between locations: %q", got)
	}
	ada.want(204, "DELETE", "/garden/store/summer", nil)
	ada.want(404, "PROPFIND", "/garden/store/summer", nil, "Depth", "0")
	// Properties cannot be kept, and asking for that does not touch the file.
	ada.do("PROPPATCH", ledger, strings.NewReader(`<?xml version="1.0"?><D:propertyupdate xmlns:D="DAV:"><D:set><D:prop><x xmlns="urn:x">y</x></D:prop></D:set></D:propertyupdate>`))
	if got := ada.want(200, "GET", ledger, nil).body; !bytes.Equal(got, harness.Ledger) {
		t.Errorf("after PROPPATCH the file has %d bytes", len(got))
	}
	// The names of the namespace are not for people to change.
	ada.want(403, "MKCOL", "/garden/mine", nil)
	ada.want(403, "PUT", "/garden/mine.txt", strings.NewReader("x"))
	ada.want(403, "DELETE", "/garden/store", nil)
	ada.want(403, "MOVE", "/garden/store", nil, "Destination", e.Gateway+"/garden/elsewhere")
	ada.want(200, "GET", ledger, nil)
}

func testGatewayPermissions(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	const minutes = "/garden/papers/quiet/2026/spring/ledger.csv"
	ada.want(200, "GET", minutes, nil)
	ben.want(403, "GET", minutes, nil)
	ben.want(403, "PUT", "/garden/papers/quiet/ben.txt", strings.NewReader("x"))
	ben.want(403, "DELETE", minutes, nil)
	ben.want(200, "GET", ledger, nil)
	wrong := davClient{t, e.Gateway, "ada", "wrong"}
	if a := wrong.want(401, "GET", ledger, nil); !strings.HasPrefix(a.header.Get("WWW-Authenticate"), "Basic") {
		t.Errorf("headers %v", a.header)
	}
	wrong.want(401, "PROPFIND", "/garden/", nil, "Depth", "1")
	response, err := http.Get(e.Gateway + ledger)
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	if response.StatusCode != 401 {
		t.Errorf("without an account: %d", response.StatusCode)
	}
	ada.want(200, "GET", minutes, nil) // others' failures do not lock ada out
}

// testLocks: a locked file is written by the holder of the lock alone.
func testLocks(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	const path = "/garden/store/locked.txt"
	ada.want(201, "PUT", path, strings.NewReader("free"))
	a := ada.want(200, "LOCK", path, strings.NewReader(`<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockinfo>`), "Timeout", "Second-60")
	token := a.header.Get("Lock-Token")
	ben.want(423, "PUT", path, strings.NewReader("ben's"))
	ben.want(423, "DELETE", path, nil)
	ada.want(204, "PUT", path, strings.NewReader("ada's"), "If", "("+token+")")
	if got := ben.want(200, "GET", path, nil).body; string(got) != "ada's" {
		t.Errorf("the locked file holds %q", got)
	}
	ada.want(204, "UNLOCK", path, nil, "Lock-Token", token)
	ben.want(204, "DELETE", path, nil)
}

func testConditions(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	const path = "/garden/store/conditions.txt"
	ada.want(201, "PUT", path, strings.NewReader("one"))
	first := ada.want(200, "GET", path, nil).header.Get("Etag")
	ada.want(204, "PUT", path, strings.NewReader("three"))
	second := ada.want(200, "HEAD", path, nil)
	if second.header.Get("Etag") == first || second.header.Get("Content-Length") != "5" || len(second.body) > 0 {
		t.Errorf("after a change: %v", second.header)
	}
	ada.want(200, "GET", path, nil, "If-None-Match", first)
	ada.want(412, "GET", path, nil, "If-Match", first)
	ada.want(416, "GET", path, nil, "Range", "bytes=100-200")
	if tail := ada.want(206, "GET", path, nil, "Range", "bytes=-2"); string(tail.body) != "ee" {
		t.Errorf("the last two bytes are %q", tail.body)
	}
	if whole := ada.want(200, "GET", path, nil, "Range", "bytes=0-1", "If-Range", first); string(whole.body) != "three" {
		t.Errorf("a range of an old version gives %q", whole.body)
	}
	ada.want(412, "COPY", path, nil, "Destination", e.Gateway+ledger, "Overwrite", "F")
	ada.want(204, "DELETE", path, nil)
	ada.want(404, "DELETE", path, nil)
}

// testCrowd: many people read and write at once, and each gets what is theirs.
func testCrowd(t *testing.T, e *harness.Estate) {
	var group sync.WaitGroup
	for i := range 24 {
		account := []string{"ada", "ben", "warden"}[i%3]
		group.Go(func() {
			who := person(t, e, account)
			path := fmt.Sprintf("/garden/store/crowd-%d.bin", i)
			want := bytes.Repeat([]byte{byte(i)}, 300_000+i)
			if a := who.do("PUT", path, bytes.NewReader(want)); a.status != 201 {
				t.Errorf("%s writes %s: %d %s", account, path, a.status, a.body)
			}
			if a := who.do("GET", path, nil); a.status != 200 || !bytes.Equal(a.body, want) {
				t.Errorf("%s reads %s: %d, %d bytes", account, path, a.status, len(a.body))
			}
			if a := who.do("GET", ledger, nil); a.status != 200 || !bytes.Equal(a.body, harness.Ledger) {
				t.Errorf("%s reads the ledger: %d, %d bytes", account, a.status, len(a.body))
			}
		})
	}
	group.Wait()
}

// testTornUploads: a sender that goes away leaves nothing, and what was there stays.
func testTornUploads(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	before := ada.want(200, "GET", ledger, nil).body
	broken := io.MultiReader(bytes.NewReader(bytes.Repeat([]byte("x"), 3<<20)), iotest.ErrReader(errors.New("line cut")))
	if a := ada.do("PUT", ledger, broken); a.status >= 200 && a.status < 300 {
		t.Errorf("a torn upload is called done: %d", a.status)
	}
	ada.do("PUT", "/garden/store/torn.bin", io.MultiReader(bytes.NewReader(make([]byte, 2<<20)), iotest.ErrReader(errors.New("line cut"))))
	if after := ada.want(200, "GET", ledger, nil).body; !bytes.Equal(before, after) {
		t.Errorf("%d bytes became %d", len(before), len(after))
	}
	ada.want(404, "GET", "/garden/store/torn.bin", nil)
}

func testGatewayListing(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	for path, names := range map[string][]string{"/": {"/garden/"}, "/garden/": {"/garden/papers/", "/garden/store/"}, "/garden/store/2026/": {"/garden/store/2026/spring/"}} {
		a := ada.want(207, "PROPFIND", path, nil, "Depth", "1")
		for _, name := range names {
			if !strings.Contains(string(a.body), "<D:href>"+name+"</D:href>") {
				t.Errorf("PROPFIND %s lacks %s: %s", path, name, a.body)
			}
		}
		if strings.Contains(string(a.body), ".bspan") {
			t.Errorf("PROPFIND %s shows the engine's own files", path)
		}
	}
}

// testFailover: when the first location does not answer the next serves the
// same bytes, and the response says which and why; then the first is back.
// testBrowsing opens folders in a web browser: names are what they are, whatever
// is in them, and nobody sees more than the file server shows them.
func testBrowsing(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	const odd = `50% & more; 'quoted' #1`
	ada.want(http.StatusCreated, "PUT", "/garden/store/2026/"+url.PathEscape(odd), strings.NewReader("odd"))
	top := ada.want(http.StatusOK, "GET", "/garden/", nil)
	if text := string(top.body); !strings.Contains(text, `<a href="./store/">store/</a>`) || !strings.Contains(top.header.Get("Content-Security-Policy"), "default-src 'none'") || !strings.HasPrefix(top.header.Get("Content-Type"), "text/html") {
		t.Errorf("%v\n%s", top.header, text)
	}
	inner := string(ada.want(http.StatusOK, "GET", "/garden/store/2026/", nil).body)
	if !strings.Contains(inner, "50% &amp; more; &#39;quoted&#39; #1") || !strings.Contains(inner, `href="./spring/"`) || strings.Contains(inner, ".bspan") {
		t.Errorf("%s", inner)
	}
	link := regexp.MustCompile(`href="\./(50%25[^"]*)"`).FindStringSubmatch(inner)
	if link == nil {
		t.Fatalf("no link to the odd name in %s", inner)
	}
	if a := ada.want(http.StatusOK, "GET", "/garden/store/2026/"+html.UnescapeString(link[1]), nil); string(a.body) != "odd" {
		t.Errorf("behind the link: %q", a.body)
	}
	if a := ada.want(http.StatusOK, "GET", "/garden/store", nil); !strings.Contains(string(a.body), "2026/") { // by way of a redirect
		t.Errorf("without a slash: %s", a.body)
	}
	if a := ada.want(http.StatusOK, "HEAD", "/garden/store/", nil); len(a.body) != 0 {
		t.Errorf("HEAD answers %q", a.body)
	}
	ben.want(http.StatusForbidden, "GET", "/garden/papers/quiet/", nil)
	davClient{t, e.Gateway, "ada", "wrong"}.want(http.StatusUnauthorized, "GET", "/garden/", nil)
	ada.want(http.StatusNoContent, "DELETE", "/garden/store/2026/"+url.PathEscape(odd), nil)
}

// testHiding: under a namespace that hides, people see what they may open, and
// what only others may open is as if it were not there; no one gains by it.
func testHiding(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	lists := func(d davClient, path string) string {
		return string(d.want(http.StatusMultiStatus, "PROPFIND", path, nil, "Depth", "1").body)
	}
	if !strings.Contains(lists(ben, "/garden/papers/"), "quiet") {
		t.Error("a namespace that does not hide hides")
	}
	hide := func(hiding bool) {
		if _, err := e.API.EditNamespace(t.Context(), "garden", model.EditNamespace{Hiding: &hiding}); err != nil {
			t.Fatal(err)
		}
	}
	hide(true)
	defer hide(false)
	if top := lists(ben, "/garden/"); !strings.Contains(top, "store") || strings.Contains(top, "papers") {
		t.Errorf("ben, who may not open papers/quiet, sees %s", top)
	}
	if inner := lists(ben, "/garden/papers/"); strings.Contains(inner, "quiet") {
		t.Errorf("ben sees %s", inner)
	}
	ben.want(http.StatusForbidden, "PROPFIND", "/garden/papers/quiet/", nil, "Depth", "1")
	if top := lists(ada, "/garden/"); !strings.Contains(top, "store") || !strings.Contains(top, "papers") || !strings.Contains(lists(ada, "/garden/papers/"), "quiet") {
		t.Errorf("ada, who may open it, sees %s", top)
	}
}

func testFailover(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	before := ada.want(200, "GET", ledger, nil)
	e.Oak.Halt()
	after := ada.want(200, "GET", ledger, nil)
	if !bytes.Equal(before.body, after.body) {
		t.Errorf("%d bytes, then %d", len(before.body), len(after.body))
	}
	if after.header.Get("Bspan-Location") != "elm/store" || !strings.Contains(after.header.Get("Bspan-Passed-Over"), "oak/store (server does not answer)") {
		t.Errorf("headers %v", after.header)
	}
	ada.want(503, "GET", "/garden/papers/quiet/2026/spring/ledger.csv", nil)
	if err := e.Oak.Restart(); err != nil {
		t.Fatal(err)
	}
	if _, err := e.API.CheckServer(t.Context(), "oak"); err != nil {
		t.Fatal(err)
	}
	if again := ada.want(200, "GET", ledger, nil); again.header.Get("Bspan-Location") != "oak/store" {
		t.Errorf("after the restart: %v", again.header)
	}
}
