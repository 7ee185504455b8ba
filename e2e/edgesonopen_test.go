package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/standin/cloud"
	"bridgespan/standin/standintest"
)

// TestEdgesFilledOnOpen keeps a set with an edge whose stubs are filled on open, as on hosts before Linux 6.14. Programs wait for the whole
// file: through the file service, through the gateway and on the host itself.
func TestEdgesFilledOnOpen(t *testing.T) {
	t.Parallel()
	c := newClouded(t, harness.Program(t, "bspand"), edge.OnOpen)
	const files = 6
	for i := range files {
		c.put(scan(i), scanned(i), 1)
	}
	asked := c.asked(model.EdgePolicy{Fill: model.FillStubs, WaitS: 1})
	asked.Replicas[2].IntakeQuota = 16 << 20
	planned, err := c.e.API.PlanReplicaSet(t.Context(), asked)
	for err == nil && !planned.Run.State.Ended() {
		planned, err = c.e.API.ReplicaPlan(t.Context(), planned.Run.ID)
	}
	if err != nil || !strings.Contains(fmt.Sprint(planned.Checks), "filled completely when a program opens it") {
		t.Errorf("the plan says %+v, %v", planned.Checks, err)
	}
	if _, err := c.e.API.CreateReplicaSet(t.Context(), asked, nil); err != nil {
		t.Fatal(err)
	}
	await(t, "stubs, and their trigger", func() bool {
		stubs, all := c.stubs()
		f := c.edge().EdgeFigures
		return stubs == files && all == files && f != nil && f.FillsOn == string(edge.OnOpen)
	})
	c.listed(files)
	if got := smbclient(t, c.files, "store", scan(0)); !bytes.Equal(got, scanned(0)) {
		t.Errorf("through SMB: %d bytes that are not its own", len(got))
	}
	c.throughGateway(scan(1), scanned(1))
	c.fetched(scan(2))
	c.openedAtNoBucket(scan(3), scanned(3))
	c.openedAtNoMover(scan(4), scanned(4))
	if !c.stub(c.path(scan(5))) {
		t.Error("what nobody has opened is no stub any more")
	}
}

func scan(i int) string { return fmt.Sprintf("old/scan-%02d.tif", i) }

func scanned(i int) []byte { return bytes.Repeat([]byte{byte(i), 7}, 1<<20) }

// listed: who lists the folder, sees lengths and the offline attribute, and fetches nothing.
func (c *clouded) listed(stubs int) {
	c.Helper()
	out, err := exec.CommandContext(c.Context(), "smbclient", "//"+c.files.Address+"/store", "-p", fmt.Sprint(c.files.Port), "-U", "warden%"+standintest.Password("warden"), "-c", "cd old; ls").CombinedOutput()
	if err != nil || strings.Count(string(out), " Ao  2097152 ") != stubs {
		c.Errorf("listed through SMB: %s, %v", out, err)
	}
	if _, err := os.ReadDir(c.path("old")); err != nil {
		c.Error(err)
	}
	if n, _ := c.stubs(); n != stubs {
		c.Errorf("after a listing %d are stubs, of %d", n, stubs)
	}
}

// throughGateway: who reads through the gateway waits as well, and who browses fetches nothing.
func (c *clouded) throughGateway(name string, content []byte) {
	c.Helper()
	_, err := c.e.API.AddEntry(c.Context(), "garden", model.NewEntry{Path: "scans", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "island", Share: "store"}}})
	if err != nil {
		c.Fatal(err)
	}
	warden := person(c.T, c.e, "warden")
	warden.want(207, "PROPFIND", "/garden/scans/old", nil, "Depth", "1")
	if !c.stub(c.path(name)) {
		c.Error("the listing of the gateway has fetched content")
	}
	if got := warden.want(200, "GET", "/garden/scans/"+name, nil).body; !bytes.Equal(got, content) {
		c.Errorf("through the gateway: %d bytes that are not its own", len(got))
	}
	if c.stub(c.path(name)) {
		c.Error("what was opened is still a stub")
	}
}

// fetched: a command fills a stub.
func (c *clouded) fetched(name string) {
	c.Helper()
	if _, err := c.e.API.MoveContents(c.Context(), "scans", model.MoveContents{Edge: "sedge", Path: name}); err != nil {
		c.Fatal(err)
	}
	await(c.T, "content that a command fetches", func() bool { return !c.stub(c.path(name)) })
}

// openedAtNoBucket: who opens a stub while the bucket is away gets an error within a bound, and the content afterwards.
func (c *clouded) openedAtNoBucket(name string, content []byte) {
	c.Helper()
	c.sky.Dials().Turn(cloud.Settings{Outage: true})
	if f, err := os.Open(c.path(name)); !errors.Is(err, unix.EIO) {
		f.Close()
		c.Errorf("opened while the bucket is away: %v", err)
	}
	c.sky.Dials().Turn(cloud.Settings{})
	await(c.T, "the content when the bucket is back", func() bool {
		got, err := os.ReadFile(c.path(name))
		return err == nil && bytes.Equal(got, content)
	})
}

// openedAtNoMover: while no mover runs, its guard lets nobody open a stub; whole files are for everybody.
func (c *clouded) openedAtNoMover(name string, content []byte) {
	c.Helper()
	c.mover.Kill()
	if f, err := os.Open(c.path(name)); !errors.Is(err, unix.EIO) {
		f.Close()
		c.Errorf("opened while no mover runs: %v", err)
	}
	if got, err := os.ReadFile(c.path(scan(0))); err != nil || !bytes.Equal(got, scanned(0)) {
		c.Errorf("a whole file while no mover runs: %d bytes, %v", len(got), err)
	}
	c.mover.Start(c.T)
	await(c.T, "the content with the next mover", func() bool {
		got, err := os.ReadFile(c.path(name))
		return err == nil && bytes.Equal(got, content)
	})
}
