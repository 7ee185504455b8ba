package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/core/text"
	"bridgespan/model"
)

// service is a stand-in for the service: it answers each call with what is
// written down for it, and keeps what it was asked to change.
type service struct {
	*httptest.Server
	answers map[string]string // by method and path
	sent    []string          // method, address and body of every change
}

const (
	storeEntry  = `{"id":7,"path":"store","kind":"signpost","version":3,"letter":"K","locations":[{"id":11,"server":"oak","share":"store","site":"Lowland","state":"open","rank":"normal","weight":1},{"id":12,"server":"elm","share":"store","site":"Upland","state":"held","why":"not verified yet","rank":"normal","weight":1}]}`
	gardenSpace = `{"name":"garden","ttl":300,"returns":"at-once","hiding":false,"folders":1,"signposts":2,"version":4}`
	aRun        = `{"id":5,"kind":"who-can","subject":"oak/store","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","workedMs":1000,"done":20,"bytes":0,"fraction":1,"rate":20}`
	oakServer   = `{"name":"oak","site":"Lowland","address":"oak.test","port":445,"account":"warden","version":2}`
)

const reedServer = `{"name":"reed","kind":"mover","site":"Upland","address":"reed.test","port":8620,"account":"","certificate":"abab","version":1}`

const bedsSet = `{"name":"beds","layout":"mesh","calendar":"full","filter":{},"permissions":"carry","atticDays":60,"retry":{"firstS":5,"mostS":600,"alertAfter":10},"alerts":[{"kind":"silent","about":"elm","found":"it was not looked at","means":"changes are not seen","remedy":"look"}],"paused":false,"state":"steady","summary":"All 2 replicas hold the same.","created":"2026-11-01T10:00:00Z","version":3,
	"replicas":[{"name":"oak","server":"oak","share":"store","seed":true,"state":"steady","words":"looked at","attic":{"items":0,"conflicts":0}},{"name":"elm","server":"elm","share":"store","state":"steady","words":"looked at","attic":{"items":1,"conflicts":1,"lastConflict":"2026-11-01T10:00:00Z"}},{"name":"ash","server":"ash","share":"store","state":"steady","words":"looked at","attic":{"items":0,"conflicts":0},"removals":{"since":"2026-11-01T10:00:00Z","items":4,"files":3,"bytes":2048,"of":10,"examples":["a/1.txt","a/2.txt"]}}],
	"lanes":[{"from":"oak","to":"elm","state":"closed","words":"closed by hand; 2 paths wait","backlog":{"files":2,"bytes":2048},"carried":{"files":9,"bytes":4096,"conflicts":1}}]}`

const (
	bedsVerified = `{"run":{"id":5,"kind":"verify-set","subject":"beds","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","done":9,"fraction":1},"set":"beds","level":"full","against":"oak","verdict":"Not all replicas hold what oak holds.","replicas":[{"replica":"elm","counts":{"compared":9,"missing":1},"read":1024,"differences":[]}]}`
	bedsProbe    = `{"run":{"id":5,"kind":"probe","subject":"beds","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","fraction":1},"set":"beds","from":"oak","arrivals":[{"replica":"elm","contentMs":1500,"foretoldMs":2500}]}`
	bedsJob      = `{"id":3,"kind":"probe","subject":"beds","settings":"{}","rule":"every 6h","enabled":true,"who":"ivy","created":"2026-11-01T10:00:00Z","next":"2026-11-01T16:00:00Z","version":2}`
)

const (
	bedsMade = `{"run":{"id":5,"kind":"create-set","subject":"beds","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","fraction":1},"set":"beds","steps":[{"text":"Make the folder elm/store.","state":"done","found":"it is there already, and stays as it is"},{"text":"Write down the set beds.","state":"done"},{"text":"Mark elm/store.","state":"awaited","found":"not picked up yet; the lane from oak is closed until Mon 19:00"}]}`
	treesMap = `{"name":"trees","rules":["oak\\* = elm\\*"],"sets":1,"version":3}`
)

// scansUses are the accounts in use of a cloud set.
const scansUses = `{"run":` + aRun + `,"set":"scans","read":"oak","looked":1,"accounts":[{"sid":"S-1-5-21-1-2-3-4","name":"oak\\scanners","reach":"local","uses":15,"example":"Retouched","there":[{"replica":"oak","server":"oak","name":"oak\\scanners","known":true},{"replica":"sedge","server":"island","name":"S-1-5-21-1-2-3-4","known":false}],"effect":"a SID","remedy":"pair it"}]}`

// scansSet is a cloud set.
const scansSet = `{"name":"scans","layout":"hub","calendar":"full","filter":{},"permissions":"none","atticDays":60,"retry":{"firstS":5,"mostS":600,"alertAfter":10},"paused":false,"state":"steady","summary":"All the same.","created":"2026-11-01T10:00:00Z","version":3,"lanes":[],
	"replicas":[{"name":"haar","server":"haar","share":"scans","swept":true,"state":"steady","words":"scanned","attic":{"items":0,"conflicts":0}},
	{"name":"sedge","server":"sedge","share":"scans","state":"steady","words":"looked at","attic":{"items":0,"conflicts":0},"edge":{"fill":"names","freePercent":30,"unusedDays":90,"keepNewest":1073741824,"never":["*.accdb"]},"edgeFigures":{"at":"2026-11-01T10:00:00Z","whole":2,"wholeBytes":2048,"stubs":7,"stubBytes":9000,"total":100000,"free":28000,"line":30000,"short":2048}},
	{"name":"elm","server":"elm","share":"scans","state":"steady","words":"looked at","attic":{"items":0,"conflicts":0}}]}`

// gardenFront is a front that answers, and whose check found something.
const gardenFront = `{"server":"reed","share":"garden","namespace":"garden","site":"Upland","host":"reed.test","comment":"The garden","leaveOutFailing":false,"checkAccount":"ada","state":"current","folders":1,"links":2,"written":"2026-11-01T10:00:00Z","caughtUp":"2026-11-01T10:00:00Z","caughtUpChanges":3,"foreign":["mine.txt"],"leftOut":[{"path":"/garden/old","why":"elm/old: held: by hand"}],"check":` + gardenCheck + `,"version":2}`

const gardenCheck = `{"at":"2026-11-01T10:00:00Z","tookMs":12,"outcome":"warn","lines":[{"severity":"warn","code":"refused","subject":"/garden/store","found":"ada may not open elm/store","meaning":"they are refused there","remedy":"grant them something"}]}`

const gardenFrontPlan = `{"front":` + gardenFront + `,"checks":[{"severity":"pass","code":"name","found":"a file service answers"}],"lines":["[garden]"],"steps":[{"text":"make the folder /srv/fronts/garden","state":"planned"}],"rehearsed":true}`

const bedsPlan = `{"run":` + aRun + `,"asked":{"name":"beds","replicas":[]},"summary":"beds keeps 1 file the same.","outcome":"warn","checks":[{"name":"clock","outcome":"warn","found":"elm is late","means":"the wrong one may win","remedy":"set it"}],"places":[],
	"layouts":[{"layout":"mesh","asked":true,"filled":"2026-11-01T10:00:00Z","endless":false,"fills":[{"replica":"elm","from":"oak","bytes":1024,"start":"2026-11-01T10:00:00Z","end":"2026-11-01T10:00:00Z","medianS":60,"p95S":120}],"lanes":[]}],"steps":["Look at all."],"costs":{"currency":"EUR","storedBytes":4096,"stored":0.02,"fillBytes":1024,"fill":0.001,"monthlyBytes":2048,"monthly":1234.5},"canCreate":true}`

func startService(t *testing.T) *service {
	t.Helper()
	s := &service{answers: map[string]string{
		"GET /fronts":                                      `{"keeping":"People's machines keep it.","fronts":[` + gardenFront + `]}`,
		"POST /fronts":                                     gardenFrontPlan,
		"GET /fronts/reed/garden":                          gardenFront,
		"PATCH /fronts/reed/garden":                        gardenFront,
		"DELETE /fronts/reed/garden":                       gardenFrontPlan,
		"GET /fronts/reed/garden/connected":                `{"connected":[{"person":"GROVE\\\\ada","machine":"192.0.2.7","since":"2026-11-01T10:00:00Z"}]}`,
		"POST /fronts/reed/garden/check":                   gardenCheck,
		"GET /sites":                                       `{"items":[{"name":"Lowland","servers":2,"note":"by the river","version":1}]}`,
		"POST /sites":                                      `{"name":"Marsh","version":1}`,
		"GET /sites/Marsh":                                 `{"name":"Marsh","version":1}`,
		"PATCH /sites/Marsh":                               `{"name":"Fen","version":2}`,
		"GET /legs":                                        `{"legs":[{"from":"Lowland","to":"Upland","mbit":100,"rttMs":10,"cost":40,"backCost":60,"version":1}]}`,
		"GET /legs/Lowland/Upland":                         `{"from":"Lowland","to":"Upland","mbit":100,"rttMs":10,"cost":40,"backCost":60,"version":1}`,
		"GET /legs/Upland/Lowland":                         `{"from":"Lowland","to":"Upland","mbit":100,"rttMs":10,"cost":40,"backCost":60,"version":1}`,
		"PUT /legs/Lowland/Marsh":                          `{"from":"Lowland","to":"Marsh","mbit":100,"rttMs":10,"cost":40,"version":1}`,
		"PUT /legs/Lowland/Upland":                         `{"from":"Lowland","to":"Upland","mbit":100,"rttMs":10,"cost":40,"version":2}`,
		"GET /servers":                                     `{"items":[` + oakServer + `]}`,
		"GET /servers/oak":                                 oakServer,
		"PATCH /servers/oak":                               oakServer,
		"POST /servers":                                    reedServer,
		"GET /servers/reed":                                reedServer,
		"PATCH /servers/reed":                              reedServer,
		"GET /shares":                                      `{"shares":[{"server":"reed","name":"beds","kind":"disk","hidden":false,"path":"/srv/beds","seen":"2026-11-01T10:00:00Z"}]}`,
		"GET /namespaces":                                  `{"items":[` + gardenSpace + `]}`,
		"GET /namespaces/garden":                           gardenSpace,
		"PATCH /namespaces/garden":                         gardenSpace,
		"GET /namespaces/garden/entries":                   `{"items":[` + storeEntry + `]}`,
		"PATCH /namespaces/garden/entries/7":               storeEntry,
		"POST /namespaces/garden/entries/7/locations":      storeEntry,
		"PATCH /namespaces/garden/entries/7/locations/12":  storeEntry,
		"PATCH /namespaces/garden/entries/7/locations/11":  storeEntry,
		"DELETE /namespaces/garden/entries/7/locations/12": storeEntry,
		"GET /namespaces/garden/lint":                      `{"never":"x","flaws":[{"severity":"warn","code":"not-verified","subject":"/garden/store","found":"elm/store was not verified","meaning":"nobody knows","remedy":"verify it","action":{"do":"verify-location","args":["garden","/garden/store","elm/store"]}},{"severity":"warn","code":"one-location","subject":"/garden/papers","found":"one alone","remedy":"add another"}]}`,
		"POST /namespaces/garden/lint/fix":                 `{"text":"verifying elm/store","run":` + aRun + `}`,
		"GET /namespaces/garden/history":                   `{"items":[{"id":9,"at":"2026-11-01T10:00:00Z","who":"ivy","action":"entry.edit","subject":"/garden/store","words":["note: \"a\" → \"b\""]}]}`,
		"POST /namespaces/garden/return":                   `{"namespace":"garden","rehearsed":true,"created":false,"fingerprint":"abc","settings":[],"steps":[{"kind":"edit-entry","path":"store","text":"change store: note \"a\" instead of \"b\""}]}`,
		"GET /namespaces/garden/mappings":                  `{"for":"ivy","format":"csv","namespace":"garden","mappings":[],"closed":["/garden/papers: ivy may not open it"],"changes":["K: leads elsewhere"],"last":"2026-11-01T10:00:00Z","text":"letter,path\n"}`,
		"GET /namespaces/garden/handouts":                  `{"handouts":[{"for":"ivy","from":"Lowland","at":"2026-11-01T10:00:00Z","who":"warden","changes":["K: leads elsewhere"]}]}`,
		"POST /rights/who-can":                             `{"run":` + aRun + `,"place":{"server":"oak","share":"store","path":"","folder":true},"level":"change","people":[{"account":{"sid":"S-1-5-21-1-2-3-4","name":"GROVE\\ada"},"level":"full","mask":"0x1f01ff","words":[],"file":"full","share":"full","complete":true,"reasons":[{"source":"entry","granted":true,"words":[],"mask":"","entry":1,"text":"entry 1 grants full to keepers"}]}],"able":1,"looked":20,"complete":true}`,
		"GET /rights/who-can/5":                            `{"run":` + aRun + `,"place":{"server":"oak","share":"store","path":"","folder":true},"level":"change","people":[],"able":0,"looked":20,"complete":false,"missing":"the domain GROVE"}`,
		"GET /rights/compare":                              `{"first":{"server":"oak","share":"a","path":"","folder":true},"second":{"server":"oak","share":"b","path":"","folder":true},"share":[],"looked":1,"differ":1,"accounts":[],"differences":[{"path":".","folder":true,"shifts":[{"account":{"sid":"S-1-1-0","name":"Everyone"},"before":"read","after":"full"}]}]}`,
		"GET /replica-sets":                                `{"items":[` + bedsSet + `,` + scansSet + `]}`,
		"GET /replica-sets/beds":                           bedsSet,
		"POST /replica-sets":                               bedsMade,
		"GET /replica-creations/5":                         bedsMade,
		"POST /replica-sets/beds/preview":                  `{"outcome":"warn","checks":[{"name":"attic","outcome":"warn","found":"elm: its attic keeps 2 files","means":"nothing brings them back","remedy":"restore them"}],"follows":["2 lanes are new."]}`,
		"GET /replica-sets/beds/accounts":                  `{"items":[{"replica":"elm","server":"elm","pairs":[{"one":{"sid":"S-1-5-21-1-1-1-1001","name":"oak\\keepers"},"other":{"sid":"S-1-5-21-2-2-2-1001","name":"elm\\wardens"}}],"stale":true}]}`,
		"POST /replica-sets/beds/accounts":                 bedsSet,
		"GET /account-maps":                                `{"items":[` + treesMap + `]}`,
		"GET /account-maps/trees":                          treesMap,
		"POST /account-maps":                               treesMap,
		"PATCH /account-maps/trees":                        treesMap,
		"GET /account-maps/trees/pairs":                    `{"one":"oak","other":"elm","pairs":[{"one":{"sid":"S-1-5-21-1-1-1-1001","name":"oak\\keepers"},"other":{"sid":"S-1-5-21-2-2-2-1001","name":"elm\\wardens"}}],"without":[{"sid":"S-1-5-21-1-1-1-1002","name":"oak\\ada"}],"lacking":["elm\\gone"],"clashing":[],"wider":["elm\\rowan belongs to elm\\wardens, and not to oak\\keepers"]}`,
		"PATCH /replica-sets/beds":                         bedsSet,
		"POST /replica-sets/beds/replicas":                 bedsSet,
		"PATCH /replica-sets/beds/replicas/elm":            bedsSet,
		"PATCH /replica-sets/beds/replicas/ash":            bedsSet,
		"DELETE /replica-sets/beds/replicas/elm":           bedsSet,
		"POST /replica-sets/beds/verify":                   bedsVerified,
		"GET /replica-verifications/5":                     bedsVerified,
		"GET /replica-verifications/5/findings":            `{"items":[{"replica":"elm","path":"2026/gone.txt","kind":"missing"}]}`,
		"GET /replica-sets/beds/verifications":             `{"items":[` + bedsVerified + `]}`,
		"POST /replica-sets/beds/verifications/jobs":       bedsJob,
		"POST /replica-sets/beds/probes":                   bedsProbe,
		"GET /replica-probes/5":                            bedsProbe,
		"GET /replica-sets/beds/probes":                    `{"items":[` + bedsProbe + `]}`,
		"POST /replica-sets/beds/probes/jobs":              bedsJob,
		"GET /jobs":                                        `{"items":[` + bedsJob + `]}`,
		"GET /jobs/3":                                      bedsJob,
		"PATCH /jobs/3":                                    bedsJob,
		"DELETE /jobs/3":                                   `null`,
		"POST /jobs/3/run":                                 aRun,
		"GET /replica-sets/beds/attic/4/comparison":        `{"item":{"id":4,"replica":"elm","path":"Fought over.txt","attic":"x","why":"conflict","at":"2026-11-01T10:00:00Z","size":7},"kept":{"size":7,"modified":"2026-11-01T10:00:00Z","text":"earlier"},"rights":["ada: read before, change now"]}`,
		"PATCH /replica-sets/beds/lanes/oak/elm":           bedsSet,
		"GET /replica-sets/beds/lanes/oak/elm/backlog":     `{"items":[{"path":"2026/Fern.txt","kind":"file","bytes":2048,"since":"2026-11-01T10:00:00Z","tried":3,"nextTry":"2026-11-01T10:05:00Z"},{"path":"new","kind":"folder","bytes":0,"within":12,"since":"2026-11-01T10:00:00Z"}]}`,
		"GET /replica-sets/beds/troubles":                  `{"items":[{"replica":"elm","path":"open.txt","problem":"in use by another program","since":"2026-11-01T10:00:00Z","last":"2026-11-01T10:00:00Z","times":3}]}`,
		"GET /replica-sets/beds/attic":                     `{"items":[{"id":4,"replica":"elm","path":"Fought over.txt","attic":".bspan/attic/x","why":"conflict","at":"2026-11-01T10:00:00Z"}]}`,
		"POST /replica-sets/beds/attic/4/restore":          `{"id":4,"replica":"elm","path":"back.txt","attic":"x","why":"conflict","at":"2026-11-01T10:00:00Z"}`,
		"POST /replica-sets/beds/look":                     `{}`,
		"POST /replica-plans":                              bedsPlan,
		"GET /replica-plans/5":                             bedsPlan,
		"GET /replica-sets/scans":                          scansSet,
		"GET /replica-sets/scans/where":                    `{"path":"a.tif","places":[{"replica":"haar","server":"haar","bucket":true,"content":"whole","current":true,"size":9,"allocated":9},{"replica":"sedge","server":"sedge","content":"stub","current":true,"size":9,"allocated":0,"modified":"2026-11-01T10:00:00Z"}]}`,
		"POST /replica-sets/scans/account-uses":            scansUses,
		"GET /replica-account-uses/5":                      scansUses,
		"GET /replica-sets/scans/account-uses":             `{"items":[` + scansUses + `]}`,
		"GET /replica-sets/beds/account-uses":              `{"items":[]}`,
		"GET /replica-sets/scans/access":                   `{"set":"scans","path":"beds","as":"ivy","same":false,"places":[{"replica":"oak","place":"oak/scans/beds","rights":{"account":{"sid":"S-1-5-21-1-2-3-1000","name":"OAK\\ivy"},"level":"change","file":"change","share":"full","words":[],"mask":"0x1","complete":true,"reasons":[{"text":"entry 1 grants change to OAK\\ivy"}]}},{"replica":"elm","place":"elm/scans/beds","problem":"elm does not answer: start it"}]}`,
		"GET /replica-sets/scans/usage":                    `{"set":"scans","bucket":"haar","since":"2026-11-01T10:00:00Z","files":10,"bytes":1024,"earlier":1,"earlierBytes":1024,"currency":"EUR","stored":12.5,"readAll":0.001,"fullReads":2,"edges":[{"replica":"sedge","carried":2048,"fetched":3,"fetchedBytes":4096,"cost":0.5,"months":[{"month":"2026-11","bytes":5120,"cost":0.4}],"prefetched":{"files":200,"bytes":4096,"used":3,"cost":0.1,"advice":"Few prefetched files were used."}}]}`,
		"GET /replica-sets/scans/attic":                    `{"items":[{"id":7,"replica":"haar","path":"a.tif","attic":"x","why":"replaced","at":"2026-11-01T10:00:00Z","size":9}]}`,
		"POST /replica-sets/scans/attic/7/restore":         `{"id":7,"replica":"haar","path":"a.tif","attic":"x","why":"replaced","at":"2026-11-01T10:00:00Z","size":9}`,
		"POST /replica-sets/scans/verify":                  bedsVerified,
		"GET /replica-sets/scans/arrival":                  `{"set":"scans","madeAt":"haar","at":"2026-03-02T00:00:00Z","size":9,"places":[{"replica":"haar","server":"haar","bucket":true,"present":true,"reasons":["haar is scanned every 6h"]},{"replica":"sedge","server":"sedge","present":false,"onFirstUse":true,"name":{"earliest":"2026-03-02T00:00:00Z","expected":"2026-03-02T03:00:00Z","latest":"2026-03-02T06:00:00Z"},"reasons":[],"probes":1,"measuredMs":4300}]}`,
		"POST /replica-sets/scans/contents":                `{"set":"scans","edge":"sedge","path":"old","files":3,"bytes":3072,"moved":0,"movedBytes":0,"failed":0}`,
		"POST /replica-sets/scans/preview":                 `{"outcome":"pass","checks":[],"follows":["12 files become stubs now, which frees 9 KiB."]}`,
		"PATCH /replica-sets/scans/replicas/sedge":         scansSet,
		"GET /runs":                                        `{"items":[` + aRun + `]}`,
		"GET /runs/5":                                      aRun,
		"POST /runs/5/stop":                                aRun,
		"POST /runs/5/resume":                              aRun,
		"GET /users":                                       `{"items":[{"name":"ivy","role":"operator","version":1}]}`,
		"GET /users/ivy":                                   `{"name":"ivy","role":"operator","version":1}`,
		"POST /users":                                      `{"name":"reed","role":"viewer","version":1}`,
		"PATCH /users/ivy":                                 `{"name":"ivy","role":"viewer","version":2}`,
		"GET /directions":                                  `{"path":"/garden/store","kind":"signpost","signpost":"/garden/store","ttl":300,"returns":"at-once","readAt":"2026-11-01T10:00:00Z","fresh":true,"directions":[],"may":{"account":{"sid":"S-1-5-21-1-2-3-4","name":"GROVE\\ada"},"level":"read","mask":"","words":[],"file":"read","share":"full","complete":true,"reasons":[{"source":"entry","granted":true,"words":[],"mask":"","entry":2,"text":"entry 2 grants read to staff"}]}}`,
		"POST /rights/changes":                             `{"run":` + aRun + `,"asked":{"path":"oak/store","action":"grant"},"place":{"server":"oak","share":"store","path":"","folder":true},"counts":{"planned":2,"done":0,"failed":0,"undone":0,"looked":2},"shifts":[],"objects":[],"canFinish":false,"canUndo":false}`,
		"GET /rights/changes/5":                            `{"run":` + aRun + `,"asked":{"path":"oak/store","action":"grant","rehearse":true},"place":{"server":"oak","share":"store","path":"","folder":true},"counts":{"planned":2,"done":0,"failed":0,"undone":0,"looked":2},"shifts":[],"objects":[],"canFinish":false,"canUndo":false}`,
	}}
	s.Server = httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(s.Close)
	return s
}

func (s *service) serve(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	path := strings.TrimPrefix(r.URL.Path, "/api/v1")
	if r.Method != http.MethodGet {
		s.sent = append(s.sent, strings.TrimSpace(fmt.Sprintf("%s %s %s", r.Method, strings.TrimPrefix(r.URL.RequestURI(), "/api/v1"), body)))
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("ETag", `"3"`)
	if r.URL.Query().Get("rehearse") == "true" && r.Method != http.MethodPost {
		_, _ = io.WriteString(w, `{"rehearsed":true,"changes":[{"id":0,"at":"2026-11-01T10:00:00Z","who":"ivy","action":"thing.remove","subject":"the thing","before":{},"words":[]}]}`)
		return
	}
	answer, known := s.answers[r.Method+" "+path]
	switch {
	case known:
		_, _ = io.WriteString(w, answer)
	case r.Method == http.MethodDelete:
		w.WriteHeader(http.StatusNoContent)
	default:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusNotFound)
		_, _ = io.WriteString(w, `{"title":"Not found","status":404,"detail":"there is no `+path+`","remedy":"look elsewhere"}`)
	}
}

// bspan runs one command, and returns what it writes and how it ends.
func (s *service) bspan(t *testing.T, args ...string) (out string, code int) {
	t.Helper()
	var buffer bytes.Buffer
	app := newApp()
	app.Writer, app.ErrWriter = &buffer, &buffer
	err := app.Run(t.Context(), append([]string{"bspan", "--server", s.URL}, args...))
	if err != nil {
		fmt.Fprintln(&buffer, err)
		code = exitCode(err)
	}
	return buffer.String(), code
}

// Every command asks the service for what it says it does, and shows what it
// was told.
func TestCommands(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	secret := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(secret, []byte("long-enough-password\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args string
		sent string // the last change that the service was asked for
		says string
		code int
	}{
		{"site list", "", "by the river", 0},
		{"site edit Marsh --help", "", "bspan site edit [options]", 0},
		{"site nonsense --help", "", "bspan site [command", 0},
		{"site list --nothing", "", "see: bspan site list --help", 2},
		{"site add Marsh --note wet", `POST /sites {"name":"Marsh","note":"wet"}`, "Marsh", 0},
		{"site edit Marsh --rename Fen", `PATCH /sites/Marsh {"name":"Fen"}`, "Fen", 0},
		{"site remove Marsh", "DELETE /sites/Marsh", "removed site Marsh", 0},
		{"site remove --rehearse Marsh", "DELETE /sites/Marsh?rehearse=true", "Rehearsed only", 0},
		{"site legs", "", "60", 0},
		{"site link --mbit 10 --cost 5 Lowland Marsh", `PUT /legs/Lowland/Marsh {"mbit":10,"rttMs":0,"cost":5}`, "linked at cost", 0},
		{"site link --like Upland/Lowland --rtt 3 Lowland Marsh", `PUT /legs/Lowland/Marsh {"mbit":100,"rttMs":3,"cost":60,"backCost":40}`, "linked", 0},
		{"site link --like Lowland/Upland Lowland Upland Marsh", `PUT /legs/Lowland/Marsh {"mbit":100,"rttMs":10,"cost":40,"backCost":60}`, "Lowland and Upland are linked", 0},
		{"site link Lowland Marsh", "", "speed and cost are needed", 2},
		{"site link --like nowhere Lowland Marsh", "", "names no two sites", 2},
		{"site link Lowland", "", "SITE... is missing", 2},
		{"site unlink Lowland Upland", "DELETE /legs/Lowland/Upland", "no longer linked", 0},
		{"server add reed --site Upland --address reed.test --certificate abab --password-file " + secret, `POST /servers {"name":"reed","site":"Upland","address":"reed.test","password":"long-enough-password","certificate":"abab"}`, "added server", 0},
		{"server add ash --site Upland --address ash.test --password-file " + secret, "", "name the account", 2},
		{"server edit reed --certificate cdcd --password-file " + secret, `PATCH /servers/reed {"certificate":"cdcd","password":"long-enough-password"}`, "changed server", 0},
		{"server edit reed --proxy-password-file " + secret, `PATCH /servers/reed {"proxyPassword":"long-enough-password"}`, "changed server", 0},
		{"server show reed", "", "abab", 0},
		{"server edit oak --note old", `PATCH /servers/oak {"note":"old"}`, "oak", 0},
		{"server remove --detach oak", "DELETE /servers/oak?detach=true", "left alone", 0},
		{"server remove --detach --rehearse oak", "DELETE /servers/oak?detach=true&rehearse=true", "thing.remove", 0},
		{"namespace list", "", "garden", 0},
		{"namespace tree garden", "", "held: not verified yet", 0},
		{"namespace edit --ttl 60 --returns later garden", `PATCH /namespaces/garden {"ttl":60,"returns":"later"}`, "changed namespace garden", 0},
		{"namespace edit --letter Q /garden/store", `PATCH /namespaces/garden/entries/7 {"letter":"Q"}`, "changed /garden/store", 0},
		{"namespace edit --hiding /garden/store", "", "is for a whole namespace", 2},
		{"namespace move /garden/store /garden/old/store", `PATCH /namespaces/garden/entries/7 {"path":"old/store"}`, "moved", 0},
		{"namespace move /garden/store /other/store", "", "within its namespace", 2},
		{"namespace move --rehearse /garden/store /garden/x", `PATCH /namespaces/garden/entries/7?rehearse=true {"path":"x"}`, "nothing was changed", 0},
		{"namespace rank --location elm/store /garden/store last", `PATCH /namespaces/garden/entries/7/locations/12 {"rank":"last"}`, "changed elm/store", 0},
		{"namespace rank --location elm/store --weight 3 --only-for Upland /garden/store", `PATCH /namespaces/garden/entries/7/locations/12 {"weight":3,"onlyFor":["Upland"]}`, "changed", 0},
		{"namespace rank /garden/store", "", "--location", 2},
		{"namespace hold --location oak/store --why stocktaking /garden/store", `PATCH /namespaces/garden/entries/7/locations/11 {"state":"held","why":"stocktaking"}`, "oak/store", 0},
		{"namespace open --location elm/store /garden/store", `PATCH /namespaces/garden/entries/7/locations/12 {"state":"open"}`, "elm/store", 0},
		{"namespace add --to elm/more /garden/store", `POST /namespaces/garden/entries/7/locations {"server":"elm","share":"more"}`, "", 0},
		{"namespace remove-entry --location elm/store /garden/store", "DELETE /namespaces/garden/entries/7/locations/12", "no file was touched", 0},
		{"namespace remove-entry /garden/store", "DELETE /namespaces/garden/entries/7", "removed the signpost", 0},
		{"namespace remove --with-entries garden", "DELETE /namespaces/garden?withEntries=true", "1 folders and 2 signposts", 0},
		{"namespace lint garden", "", "bspan namespace verify --location elm/store /garden/store", 0},
		{"namespace lint --fix not-verified --rehearse garden", `POST /namespaces/garden/lint/fix {"action":{"do":"verify-location","args":["garden","/garden/store","elm/store"]},"rehearse":true}`, "Rehearsed only", 0},
		{"namespace lint --fix one-location garden", "", "no flaw of that kind", 0},
		{"namespace history garden", "", `note: "a" → "b"`, 0},
		{"namespace history --return-to 9 --rehearse garden", "POST /namespaces/garden/return?rehearse=true&to=9", "bspan namespace history --return-to 9", 0},
		{"front list", "", `\\reed.test\garden`, 0},
		{"front show reed/garden", "", "ada at 192.0.2.7 has it open", 0},
		{"front show reed/garden", "", "Not shown: /garden/old: elm/old: held", 0},
		{"front show reed/garden/deep", "", "is not a front", 2},
		{"front add --rehearse --branch papers --leave-out-failing garden reed", `POST /fronts {"server":"reed","share":"garden","namespace":"garden","branch":"papers","leaveOutFailing":true,"rehearse":true}`, "Rehearsed only", 0},
		{"front add --share other --check-as GROVE\\ada --password-file " + secret + " garden reed", `POST /fronts {"server":"reed","share":"other","namespace":"garden","checkAs":{"domain":"GROVE","account":"ada","password":"long-enough-password"}}`, "Missing in the configuration", 0},
		{"front edit --check-as - reed/garden", `PATCH /fronts/reed/garden {"checkAs":{"account":"","password":""}}`, "last in the list", 0},
		{"front edit --rehearse --comment papers reed/garden", `PATCH /fronts/reed/garden?rehearse=true {"comment":"papers"}`, "Rehearsed only", 0},
		{"front check --as ada --password-file " + secret + " --below store reed/garden", `POST /fronts/reed/garden/check {"as":{"account":"ada","password":"long-enough-password"},"below":"store"}`, "grant them something", 0},
		{"front remove --rehearse reed/garden", "DELETE /fronts/reed/garden?rehearse=true", "Rehearsed only", 0},
		{"front remove --rehearse --forget reed/garden", "DELETE /fronts/reed/garden?forget=true&rehearse=true", "Rehearsed only", 0},
		{"where --through window /garden/store", "", "say gateway or front", 2},
		{"namespace mappings --for ivy --format csv garden", "", "letter,path", 0},
		{"namespace mappings garden", "", "K: leads elsewhere", 0},
		{"where --from Lowland --fresh /garden/store", "", "leads nowhere now", 0},
		{"where --as ada /garden/store", "", "leads nowhere now", 0},
		{"rights who-can --level change oak/store", `POST /rights/who-can {"path":"oak/store","level":"change"}`, "Not complete: the domain GROVE", 0},
		{"rights who-can --no-wait --filter a oak/store", `POST /rights/who-can {"path":"oak/store","level":"change","filter":"a"}`, "entry 1 grants full to keepers", 0},
		{"rights able 5", "", "0 of 20 users have at least change", 0},
		{"rights able five", "", "is not a number", 2},
		{"rights compare oak/a oak/b", "", "Everyone", 0},
		{"rights grant --level read --rehearse oak/store ada", `POST /rights/changes {"path":"oak/store","action":"grant","account":"ada","level":"read","scope":"everything","rehearse":true}`, "Nothing changes", 0},
		{"replica list", "", "All 2 replicas", 0},
		{"replica show beds", "", "closed by hand; 2 paths wait", 0},
		{"replica backlog beds oak elm", "", "2026/Fern.txt  file    2.0 KiB", 0},
		{"replica show beds", "", "Attic: 1 item, 1 conflict, last conflict 2026-11-01", 0},
		{"replica create --no-wait --seed elm --leave-out *.tmp --lane oak>elm=off beds oak/store elm/store", `POST /replica-sets {"name":"beds","replicas":[{"server":"oak","share":"store"},{"server":"elm","share":"store","seed":true}],"layout":"mesh","lanes":[{"from":"oak","to":"elm","calendar":"off"}],"filter":{"leaveOut":["*.tmp"]},"permissions":"carry"}`, "create-set", 0},
		{"replica create --folder-rights seed --account-map trees beds oak/store elm/store", `POST /replica-sets {"name":"beds","replicas":[{"server":"oak","share":"store","rights":"seed"},{"server":"elm","share":"store","rights":"seed"}],"layout":"mesh","filter":{},"permissions":"map","accountMap":"trees"}`, "awaited  Mark elm/store.\n         Not picked up yet; the lane from oak is closed until Mon 19:00.\n", 0},
		{"replica create --no-wait --seed far --intake far=2GiB --intake 1GiB --attic elm/store=0 --attic elm/store=5GiB --retry-first 9s beds oak/store far=elm/quiet/a=b elm/store", `POST /replica-sets {"name":"beds","replicas":[{"server":"oak","share":"store","intakeQuota":1073741824},{"name":"far","server":"elm","share":"quiet","sub":"a=b","seed":true,"intakeQuota":2147483648},{"server":"elm","share":"store","intakeQuota":1073741824,"atticQuota":5368709120}],"layout":"mesh","filter":{},"permissions":"carry","retry":{"firstS":9,"mostS":600,"alertAfter":10}}`, "create-set", 0},
		{"replica create --no-wait --anyway beds oak/store elm/store", `POST /replica-sets {"name":"beds","replicas":[{"server":"oak","share":"store"},{"server":"elm","share":"store"}],"layout":"mesh","filter":{},"permissions":"carry","anyway":true}`, "create-set", 0},
		{"share remove oak/store/some/folder", "", "write oak/store alone, if you mean the whole share", 2},
		{"share show oak/store/some/folder", "", "oak/store/some/folder is a folder of a share", 2},
		{"share edit --note x oak/store/some/folder", "", "oak/store/some/folder is a folder of a share", 2},
		{"replica create --seed elm beds oak/store elm/store elm/quiet", "", "--seed: elm has several of oak/store, elm/store, elm/quiet; name one of them", 2},
		{"replica create --no-wait --seed elm/quiet beds oak/store elm/store elm/quiet", `POST /replica-sets {"name":"beds","replicas":[{"server":"oak","share":"store"},{"server":"elm","share":"store"},{"server":"elm","share":"quiet","seed":true}],"layout":"mesh","filter":{},"permissions":"carry"}`, "create-set", 0},
		{"replica create --intake much beds oak/store elm/store", "", "--intake: \"much\" is no size", 2},
		{"replica plan --attic ash=2GiB beds oak/store elm/store", "", "--attic: \"ash\" is none of oak/store, elm/store", 2},
		{"replica accounts beds", "", "replica accounts beds --renew", 0},
		{"replica accounts --renew beds", "POST /replica-sets/beds/accounts", "paired anew", 0},
		{"account map list", "", "1 replica set", 0},
		{"account map show trees", "", `oak\* = elm\*`, 0},
		{"account map pairs trees oak elm", "", `! elm\rowan belongs to elm\wardens, and not to oak\keepers: who gains`, 0},
		{`account map create --rule oak\*=elm\* trees`, `POST /account-maps {"name":"trees","rules":["oak\\*=elm\\*"]}`, "account map pairs trees", 0},
		{"account map create trees", "", "rule", 2},
		{`account map edit --name bushes trees`, `PATCH /account-maps/trees {"name":"bushes"}`, "replica accounts SET --renew", 0},
		{"account map remove trees", "DELETE /account-maps/trees", "removed the account map trees", 0},
		{"replica edit --rehearse --layout hub beds", `POST /replica-sets/beds/preview {"set":{"layout":"hub"}}`, "What follows:\n  2 lanes are new.\nWARN attic: elm: its attic keeps 2 files.", 0},
		{"replica quota --rehearse --attic 2GiB beds elm", `POST /replica-sets/beds/preview {"replica":{"name":"elm","change":{"atticQuota":2147483648}}}`, "nothing was changed", 0},
		{"replica close --rehearse beds oak elm", `POST /replica-sets/beds/preview {"lane":{"from":"oak","to":"elm","change":{"closed":true}}}`, "What follows:", 0},
		{"replica create --seed ash beds oak/store elm/store", "", "is none of oak/store, elm/store", 2},
		{"replica create beds oak/store", "", "is missing", 2},
		{"replica plan beds oak/store elm/store", `POST /replica-plans {"name":"beds","replicas":[{"server":"oak","share":"store"},{"server":"elm","share":"store"}],"layout":"mesh","filter":{},"permissions":"carry"}`, "elm: 1.0 KiB from oak", 0},
		{"replica planned 5", "", "WARN clock: elm is late. The wrong one may win. To do: set it.", 0},
		{"replica edit --layout hub --attic-days 9 beds", `PATCH /replica-sets/beds {"layout":"hub","atticDays":9}`, "the settings of beds are changed", 0},
		{"replica edit --leave-out a --leave-out b beds", `PATCH /replica-sets/beds {"filter":{"leaveOut":["a","b"]}}`, "beds", 0},
		{"replica edit --retry-first 2s --alert-after 3 beds", `PATCH /replica-sets/beds {"retry":{"firstS":2,"mostS":600,"alertAfter":3}}`, "beds", 0},
		{"replica show beds --output csv", "", "closed by hand", 0},
		{"replica add --name third beds oak/quiet/copies", `POST /replica-sets/beds/replicas {"name":"third","server":"oak","share":"quiet","sub":"copies"}`, "is kept at oak/quiet/copies as well", 0},
		{"replica drop beds elm", "DELETE /replica-sets/beds/replicas/elm", "belongs to beds no more", 0},
		{"replica rehome beds elm oak/quiet", `PATCH /replica-sets/beds/replicas/elm {"home":{"server":"oak","share":"quiet"}}`, "is at oak/quiet from now on", 0},
		{"replica seed beds elm", `PATCH /replica-sets/beds/replicas/elm {"seed":true}`, "wins the first fill", 0},
		{"replica quota --attic 2GiB beds elm", `PATCH /replica-sets/beds/replicas/elm {"atticQuota":2147483648}`, "quotas of elm", 0},
		{"replica removals beds elm", "", "elm has no pending removals.", 0},
		{"replica removals beds ash", "", "3 files, 2.0 KiB, of 10 files and folders. The other replicas keep them", 0},
		{"replica removals beds yew", "", `beds has no replica "yew"`, 2},
		{"replica removals --apply beds ash", `PATCH /replica-sets/beds/replicas/ash {"removals":"apply"}`, "removes the files that are missing at ash", 0},
		{"replica removals --restore beds ash", `PATCH /replica-sets/beds/replicas/ash {"removals":"restore"}`, "restores the files that are missing at ash", 0},
		{"replica removals --restore --rehearse beds ash", `POST /replica-sets/beds/preview {"replica":{"name":"ash","change":{"removals":"restore"}}}`, "nothing was changed", 0},
		{"replica removals --restore --apply beds ash", "", "not both", 2},
		{"replica edit --removal-limit 10 beds", `PATCH /replica-sets/beds {"removalLimit":10}`, "", 0},
		{"replica sweep --every 90m beds elm", `PATCH /replica-sets/beds/replicas/elm {"sweepMin":90}`, "elm is scanned every 1h30m", 0},
		{"replica sweep --every 0 beds elm", `PATCH /replica-sets/beds/replicas/elm {"sweepMin":0}`, "elm is scanned every 6h", 0},
		{"replica sweep --every 90s beds elm", "", "--every: give whole minutes", 2},
		{"replica sweep --every -2h beds elm", "", "--every: give whole minutes", 2},
		{"replica sweep --rehearse --every 2h beds elm", `POST /replica-sets/beds/preview {"replica":{"name":"elm","change":{"sweepMin":120}}}`, "nothing was changed", 0},
		{"replica quota --attic much beds elm", "", "is no size", 2},
		{"replica verify --no-wait --level sample --sample 10 beds", `POST /replica-sets/beds/verify {"level":"sample","sample":10}`, "verify-set", 0},
		{"replica verify --level full beds", `POST /replica-sets/beds/verify {"level":"full"}`, "2026/gone.txt", 5},
		{"replica verify --no-wait --level full --within-calendar beds", `POST /replica-sets/beds/verify {"level":"full","withinCalendar":true}`, "verify-set", 0},
		{"replica verify --again daily beds", `POST /replica-sets/beds/verifications/jobs {"level":"names","rule":"daily"}`, "job 3 verifies beds", 0},
		{"replica verified 5", "", "Not all replicas hold what oak holds.", 5},
		{"replica verified five", "", "is not a number", 2},
		{"replica verifications beds", "", "Not all replicas", 0},
		{"replica probe --from oak beds", `POST /replica-sets/beds/probes {"from":"oak"}`, "1.5 s", 0},
		{"replica probes beds", "", "2.5 s", 0},
		{"replica attic compare beds 4", "", "ada: read before, change now", 0},
		{"job list", "", "every 6h", 0},
		{"job at --again daily 3", `PATCH /jobs/3 {"rule":"daily"}`, "job 3 is done next", 0},
		{"job disable 3", `PATCH /jobs/3 {"enabled":false}`, "is disabled", 0},
		{"job run 3", "POST /jobs/3/run", "run 5 has begun", 0},
		{"job remove 3", "DELETE /jobs/3", "job 3 is removed", 0},
		{"job remove three", "", "not a number", 2},
		{"replica pause beds", `PATCH /replica-sets/beds {"paused":true}`, "beds is paused", 0},
		{"replica resume beds", `PATCH /replica-sets/beds {"paused":false}`, "beds goes on", 0},
		{"replica close beds oak elm", `PATCH /replica-sets/beds/lanes/oak/elm {"closed":true}`, "bspan replica open beds oak elm", 0},
		{"replica open --for 2h beds oak elm", `PATCH /replica-sets/beds/lanes/oak/elm {"closed":false,"openMinutes":120}`, "open for 2h0m0s", 0},
		{"replica lane beds oak elm", `PATCH /replica-sets/beds/lanes/oak/elm {"calendar":""}`, "the calendar of the set", 0},
		{"replica look beds elm", "POST /replica-sets/beds/look?replica=elm", "elm will be looked at now", 0},
		{"replica troubles beds", "", "in use by another program", 0},
		{"replica attic list beds", "", "Fought over.txt", 0},
		{"replica attic restore --as back.txt beds 4", "POST /replica-sets/beds/attic/4/restore?as=back.txt", "back.txt is back at elm", 0},
		{"replica attic restore beds four", "", "not a number", 2},
		{"replica attic purge beds 4", "DELETE /replica-sets/beds/attic/4", "gone for good", 0},
		{"replica remove beds", "DELETE /replica-sets/beds", "its files are where they were", 0},
		{"cloud list", "", "names first, 30% free, unused 90 days, newest 1.0 GiB stay, never *.accdb", 0},
		{"cloud list", "", "scans at sedge: 2.0 KiB are missing to the free-space line", 0},
		{"cloud list scans", "", "whole files", 0},
		{"cloud where scans a.tif", "", "sedge          on first use  current", 0},
		{"cloud where beds b.tif", "", "look elsewhere", 1},
		{"cloud plan --fill sedge=stubs --free sedge=30% scans haar/scans oak/store sedge/scans", `POST /replica-plans {"name":"scans","replicas":[{"server":"haar","share":"scans"},{"server":"oak","share":"store"},{"server":"sedge","share":"scans","edge":{"fill":"stubs","freePercent":30}}],"layout":"hub","filter":{},"permissions":"carry"}`, "First fill: reads 1.0 KiB from the bucket, less than 0.01 EUR\nChanges: edges read 2.0 KiB per month, 1,234.50 EUR", 0},
		{"cloud plan --free sedge=much scans haar/scans oak/store sedge/scans", "", "is no percentage", 2},
		{"cloud plan --fill stubs scans haar/scans oak/store", "", "names no replica", 2},
		{"server edit --currency EUR --price-stored 0.02 --region coast-1 oak", `PATCH /servers/oak {"cloud":{"region":"coast-1","currency":"EUR","storedPrice":0.02}}`, "oak", 0},
		{"cloud usage scans", "", "storage per month                                 2.0 KiB  12.50 EUR", 0},
		{"cloud usage scans", "", "prefetched within 30 days, 3 of them used", 0},
		{"cloud usage scans", "", "read in 2026-11                                   5.0 KiB  0.40 EUR", 0},
		{"cloud usage scans", "", "sedge: Few prefetched files were used.", 0},
		{"cloud access scans beds --as ivy", "", "Not the same everywhere.", 0},
		{"cloud access scans beds --as ivy", "", "elm does not answer", 0},
		{"cloud access scans", "", "as", 2},
		{"cloud verify --rehearse --level full scans", "", "Reads up to 2.0 KiB from haar, less than 0.01 EUR. Nothing was verified.", 0},
		{"cloud verify --rehearse --level sample --sample 1 scans", "", "Reads up to 204 B from haar", 0},
		{"cloud verify --no-wait scans", `POST /replica-sets/scans/verify {"level":"names"}`, "verify-set", 0},
		{"cloud restore scans a.tif", "", "bspan cloud restore --version NUMBER scans a.tif", 0},
		{"cloud restore --version 7 scans a.tif", "POST /replica-sets/scans/attic/7/restore", "a.tif is back at haar", 0},
		{"cloud restore --version last scans a.tif", "", "not a number", 2},
		{"cloud arrival --made-at haar --size 2GiB --at 2026-03-02 scans", "", "content on first use", 0},
		{"cloud arrival scans a.tif", "", "haar is scanned every 6h", 0},
		{"cloud arrival --at noon scans", "", "is no time", 2},
		{"cloud accounts --latest scans", "", "oak\\scanners  local   15", 0},
		{"cloud accounts scans", "POST /replica-sets/scans/account-uses {}", "Read the permissions of 1 file or folder at oak.", 0},
		{"cloud accounts --latest beds", "", "no accounts were listed yet", 2},
		{"cloud fetch --rehearse scans sedge old", `POST /replica-sets/scans/contents {"edge":"sedge","path":"old","rehearse":true}`, "3 files (3.0 KiB) would be fetched to sedge; nothing was changed", 0},
		{"cloud offload --rehearse scans sedge", `POST /replica-sets/scans/contents {"edge":"sedge","offload":true,"rehearse":true}`, "3 files (3.0 KiB) would", 0},
		{"cloud policy --free 20 --unused 9 --keep-newest 2GiB --never *.db --refuse nightly-backup --patience 5s scans sedge", `PATCH /replica-sets/scans/replicas/sedge {"edge":{"fill":"names","freePercent":20,"unusedDays":9,"keepNewest":2147483648,"never":["*.db"],"refused":["nightly-backup"],"waitS":5}}`, "sedge of scans keeps: names first, 20% free", 0},
		{"cloud policy --fill whole scans sedge", `PATCH /replica-sets/scans/replicas/sedge {"edge":{"fill":"whole","freePercent":30,"unusedDays":90,"keepNewest":1073741824,"never":["*.accdb"]}}`, "whole files", 0},
		{"cloud policy --rehearse --free 20 scans elm", `POST /replica-sets/scans/preview {"replica":{"name":"elm","change":{"edge":{"fill":"names","freePercent":20}}}}`, "12 files become stubs now, which frees 9 KiB.", 0},
		{"cloud policy --prefetch drawings/ --prefetch-hours off;mon-fri=full scans sedge", `PATCH /replica-sets/scans/replicas/sedge {"edge":{"fill":"names","freePercent":30,"unusedDays":90,"keepNewest":1073741824,"never":["*.accdb"],"prefetch":{"folders":["drawings/"],"hours":"off;mon-fri=full"}}}`, "prefetches drawings/, off;mon-fri=full", 0},
		{"cloud policy --prefetch-hours full scans elm", "", "needs --prefetch with folders", 2},
		{"cloud policy scans sedge", "", "say what to change", 2},
		{"cloud policy --keep-newest much scans sedge", "", "is no size", 2},
		{"cloud policy --free 20 scans ash", "", "scans has no edge \"ash\"", 2},
		{"run list", "", "who-can", 0},
		{"run stop 5", "POST /runs/5/stop", "5", 0},
		{"run resume 5", "POST /runs/5/resume", "5", 0},
		{"user list", "", "operator", 0},
		{"user add reed --role viewer --password-file " + secret, `POST /users {"name":"reed","password":"long-enough-password","role":"viewer"}`, "reed", 0},
		{"user edit ivy --role viewer", `PATCH /users/ivy {"role":"viewer"}`, "ivy", 0},
		{"user remove ivy", "DELETE /users/ivy", "removed user ivy", 0},
		{"user remove nobody", "", "look elsewhere", 1},
		{"site nonsense", "", "is not a command", 2},
	} {
		t.Run(c.args, func(t *testing.T) {
			s := startService(t)
			out, code := s.bspan(t, strings.Fields(c.args)...)
			last := ""
			if len(s.sent) > 0 {
				last = s.sent[len(s.sent)-1]
			}
			if code != c.code || !strings.Contains(out, c.says) || last != c.sent {
				t.Errorf("exit %d, want %d; sent %s, want %s; wants %q:\n%s", code, c.code, last, c.sent, c.says, out)
			}
		})
	}
}

// Every command that shows something shows it as JSON too, whole.
func TestCommandsAsJSON(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	for _, args := range []string{"site list", "site legs", "namespace list", "namespace tree garden", "namespace lint garden", "namespace history garden", "namespace mappings garden",
		"rights able 5", "rights compare oak/a oak/b", "replica list", "replica show beds", "replica planned 5", "replica troubles beds", "replica attic list beds", "replica pause beds", "replica verifications beds", "replica probes beds", "replica attic compare beds 4", "replica accounts beds", "account map list", "account map show trees", "account map pairs trees oak elm", "replica edit --rehearse --layout hub beds", "job list", "cloud list", "cloud where scans a.tif", "cloud arrival scans a.tif", "cloud usage scans", "cloud restore scans a.tif", "cloud verify --rehearse --level full scans", "cloud offload --rehearse scans sedge", "cloud policy --free 20 scans sedge",
		"front list", "front show reed/garden", "front check reed/garden", "front add --rehearse garden reed", "run list", "run show 5", "user list", "server list", "server show reed", "where /garden/store", "site remove --rehearse Marsh", "namespace hold --location oak/store /garden/store"} {
		s := startService(t)
		out, code := s.bspan(t, append([]string{"--output", "json"}, strings.Fields(args)...)...)
		var value any
		if err := json.Unmarshal([]byte(out), &value); err != nil || code != 0 {
			t.Errorf("bspan %s: exit %d, %v: %s", args, code, err, out)
		}
	}
}

// Names from file servers neither move the cursor nor are run by a spreadsheet.
func TestHostileNames(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	s := startService(t)
	s.answers["GET /sites"] = `{"items":[{"name":"=HYPERLINK(\"x\")","servers":2,"note":"\u001b[2Jcleared\u202e","version":1}]}`
	for format, want := range map[string]string{"table": `\u001b[2Jcleared\u202e`, "csv": `"'=HYPERLINK(""x"")"`, "json": `\u001b[2Jcleared\u202e`} {
		var out bytes.Buffer
		app := newApp()
		app.Writer.(*text.Writer).To = &out // what it writes to is a terminal as a rule
		if err := app.Run(t.Context(), []string{"bspan", "--server", s.URL, "--output", format, "site", "list"}); err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(out.String(), want) || strings.ContainsAny(out.String(), "\x1b\u202e") {
			t.Errorf("%s shows %q", format, out.String())
		}
	}
}

// Of a creation that fails, what failed is told first, and then what is taken
// back, the last first; nothing is told twice.
func TestStepsTakenBack(t *testing.T) {
	var out bytes.Buffer
	app := newApp()
	app.Writer = &out
	teller := &stepTeller{c: app, said: map[int]string{}}
	made := model.ReplicaCreation{Steps: []model.Step{{Text: "First.", State: model.StepDone, Found: "made"}, {Text: "Second.", State: model.StepDone}, {Text: "Third.", State: model.StepUnderWay}, {Text: "Fourth.", State: model.StepPlanned}}}
	teller.tell(made)
	teller.tell(made)
	made.Steps[0].State, made.Steps[1].State = model.StepUndone, model.StepUndone
	made.Steps[2].State, made.Steps[2].Found = model.StepFailed, "it is full."
	teller.tell(made)
	want := "done     First.\n         Made.\ndone     Second.\nfailed   Third.\n         It is full.\nundone   Second.\nundone   First.\n"
	if out.String() != want {
		t.Errorf("told is\n%s", out.String())
	}
}
