package e2e

import (
	"encoding/xml"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

// multistatus is an answer about several resources, as an XML reader sees it.
type multistatus struct {
	Responses []struct {
		Href   string `xml:"DAV: href"`
		Status string `xml:"DAV: status"`
		Stats  []struct {
			Status string `xml:"DAV: status"`
			Prop   struct {
				All []property `xml:",any"`
			} `xml:"DAV: prop"`
		} `xml:"DAV: propstat"`
	} `xml:"DAV: response"`
}

type property struct {
	XMLName xml.Name
	Lang    string `xml:"http://www.w3.org/XML/1998/namespace lang,attr"`
	Inner   string `xml:",innerxml"`
}

func (d davClient) asks(method, path, body string, headers ...string) multistatus {
	d.t.Helper()
	a := d.want(http.StatusMultiStatus, method, path, strings.NewReader(body), headers...)
	var m multistatus
	if err := xml.Unmarshal(a.body, &m); err != nil {
		d.t.Fatalf("%s %s: %v in %s", method, path, err, a.body)
	}
	return m
}

// property finds one property of the first resource with its status.
func (m multistatus) property(space, local string) (status, inner string, p property) {
	for _, r := range m.Responses[:min(1, len(m.Responses))] {
		for _, s := range r.Stats {
			for _, p := range s.Prop.All {
				if p.XMLName == (xml.Name{Space: space, Local: local}) {
					return strings.TrimPrefix(s.Status, "HTTP/1.1 "), p.Inner, p
				}
			}
		}
	}
	return "", "", property{}
}

func propfind(props string) string {
	return `<?xml version="1.0"?><D:propfind xmlns:D="DAV:"><D:prop>` + props + `</D:prop></D:propfind>`
}

func update(steps string) string {
	return `<?xml version="1.0"?><D:propertyupdate xmlns:D="DAV:" xmlns:g="urn:garden" xml:lang="la">` + steps + `</D:propertyupdate>`
}

// testProperties: what clients keep at files stays what it is, under prefixes of ours, goes
// along when they are copied and moved, and goes with them.
func testProperties(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	const path = "/garden/store/kept/a.txt"
	ada.want(201, "MKCOL", "/garden/store/kept", nil)
	ada.want(201, "PUT", path, strings.NewReader("x"))
	set := update(`<D:set><D:prop><g:bed>7</g:bed><g:list><g:name xmlns:x="urn:x" x:y="1">Viola</g:name> &amp; more</g:list></D:prop></D:set>`)
	if status, _, _ := ada.asks("PROPPATCH", path, set).property("urn:garden", "bed"); status != "200 OK" {
		t.Errorf("set: %s", status)
	}
	ask := propfind(`<g:bed xmlns:g="urn:garden"/><g:list xmlns:g="urn:garden"/><g:none xmlns:g="urn:garden"/>`)
	check := func(who davClient, path string) {
		t.Helper()
		m := who.asks("PROPFIND", path, ask, "Depth", "0")
		if status, inner, p := m.property("urn:garden", "bed"); status != "200 OK" || inner != "7" || p.Lang != "la" {
			t.Errorf("%s: bed %s %q %q", path, status, inner, p.Lang)
		}
		if status, inner, _ := m.property("urn:garden", "list"); status != "200 OK" || !strings.Contains(inner, `<n0:name n1:y="1">Viola</n0:name> &amp; more`) {
			t.Errorf("%s: list %s %q", path, status, inner)
		}
		if status, _, _ := m.property("urn:garden", "none"); status != "404 Not Found" {
			t.Errorf("%s: none %s", path, status)
		}
	}
	check(ada, path)
	check(ben, path)
	ada.want(201, "COPY", "/garden/store/kept", nil, "Destination", e.Gateway+"/garden/store/copied")
	check(ada, "/garden/store/copied/a.txt")
	ada.want(201, "MOVE", "/garden/store/copied", nil, "Destination", e.Gateway+"/garden/store/moved")
	check(ada, "/garden/store/moved/A.TXT") // names are the same in any case
	ada.want(204, "DELETE", "/garden/store/moved", nil)
	ada.want(201, "MKCOL", "/garden/store/moved", nil)
	ada.want(201, "PUT", "/garden/store/moved/a.txt", strings.NewReader("another"))
	if status, _, _ := ada.asks("PROPFIND", "/garden/store/moved/a.txt", ask, "Depth", "0").property("urn:garden", "bed"); status != "404 Not Found" {
		t.Errorf("a new file has the properties of one that is gone: %s", status)
	}
	// All or nothing: one that cannot be set keeps the others from it.
	m := ada.asks("PROPPATCH", path, update(`<D:set><D:prop><g:bed>8</g:bed><D:getetag>mine</D:getetag></D:prop></D:set>`))
	if status, _, _ := m.property("DAV:", "getetag"); status != "403 Forbidden" {
		t.Errorf("an entity tag was set: %s", status)
	}
	if status, _, _ := m.property("urn:garden", "bed"); status != "424 Failed Dependency" {
		t.Errorf("the others: %s", status)
	}
	check(ada, path)
	// Windows tells the time of a file in a property: the file has it then.
	at := time.Date(2024, 2, 29, 12, 30, 0, 0, time.UTC)
	ada.asks("PROPPATCH", path, update(`<D:set><D:prop><Win32LastModifiedTime xmlns="urn:windows">`+at.Format(http.TimeFormat)+`</Win32LastModifiedTime></D:prop></D:set>`))
	if entry, err := harness.Tree(t, e.Oak, "store").Stat(t.Context(), "kept/a.txt"); err != nil || !entry.Modified.Equal(at) {
		t.Errorf("the file is of %s, %v", entry.Modified, err)
	}
	// Bounds, and bad documents.
	if status, _, _ := ada.asks("PROPPATCH", path, update(`<D:set><D:prop><g:bed>`+strings.Repeat("x", 600_000)+`</g:bed></D:prop></D:set>`)).property("urn:garden", "bed"); status != "507 Insufficient Storage" {
		t.Errorf("a very long property: %s", status)
	}
	for _, bad := range []string{"", "<", update(""), `<!DOCTYPE x [<!ENTITY a "b">]>` + set[len(`<?xml version="1.0"?>`):], strings.Repeat("<a>", 200)} {
		ada.want(400, "PROPPATCH", path, strings.NewReader(bad))
	}
	ada.want(404, "PROPPATCH", "/garden/store/kept/none", strings.NewReader(set))
	ada.want(403, "PROPPATCH", "/garden/", strings.NewReader(set))
	ben.want(403, "PROPPATCH", "/garden/papers/quiet/2026/spring/ledger.csv", strings.NewReader(set))
	ben.want(403, "LOCK", "/garden/papers/quiet/2026/spring/ledger.csv", strings.NewReader(exclusive))
	ada.asks("PROPPATCH", path, update(`<D:remove><D:prop><g:bed/><g:list/></D:prop></D:remove>`))
	if status, _, _ := ada.asks("PROPFIND", path, ask, "Depth", "0").property("urn:garden", "bed"); status != "404 Not Found" {
		t.Errorf("removed: %s", status)
	}
	ada.want(204, "DELETE", "/garden/store/kept", nil)
	ada.want(204, "DELETE", "/garden/store/moved", nil)
}

// testLiveProperties: what files and folders are by themselves, and how much
// room there is.
func testLiveProperties(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	m := ada.asks("PROPFIND", ledger, "", "Depth", "0")
	for name, want := range map[string]string{"getcontentlength": strconv.Itoa(len(harness.Ledger)), "displayname": "ledger.csv", "getcontenttype": "text/csv; charset=utf-8", "getlastmodified": "Sun, 01 Mar 2026 08:00:00 GMT", "resourcetype": "", "lockdiscovery": ""} {
		if status, inner, _ := m.property("DAV:", name); status != "200 OK" || inner != want {
			t.Errorf("%s: %s %q", name, status, inner)
		}
	}
	if status, _, _ := m.property("DAV:", "quota-available-bytes"); status != "" {
		t.Error("the quota is given unasked") // RFC 4331, section 3
	}
	m = ada.asks("PROPFIND", "/garden/store/", propfind("<D:quota-available-bytes/><D:quota-used-bytes/><D:getcontentlength/>"), "Depth", "0")
	space, err := harness.Tree(t, e.Oak, "store").Space(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]int64{"quota-available-bytes": space.Free, "quota-used-bytes": space.Total - space.Free} {
		status, inner, _ := m.property("DAV:", name)
		got, _ := strconv.ParseInt(inner, 10, 64)
		if status != "200 OK" || got < want-want/5 || got > want+want/5+1<<30 { // others use the volume as well
			t.Errorf("%s: %s %s, the server says %d", name, status, inner, want)
		}
	}
	if status, _, _ := m.property("DAV:", "getcontentlength"); status != "404 Not Found" {
		t.Errorf("the length of a folder: %s", status)
	}
	names := ada.asks("PROPFIND", ledger, `<propfind xmlns="DAV:"><propname/></propfind>`, "Depth", "0")
	if status, inner, _ := names.property("DAV:", "getetag"); status != "200 OK" || inner != "" {
		t.Errorf("the names alone: %s %q", status, inner)
	}
	ada.want(403, "PROPFIND", "/garden/store/", nil)
	ada.want(400, "PROPFIND", "/garden/store/", nil, "Depth", "2")
	ada.want(405, "PATCH", ledger, nil)
}

// testTransfers: between locations too, and what cannot be done is told for
// each thing by itself.
func testTransfers(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	to := func(path string) []string { return []string{"Destination", e.Gateway + path} }
	ada.want(201, "MKCOL", "/garden/store/tour", nil)
	for i := range 3 {
		ada.want(201, "PUT", fmt.Sprintf("/garden/store/tour/%d.txt", i), strings.NewReader(strings.Repeat("t", i)))
	}
	ada.want(201, "MOVE", "/garden/store/tour", nil, to("/garden/papers/quiet/tour")...)
	ada.want(404, "GET", "/garden/store/tour/", nil)
	if got := ada.want(200, "GET", "/garden/papers/quiet/tour/2.txt", nil).body; string(got) != "tt" {
		t.Errorf("moved to another location: %q", got)
	}
	ben.want(403, "COPY", "/garden/papers/quiet/tour", nil, to("/garden/store/bens")...)
	ben.want(403, "COPY", ledger, nil, to("/garden/papers/quiet/bens.csv")...)
	ada.want(403, "COPY", "/garden/papers/quiet/tour", nil, to("/garden/papers/quiet/tour/inside")...)
	ada.want(403, "COPY", "/garden/papers/quiet/tour", nil, to("/garden/papers/quiet/tour")...)
	ada.want(409, "COPY", "/garden/papers/quiet/tour", nil, to("/garden/store/no/such/folder")...)
	ada.want(400, "COPY", "/garden/papers/quiet/tour", nil)
	ada.want(502, "COPY", "/garden/papers/quiet/tour", nil, "Destination", "http://elsewhere.test/garden/store/tour")
	ada.want(403, "COPY", "/garden/papers/quiet/tour", nil, to("/garden/store/.bspan-x")...)
	ada.want(403, "COPY", "/garden/papers/quiet/tour", nil, to("/garden/mine")...)
	ada.want(201, "MOVE", "/garden/papers/quiet/tour/1.txt", nil, to("/garden/papers/quiet/tour/One.txt")...)
	ada.want(201, "MOVE", "/garden/papers/quiet/tour/One.txt", nil, to("/garden/papers/quiet/tour/ONE.txt")...)
	if names := atServer(t, harness.Tree(t, e.Oak, "quiet"), "tour"); len(names) != 3 || names["ONE.txt"] == nil {
		t.Errorf("after a rename in case alone: %d names", len(names))
	}
	testSameFiles(t, e)
	testReplaced(t, e)
	// A locked file keeps its folder from going.
	token := ada.want(200, "LOCK", "/garden/papers/quiet/tour/0.txt", strings.NewReader(exclusive)).header.Get("Lock-Token")
	ada.want(423, "DELETE", "/garden/papers/quiet/tour", nil)
	ada.want(423, "MOVE", "/garden/papers/quiet/tour", nil, to("/garden/papers/quiet/elsewhere")...)
	ada.want(412, "DELETE", "/garden/papers/quiet/tour", nil, "If", "(<urn:uuid:0>)")
	ada.want(400, "DELETE", "/garden/papers/quiet/tour", nil, "If", "nonsense")
	ada.want(204, "DELETE", "/garden/papers/quiet/tour", nil, "If", "<"+e.Gateway+"/garden/papers/quiet/tour/0.txt> ("+token+")")
	ada.want(201, "PUT", "/garden/store/once.txt", strings.NewReader("1"), "If-None-Match", "*")
	ada.want(412, "PUT", "/garden/store/once.txt", strings.NewReader("2"), "If-None-Match", "*")
	ada.want(412, "PUT", "/garden/store/once.txt", strings.NewReader("2"), "If-Match", `"x"`)
	ada.want(400, "PUT", "/garden/store/once.txt", strings.NewReader("2"), "Content-Range", "bytes 0-0/2")
	ada.want(405, "PUT", "/garden/store/2026", strings.NewReader("2"))
	ada.want(204, "DELETE", "/garden/store/once.txt", nil)
}

// testSameFiles: two signposts may lead to the same files. What is moved or
// copied from one to the other stays what it is, and its properties too when it
// is only written in other case.
func testSameFiles(t *testing.T, e *harness.Estate) {
	ada := person(t, e, "ada")
	lead := func(name string, to model.NewLocation) {
		t.Helper()
		if _, err := e.API.AddEntry(t.Context(), "garden", model.NewEntry{Path: name, Kind: namespace.Signpost, Locations: []model.NewLocation{to}}); err != nil {
			t.Fatal(err)
		}
	}
	lead("again", model.NewLocation{Server: "oak", Share: "store", Sub: "2026"})
	ada.want(201, "MKCOL", "/garden/again/twice", nil) // the gateway knows it by now
	ada.want(201, "PUT", "/garden/again/twice/a.txt", strings.NewReader("a"))
	// The same folder by a share of its own, which the names do not show.
	if _, err := e.API.CreateShare(t.Context(), "oak", model.NewShare{Name: "season", Path: "store:2026/twice"}); err != nil {
		t.Fatal(err)
	}
	lead("season", model.NewLocation{Server: "oak", Share: "season"})
	for _, method := range []string{"MOVE", "COPY"} {
		for _, way := range [][2]string{
			{"/garden/store/2026/twice", "/garden/again/twice"},
			{"/garden/again/twice/a.txt", "/garden/store/2026/twice/a.txt"},
			{"/garden/store/2026", "/garden/again/twice/deeper"},
			{"/garden/again/twice", "/garden/store/2026"},
			{"/garden/store/2026/twice/a.txt", "/garden/season/a.txt"},
			{"/garden/season/a.txt", "/garden/store/2026/twice"},
			{"/garden/store/2026/twice", "/garden/season/deeper"},
		} {
			ada.want(403, method, way[0], nil, "Destination", e.Gateway+way[1])
		}
	}
	if got := ada.want(200, "GET", "/garden/store/2026/twice/a.txt", nil).body; string(got) != "a" {
		t.Errorf("after moving it onto itself: %q", got)
	}
	ada.asks("PROPPATCH", "/garden/again/twice/a.txt", update(`<D:set><D:prop><g:bed>7</g:bed></D:prop></D:set>`))
	ada.want(201, "MOVE", "/garden/again/twice/a.txt", nil, "Destination", e.Gateway+"/garden/again/twice/A.txt")
	if status, _, _ := ada.asks("PROPFIND", "/garden/again/twice/A.txt", propfind(`<g:bed xmlns:g="urn:garden"/>`), "Depth", "0").property("urn:garden", "bed"); status != "200 OK" {
		t.Errorf("after a rename in case alone its property is %s", status)
	}
	ada.want(207, "COPY", "/garden/store/2026", nil, "Destination", e.Gateway+"/garden/season/whole") // all but itself
	ada.want(404, "GET", "/garden/season/whole/twice", nil)
	ada.want(204, "DELETE", "/garden/season/whole", nil)
	ada.want(204, "DELETE", "/garden/again/twice", nil)
	for _, name := range []string{"again", "season"} {
		entry, err := e.API.EntryAt(t.Context(), "garden", name)
		if err == nil {
			err = e.API.RemoveEntry(t.Context(), "garden", entry)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// testReplaced: a folder that is to be replaced by one that cannot be copied
// whole is as it was afterwards; one that can is replaced.
func testReplaced(t *testing.T, e *harness.Estate) {
	ada, ben := person(t, e, "ada"), person(t, e, "ben")
	for _, folder := range []string{"from", "onto"} {
		ada.want(201, "MKCOL", "/garden/store/"+folder, nil)
		ada.want(201, "PUT", "/garden/store/"+folder+"/"+folder+".txt", strings.NewReader(folder))
	}
	ada.want(201, "PUT", "/garden/store/from/secret.txt", strings.NewReader("not for ben"))
	closed, err := acl.Parse("O:BAG:BAD:PAI(A;;FA;;;BA)(A;;0x1301bf;;;" + e.Oak.SID + "-2001)")
	if err != nil {
		t.Fatal(err)
	}
	store := harness.Tree(t, e.Oak, "store")
	if err := store.Apply(t.Context(), "from/secret.txt", tree.Meta{Descriptor: closed}); err != nil {
		t.Fatal(err)
	}
	onto := []string{"Destination", e.Gateway + "/garden/store/onto"}
	if a := ben.want(207, "COPY", "/garden/store/from", nil, onto...); !strings.Contains(string(a.body), "/garden/store/from/secret.txt") {
		t.Errorf("what could not be copied is not told: %s", a.body)
	}
	if got := atServer(t, store, "onto"); len(got) != 1 || string(got["onto.txt"]) != "onto" {
		t.Errorf("after a copy that failed there are %q", slices.Sorted(maps.Keys(got)))
	}
	ada.want(204, "COPY", "/garden/store/from", nil, onto...)
	if got := atServer(t, store, "onto"); len(got) != 2 || string(got["from.txt"]) != "from" {
		t.Errorf("after a copy there are %q", slices.Sorted(maps.Keys(got)))
	}
	ada.want(204, "MOVE", "/garden/store/from", nil, onto...)
	for entry, err := range store.List(t.Context(), ".", tree.Plain) {
		if err != nil || tree.Reserved(entry.Name) {
			t.Errorf("left behind: %s, %v", entry.Name, err)
		}
	}
	ada.want(204, "DELETE", "/garden/store/onto", nil)
}
