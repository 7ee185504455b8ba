package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"golang.org/x/sys/unix"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// clouded is a cloud set of a bucket and two edges: a share of oak with whole files, and a small volume on a host with a mover
// and a file service over the same folder, with stubs.
type clouded struct {
	*testing.T
	e     *harness.Estate
	sky   *standintest.Sky
	at    bucket.Target
	mover *harness.Mover
	files *fileserver.Server
}

const volumeSize = 64 << 20

// newClouded starts all that a set needs, with a mover of a program, or of the service's, that fills stubs at a moment.
func newClouded(t *testing.T, program string, fill edge.Trigger) *clouded {
	t.Helper()
	files := standintest.StrangeFileServer(t, "SEDGE", "store")
	folder := files.SharePath("store")
	standintest.Volume(t, folder, volumeSize)
	if _, err := edge.Supported(folder, fill); err != nil {
		t.Skip(err)
	}
	if err := os.Chmod(folder, 0o777); err != nil {
		t.Fatal(err)
	}
	c := &clouded{T: t, e: harness.StartEstate(t), sky: standintest.Cloud(t), files: files}
	c.at = c.sky.Bucket(t)
	c.mover = harness.StartMoverBesideSamba(t, program, folder, "--fill-on", string(fill))
	t.Cleanup(files.Stop) // before the volume goes
	beside := c.mover.NewServer("sedge", "Upland")
	beside.Beside = "Island"
	refusedBeside(c, beside)
	for _, n := range []model.NewServer{accountAt(t, c.sky, c.at), harness.NewServer("island", "Upland", files), beside} {
		if _, err := c.e.API.AddServer(t.Context(), n); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := c.e.API.AddAccountMap(t.Context(), model.NewAccountMap{Name: "trees", Rules: []string{`oak\* = island\*`}}); err != nil {
		t.Fatal(err)
	}
	return c
}

// TestEdges keeps a bucket and two edges the same, of which one has room for a part alone.
func TestEdges(t *testing.T) {
	t.Parallel()
	c := newClouded(t, otherBuild(t), edge.OnRead)
	defer func() {
		if t.Failed() {
			stubs, all := c.stubs()
			set, err := c.e.API.ReplicaSet(context.WithoutCancel(t.Context()), "scans")
			t.Logf("log of the mover:\n%s", c.mover.Log(t))
			t.Logf("%d of %d are stubs; the figures are %+v; %+v, %v", stubs, all, c.edge().EdgeFigures, set, err)
		}
	}()
	c.checked()
	c.refusedPolicies()
	c.create()
	c.namesFirst()
	c.permissions()
	c.readThroughSMB()
	c.written()
	c.policies()
	c.moves()
	c.arrivals()
	c.accountsInUse()
	c.access()
	c.usage()
	c.page()
	c.removals()
	c.prefetched()
	c.moverKilled()
	c.moverUpdated()
	c.wholeAgain()
}

// put puts a file into the share of oak, as it was so many years ago.
func (c *clouded) put(name string, content []byte, years int) {
	c.Helper()
	oak := harness.Tree(c.T, c.e.Oak, "store")
	defer oak.Close()
	name = "scans/" + name
	err := tree.MkdirAll(c.Context(), oak, path.Dir(name))
	if err == nil {
		_, err = oak.Put(c.Context(), name, bytes.NewReader(content), tree.PutOptions{Meta: tree.Meta{Modified: time.Now().AddDate(-years, 0, 0).Truncate(time.Second)}})
	}
	if err != nil {
		c.Fatal(err)
	}
}

func random(size int) []byte {
	b := make([]byte, size)
	_, _ = rand.Read(b)
	return b
}

// asked is the request for the set, with a policy for the small edge.
func (c *clouded) asked(p model.EdgePolicy) model.NewReplicaSet {
	return model.NewReplicaSet{Name: "scans", Layout: model.LayoutHub, Permissions: model.PermissionsMap, AccountMap: "trees", Replicas: []model.NewReplica{{Server: "haar", Share: c.at.Bucket}, {Server: "oak", Share: "store", Sub: "scans", Seed: true}, {Server: "sedge", Share: "beds", Edge: &p}}}
}

// refusedPolicies: what cannot be is refused at its field, and nothing is made.
func (c *clouded) refusedPolicies() {
	for what, r := range map[string]struct {
		change func(*model.NewReplicaSet)
		field  string
	}{
		"a line above the volume": {func(n *model.NewReplicaSet) { n.Replicas[2].Edge.FreePercent = 101 }, "replicas[2].edge.freePercent"},
		"stubs in a mesh":         {func(n *model.NewReplicaSet) { n.Layout = model.LayoutMesh }, "replicas[2].edge"},
		"stubs without a mover":   {func(n *model.NewReplicaSet) { n.Replicas[1].Edge = &model.EdgePolicy{Fill: model.FillStubs} }, "replicas[1].edge.fill"},
		"a line for whole files": {func(n *model.NewReplicaSet) {
			n.Replicas[2].Edge = &model.EdgePolicy{Fill: model.FillWhole, FreePercent: 10}
		}, "replicas[2].edge.fill"},
		"a pattern that is none":   {func(n *model.NewReplicaSet) { n.Replicas[2].Edge.Never = []string{"["} }, "replicas[2].edge.never"},
		"a program that is a path": {func(n *model.NewReplicaSet) { n.Replicas[2].Edge.Refused = []string{"/usr/bin/nightly-backup"} }, "replicas[2].edge.refused"},
	} {
		n := c.asked(model.EdgePolicy{Fill: model.FillNames})
		r.change(&n)
		_, err := c.e.API.CreateReplicaSet(c.Context(), n, nil)
		refused(c.T, what, err, 422, r.field)
	}
}

func (c *clouded) create() {
	c.Helper()
	c.restrict("scans/old", "ada")
	for i := range 16 {
		c.put(fmt.Sprintf("old/scan-%02d.tif", i), bytes.Repeat([]byte{byte(i), 7}, 2<<20), 1+i)
	}
	c.put("new/first.tif", random(1<<20), 0)
	if _, err := c.e.API.CreateReplicaSet(c.Context(), c.asked(model.EdgePolicy{Fill: model.FillNames, FreePercent: 40}), nil); err != nil {
		c.Fatal(err)
	}
}

// refusedBeside: a mover is beside a file server that is known, and nothing else is beside one.
func refusedBeside(c *clouded, mover model.NewServer) {
	c.Helper()
	_, err := c.e.API.AddServer(c.Context(), mover)
	refused(c.T, "beside an unknown server", err, 422, "beside")
	other := harness.NewServer("another", "Upland", c.files)
	other.Beside = "oak"
	_, err = c.e.API.AddServer(c.Context(), other)
	refused(c.T, "a file server beside another", err, 422, "beside")
}

// checked: a check says whether people meet the same permissions through the file service beside the mover.
func (c *clouded) checked() {
	c.Helper()
	line := func(beside string) string {
		c.Helper()
		if _, err := c.e.API.EditServer(c.Context(), "sedge", model.EditServer{Beside: &beside}); err != nil {
			c.Fatal(err)
		}
		check, err := c.e.API.CheckServer(c.Context(), "sedge")
		if err != nil {
			c.Fatal(err)
		}
		i := slices.IndexFunc(check.Lines, func(f finding.Finding) bool { return f.Code == "file service" })
		if i < 0 {
			return "nothing"
		}
		return string(check.Lines[i].Severity)
	}
	if got := line(""); got != "warn" {
		c.Errorf("with Samba's permissions and no file server: %s", got)
	}
	if got := line("island"); got != "pass" {
		c.Errorf("beside the file server: %s", got)
	}
}

// restrict lets one person alone, and administrators, use a folder of oak's share.
func (c *clouded) restrict(folder, person string) {
	c.Helper()
	oak := harness.Tree(c.T, c.e.Oak, "store")
	defer oak.Close()
	account, err := c.e.API.Account(c.Context(), "oak", person)
	if err != nil {
		c.Fatal(err)
	}
	d, err := acl.Parse("O:BAG:BAD:P(A;OICI;FA;;;BA)(A;OICI;0x1301bf;;;" + account.SID + ")")
	if err != nil {
		c.Fatal(err)
	}
	if err := tree.MkdirAll(c.Context(), oak, folder); err != nil {
		c.Fatal(err)
	}
	if err := oak.Apply(c.Context(), folder, tree.Meta{Descriptor: d}); err != nil {
		c.Fatal(err)
	}
}

// permissions: what a person may do at oak, the one of that name may do on the island, and nobody else.
func (c *clouded) permissions() {
	c.Helper()
	stub := ""
	for n := range 16 {
		if name := fmt.Sprintf("old/scan-%02d.tif", n); c.stub(c.path(name)) {
			stub = name
		}
	}
	ask := func(person, command string) (string, error) {
		out, err := exec.CommandContext(c.Context(), "smbclient", "//"+c.files.Address+"/store", "-p", fmt.Sprint(c.files.Port), "-U", person+"%"+standintest.Password(person), "-c", command).CombinedOutput()
		return string(out), err
	}
	if out, err := ask("ben", "get "+stub+" -"); err == nil {
		c.Errorf("ben reads %s: %.100s", stub, out)
	}
	if !c.stub(c.path(stub)) {
		c.Error("a refused reader has fetched the content")
	}
	if out, err := ask("ada", "allinfo "+stub); err != nil || !strings.Contains(out, "(1020)") && !strings.Contains(out, "(1000)") {
		c.Errorf("ada sees no offline stub at %s: %s, %v", stub, out, err)
	}
	if out, err := ask("ada", "get "+stub+" "+filepath.Join(c.TempDir(), "got")); err != nil || c.stub(c.path(stub)) {
		c.Errorf("ada reads %s: %s, %v", stub, out, err)
	}
	if out, err := ask("ada", "allinfo "+stub); err != nil || strings.Contains(out, "(1020)") || strings.Contains(out, "(1000)") {
		c.Errorf("once whole, %s is offline: %s, %v", stub, out, err)
	}
}

// edge is the small edge as the service tells.
func (c *clouded) edge() model.Replica {
	set, err := c.e.API.ReplicaSet(c.Context(), "scans")
	if err != nil {
		return model.Replica{}
	}
	return set.Replicas[2]
}

// stubs counts the files on the small volume whose content is not there, of how many.
func (c *clouded) stubs() (stubs, all int) {
	_ = filepath.WalkDir(c.mover.Folder, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(name, ".bspan") {
			return nil
		}
		all++
		if c.stub(name) {
			stubs++
		}
		return nil
	})
	return stubs, all
}

func (c *clouded) stub(name string) bool {
	var st unix.Stat_t
	return unix.Stat(name, &st) == nil && st.Size > 64<<10 && st.Blocks*512 < st.Size/2
}

func (c *clouded) path(name string) string { return filepath.Join(c.mover.Folder, name) }

// namesFirst: all names come, and contents up to the free-space line, the newest first.
func (c *clouded) namesFirst() {
	await(c.T, "all names at the small edge, and contents up to the line", func() bool {
		stubs, all := c.stubs()
		f := c.edge().EdgeFigures
		return all == 17 && stubs >= 8 && stubs < 17 && f != nil && f.Fetched > 0 && c.edge().Filled && !c.stub(c.path("new/first.tif"))
	})
	if c.stub(c.path("old/scan-00.tif")) || !c.stub(c.path("old/scan-15.tif")) {
		c.Error("not the files changed last are whole")
	}
}

// readThroughSMB: people read a stub through the file service, and get the true bytes.
func (c *clouded) readThroughSMB() {
	c.Helper()
	i := 0
	for n := range 16 {
		if c.stub(c.path(fmt.Sprintf("old/scan-%02d.tif", n))) {
			i = n
		}
	}
	name := fmt.Sprintf("old/scan-%02d.tif", i)
	if got := smbclient(c.T, c.files, "store", name); !bytes.Equal(got, bytes.Repeat([]byte{byte(i), 7}, 2<<20)) {
		c.Errorf("%s through SMB: %d bytes that are not its own", name, len(got))
	}
	w, err := c.e.API.WhereContent(c.Context(), "scans", name)
	if err != nil || len(w.Places) != 3 || w.Places[0].Content != model.ContentWhole || !w.Places[0].Bucket || w.Places[2].Content != model.ContentWhole || !w.Places[2].Current {
		c.Errorf("where it is: %+v, %v", w, err)
	}
	_, err = c.e.API.WhereContent(c.Context(), "scans", "nothing.tif")
	refused(c.T, "a path where nothing is", err, 422, "path")
}

// written: what people change at the edge with stubs comes to the bucket, also of a file that was a stub.
func (c *clouded) written() {
	c.Helper()
	for n := range 16 {
		name := c.path(fmt.Sprintf("old/scan-%02d.tif", n))
		if !c.stub(name) {
			continue
		}
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		if err == nil {
			_, err = f.WriteAt([]byte("corrected"), 1_000_000)
			f.Close()
		}
		if err != nil {
			c.Fatal(err)
		}
		want := bytes.Repeat([]byte{byte(n), 7}, 2<<20)
		copy(want[1_000_000:], "corrected")
		await(c.T, "the change of a stub in the bucket", func() bool {
			body, _, _, err := c.sky.Client.GetObject(c.Context(), c.at.Bucket, fmt.Sprintf("old/scan-%02d.tif", n), minio.GetObjectOptions{})
			if err != nil {
				return false
			}
			defer body.Close()
			got := new(bytes.Buffer)
			_, err = got.ReadFrom(body)
			return err == nil && bytes.Equal(got.Bytes(), want)
		})
		return
	}
	c.Error("no stub is left to be changed")
}

// policies: a rehearsal tells what becomes of it, and then it becomes that.
func (c *clouded) policies() {
	c.Helper()
	p := model.EdgePolicy{Fill: model.FillStubs, FreePercent: 80, Never: []string{"new/"}}
	change := model.EditReplica{Edge: &p}
	told, err := c.e.API.PreviewSettings(c.Context(), "scans", model.SettingsChange{Replica: &model.ReplicaChange{Name: "sedge", Change: change}})
	if err != nil || !slices.ContainsFunc(told.Follows, func(s string) bool { return strings.Contains(s, "become stubs now, which frees") }) {
		c.Fatalf("the rehearsal says %q, %v", told.Follows, err)
	}
	if _, err := c.e.API.EditReplica(c.Context(), "scans", "sedge", change); err != nil {
		c.Fatal(err)
	}
	await(c.T, "stubs up to the line", func() bool {
		stubs, _ := c.stubs()
		f := c.edge().EdgeFigures
		return stubs >= 14 && !c.stub(c.path("new/first.tif")) && f != nil && f.Offloaded > 0 && f.Free >= f.Line
	})
}

// moves: contents are fetched and offloaded when somebody says so.
func (c *clouded) moves() {
	c.Helper()
	move := func(asked model.MoveContents) model.ContentsMove {
		c.Helper()
		m, err := c.e.API.MoveContents(c.Context(), "scans", asked)
		if err != nil {
			c.Fatal(err)
		}
		if m.Run != nil {
			await(c.T, "contents moved", func() bool {
				m, err = c.e.API.ContentsMove(c.Context(), m.Run.ID)
				return err != nil || m.Run.State.Ended()
			})
		}
		if err != nil {
			c.Fatal(err)
		}
		return m
	}
	one := "old/scan-03.tif"
	if m := move(model.MoveContents{Edge: "sedge", Path: one, Rehearse: true}); m.Run != nil || m.Files != 1 || m.Bytes != 4<<20 || !c.stub(c.path(one)) {
		c.Errorf("rehearsed: %+v", m)
	}
	if m := move(model.MoveContents{Edge: "sedge", Path: one}); m.Moved != 1 || c.stub(c.path(one)) {
		c.Errorf("fetched: %+v", m)
	}
	if m := move(model.MoveContents{Edge: "sedge", Path: one, Offload: true}); m.Moved != 1 || m.MovedBytes < 3<<20 || !c.stub(c.path(one)) {
		c.Errorf("offloaded: %+v", m)
	}
	_, err := c.e.API.MoveContents(c.Context(), "scans", model.MoveContents{Edge: "sedge", Path: "nothing"})
	refused(c.T, "a path where nothing is", err, 422, "path")
	_, err = c.e.API.MoveContents(c.Context(), "scans", model.MoveContents{Edge: "oak", Offload: true})
	refused(c.T, "an edge of whole files", err, 422, "edge")
}

// arrivals: of a file put straight into the bucket it is told when it comes to the edges, and then it comes.
func (c *clouded) arrivals() {
	c.Helper()
	if _, err := c.sky.Client.PutObject(c.Context(), c.at.Bucket, "new/straight.tif", strings.NewReader("straight in"), 11, "", "", minio.PutObjectOptions{}); err != nil {
		c.Fatal(err)
	}
	f, err := c.e.API.Arrival(c.Context(), "scans", model.AskArrival{Path: "new/straight.tif"})
	if err != nil || len(f.Places) != 3 || f.MadeAt != "haar" || !f.Places[0].Present || f.Places[1].Content == nil || f.Places[2].Name == nil {
		c.Fatalf("foretold is %+v, %v", f, err)
	}
	if until := time.Until(f.Places[1].Content.Latest); until < time.Hour || until > 7*time.Hour {
		c.Errorf("it comes to oak within %s, by the next sweep", until)
	}
	_, err = c.e.API.Arrival(c.Context(), "scans", model.AskArrival{})
	refused(c.T, "an arrival of nothing", err, 422, "path")
	_, err = c.e.API.Arrival(c.Context(), "scans", model.AskArrival{MadeAt: "nowhere"})
	refused(c.T, "an arrival from nowhere", err, 404, "madeAt")
	if err := c.e.API.LookAtReplicas(c.Context(), "scans", "haar"); err != nil {
		c.Fatal(err)
	}
	await(c.T, "what was put straight into the bucket", func() bool {
		_, err := os.Stat(c.path("new/straight.tif"))
		return err == nil
	})
	if f, err := c.e.API.Arrival(c.Context(), "scans", model.AskArrival{Path: "new/straight.tif"}); err != nil || !f.Places[2].Present {
		c.Errorf("once it is there: %+v, %v", f, err)
	}
}

// accountsInUse: each account that permissions name is told as the file server of each replica sees it.
func (c *clouded) accountsInUse() {
	c.Helper()
	u, err := c.e.API.FindAccountUses(c.Context(), "scans")
	if err != nil {
		c.Fatal(err)
	}
	await(c.T, "the accounts in use", func() bool {
		u, err = c.e.API.AccountUses(c.Context(), u.Run.ID)
		return err != nil || u.Run.State.Ended()
	})
	i := slices.IndexFunc(u.Accounts, func(a model.AccountUse) bool { return a.Name == `oak\ada` })
	if err != nil || u.Read != "oak" || i < 0 {
		c.Fatalf("%+v, %v", u, err)
	}
	if ada := u.Accounts[i]; ada.Reach != account.ReachMapped || ada.Uses < 10 || len(ada.There) != 2 || ada.There[1].Name != `island\ada` || !ada.There[1].Paired {
		c.Errorf("ada is %+v", ada)
	}
	if list, err := c.e.API.LatestAccountUses(c.Context(), "scans"); err != nil || len(list) != 1 || list[0].Run.ID != u.Run.ID {
		c.Errorf("the latest: %+v, %v", list, err)
	}
}

// usage: what the edges read is on the bill of the provider.
func (c *clouded) access() {
	c.Helper()
	for person, want := range map[string]acl.Level{"ada": acl.Change, "ben": acl.None} {
		found, err := c.e.API.AccessAcross(c.Context(), "scans", "old", person)
		if err != nil || !found.Same || len(found.Places) != 2 {
			c.Fatalf("%s: %+v, %v", person, found, err)
		}
		for i, realm := range []string{"oak", "island"} {
			if p := found.Places[i]; p.Rights == nil || p.Rights.Account.Name != realm+`\`+person || p.Rights.Level != want && !(want == acl.Change && p.Rights.Level == acl.Full) {
				c.Errorf("%s at %s: %+v, %+v", person, p.Replica, p, p.Rights)
			}
		}
	}
	for what, r := range map[string]struct {
		path, person, field string
		status              int
	}{"nobody": {"old", "", "as", 422}, "somebody unknown": {"old", "nobody.there", "as", 422}, "a path out of the set": {"../other", "ada", "path", 422}, "a path that is nowhere": {"nowhere", "ada", "path", 404}} {
		_, err := c.e.API.AccessAcross(c.Context(), "scans", r.path, r.person)
		refused(c.T, what, err, r.status, r.field)
	}
}

func (c *clouded) usage() {
	c.Helper()
	u, err := c.e.API.CloudUsage(c.Context(), "scans")
	bills, bad := c.sky.Bills()
	if err != nil || bad != nil || len(u.Edges) != 2 || len(bills) != 1 {
		c.Fatalf("%+v, %v; %+v, %v", u, err, bills, bad)
	}
	sedge := u.Edges[1]
	if sedge.Fetched == 0 || sedge.FetchedBytes == 0 || sedge.Carried+sedge.FetchedBytes > bills[0].OutBytes {
		c.Errorf("the edge read %+v; the bill is %+v", sedge, bills[0])
	}
	if len(sedge.Months) == 0 || sedge.Months[0].Bytes == 0 || len(sedge.Months) == 1 && sedge.Months[0].Bytes != sedge.Carried+sedge.FetchedBytes {
		c.Errorf("the edge read %+v by months", sedge)
	}
	if u.Files != 18 || u.Bytes > bills[0].StoredBytes || u.Bytes < 60<<20 {
		c.Errorf("stored is %+v; the bill is %+v", u, bills[0])
	}
	if u.Currency != "" || u.Stored != 0 {
		c.Errorf("costs without prices: %+v", u)
	}
}

// page: the console shows contents, locations, forecasts, costs and accounts, and what follows from another policy.
func (c *clouded) page() {
	c.Helper()
	b := startBrowser(c.T)
	stub := ""
	for n := range 16 {
		if name := fmt.Sprintf("old/scan-%02d.tif", n); c.stub(c.path(name)) {
			stub = name
		}
	}
	tab := b.tab
	b.must(tab.Open(c.e.Base+"/"), tab.Type("Name", harness.Admin), tab.Type("Password", harness.Password), tab.Click("button", "Sign in"), tab.See("Latest changes"))
	b.must(tab.Open(c.e.Base+"/replicas/scans"), tab.See("in the bucket only"), tab.See("Costs"), tab.See("price unknown"), tab.See(`oak\ada`), tab.See("mapped"))
	b.must(tab.Type("Path within the set", stub), tab.Click("button", "Find"), tab.See("current"))
	b.must(tab.Choose("What is asked for", "A change made now at haar"), tab.Click("button", "Forecast"), tab.See("haar is scanned every 6h"), tab.See("Bar: earliest to latest arrival"))
	b.accessible("cloud set")
	b.must(tab.Click("button", "Change sedge"), tab.See("Files here"), tab.Type("Free-space line, in percent of the volume", "101"), tab.Click("button", "Save"), tab.See("percent"))
	b.accessible("policy of an edge, with an error")
	if faults := tab.Faults(); len(faults) > 0 {
		c.Errorf("the console's own programs met %v", faults)
	}
}

// moverKilled: while no mover runs, readers get an error and no zeros. Once it was started again, they wait until the service has told
// it where contents are.
func (c *clouded) moverKilled() {
	c.Helper()
	name := "old/scan-04.tif"
	if !c.stub(c.path(name)) {
		c.Fatalf("%s is no stub", name)
	}
	c.mover.Kill()
	if got, err := os.ReadFile(c.path(name)); !errors.Is(err, unix.EIO) {
		c.Errorf("read while no mover runs: %d bytes, %v", len(got), err)
	}
	if got, err := os.ReadFile(c.path("new/first.tif")); err != nil || len(got) != 1<<20 {
		c.Errorf("a whole file while no mover runs: %d bytes, %v", len(got), err)
	}
	c.mover.Start(c.T)
	began := time.Now()
	if got, err := os.ReadFile(c.path(name)); err != nil || !bytes.Equal(got, bytes.Repeat([]byte{4, 7}, 2<<20)) {
		c.Errorf("read after the mover was started again: %d bytes, %v, after %s", len(got), err, time.Since(began))
	}
}

// moverUpdated: while the mover of an edge is updated, readers of stubs wait or get an error, and never other bytes. When the update has
// ended, the edge is ready.
func (c *clouded) moverUpdated() {
	c.Helper()
	if _, err := c.e.API.MoveContents(c.Context(), "scans", model.MoveContents{Edge: "sedge", Path: "old", Offload: true}); err != nil {
		c.Fatal(err)
	}
	var stubs []string
	await(c.T, "stubs to read", func() bool {
		stubs = nil
		for n := range 16 {
			if name := c.path(fmt.Sprintf("old/scan-%02d.tif", n)); c.stub(name) {
				stubs = append(stubs, name)
			}
		}
		return len(stubs) >= 4
	})
	update, err := c.e.API.UpdateMovers(c.Context(), model.UpdateMovers{})
	if err != nil {
		c.Fatal(err)
	}
	for answers := true; answers; { // until the mover has ended, and the new one does not listen yet
		conn, err := net.Dial("tcp", c.mover.HostPort())
		if answers = err == nil; answers {
			conn.Close()
		}
	}
	failed := 0
	for _, name := range stubs {
		switch err := readTrue(name); {
		case errors.Is(err, unix.EIO):
			failed++
		case err != nil:
			c.Fatalf("during the update: %v", err)
		}
	}
	c.Logf("%d of %d reads of stubs during the update failed", failed, len(stubs))
	if u := updatesEnded(c.T, c.e, update); len(u.Movers) != 1 || u.Movers[0].State != model.UpdateDone {
		c.Errorf("the update: %+v\n%s", u, c.mover.Log(c.T))
	}
	for _, name := range stubs {
		if err := readTrue(name); err != nil {
			c.Errorf("after the update: %s: %v", name, err)
		}
	}
}

// readTrue reads a scan, whose every second byte is a 7 beyond its correction.
func readTrue(name string) error {
	got, err := os.ReadFile(name)
	if err == nil && (len(got) != 4<<20 || got[1] != 7 || got[len(got)-1] != 7) {
		err = fmt.Errorf("%d bytes that are not its own", len(got))
	}
	return err
}

// wholeAgain: a set with stubs is not removed; once the edge keeps whole files, it has them all, and nothing depends on the bucket.
func (c *clouded) wholeAgain() {
	c.Helper()
	set, err := c.e.API.ReplicaSet(c.Context(), "scans")
	if err != nil {
		c.Fatal(err)
	}
	refused(c.T, "the removal of a set with stubs", c.e.API.RemoveReplicaSet(c.Context(), "scans"), 422, "set")
	mesh := model.LayoutMesh
	_, err = c.e.API.EditReplicaSet(c.Context(), "scans", model.EditReplicaSet{Layout: &mesh})
	refused(c.T, "another layout", err, 422, "layout")
	_, err = c.e.API.DropReplica(c.Context(), "scans", set.Replicas[0].Name)
	refused(c.T, "a set without its bucket", err, 422, "replica")
	for n := range 10 { // so that all of it has room
		if err := os.Remove(c.path(fmt.Sprintf("old/scan-%02d.tif", n))); err != nil {
			c.Fatal(err)
		}
	}
	if _, err := c.e.API.EditReplica(c.Context(), "scans", "sedge", model.EditReplica{Edge: &model.EdgePolicy{Fill: model.FillWhole}}); err != nil {
		c.Fatal(err)
	}
	await(c.T, "whole files", func() bool {
		stubs, all := c.stubs()
		f := c.edge().EdgeFigures
		return stubs == 0 && all == 8 && f != nil && f.Stubs == 0 && f.Whole == 8
	})
	if err := c.e.API.RemoveReplicaSet(c.Context(), "scans"); err != nil {
		c.Error(err)
	}
}
