package front_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	corefront "bridgespan/core/front"
	"bridgespan/mover/front"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree/smb"
)

// client runs smbclient as a person, and returns what it says.
func client(s *fileserver.Server, share, person, commands string) string {
	out, err := exec.Command("smbclient", "//"+s.Address+"/"+share, "-U", person+"%"+standintest.Password(person), "-m", "SMB3", "-c", commands).CombinedOutput()
	if err != nil {
		return fmt.Sprintf("%s%v", out, err)
	}
	return string(out)
}

// A front is offered by a real file service, and its clients follow its links.
func TestSambaFollows(t *testing.T) {
	at, one := standintest.FrontServer(t, "bracken"), standintest.OnStandardPort(t, "fern", "herbarium")
	ctx := t.Context()
	k, err := front.Open(at.FrontsFolder(), t.TempDir(), at.Configuration())
	if err != nil {
		t.Fatal(err)
	}
	before, err := k.Offered(ctx, "trust")
	if err != nil || before.Service != "BRACKEN" && !strings.EqualFold(before.Service, "bracken") || len(before.ByHand) > 0 || len(before.Missing) == 0 {
		t.Fatalf("before: %+v, %v", before, err)
	}
	if err := k.Make(ctx, "trust"); err != nil {
		t.Fatal(err)
	}
	if o, err := k.Offer(ctx, "trust", "what people see"); err != nil || len(o.Missing) > 0 {
		t.Fatalf("offered: %+v, %v", o, err)
	}
	if failed, err := k.Write(ctx, "trust", corefront.Changes(nil, []corefront.Entry{{Path: "collections"}, {Path: "collections/herbarium", To: []string{one.Address + `\herbarium`}}, {Path: "deep", To: []string{one.Address + `\herbarium\2026\spring`}}})); err != nil || len(failed) > 0 {
		t.Fatalf("%+v, %v", failed, err)
	}
	if err := os.MkdirAll(filepath.Join(one.SharePath("herbarium"), "2026/spring"), 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(one.SharePath("herbarium"), "2026/spring/a.txt"), []byte("hello"), 0o666); err != nil {
		t.Fatal(err)
	}
	for commands, want := range map[string]string{"cd collections; ls": "herbarium", "cd collections/herbarium/2026; ls": "spring", "ls deep/*": "a.txt"} {
		if said := client(at, "trust", "ada", commands); !strings.Contains(said, want) {
			t.Errorf("%s: %s", commands, said)
		}
	}
	for _, commands := range []string{"mkdir fresh", "rmdir collections", "rename collections other"} {
		if said := client(at, "trust", "warden", commands); !strings.Contains(said, "NT_STATUS_") {
			t.Errorf("%s goes: %s", commands, said)
		}
	}
	session, err := smb.Dial(ctx, smb.Target{Address: at.HostPort(), Account: "ada", Password: standintest.Password("ada")})
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	tr, err := session.Tree(ctx, "trust", "")
	if err != nil {
		t.Fatal(err)
	}
	defer tr.Close()
	for path, away := range map[string]bool{"collections": false, "collections/herbarium": true, "collections/herbarium/2026": true, "nothing": false} {
		if _, err := tr.Stat(ctx, path); smb.LeadsAway(err) != away {
			t.Errorf("%s leads away: %v", path, err)
		}
	}
	if list, err := k.Connected(ctx, "trust"); err != nil || len(list) == 0 || list[0].Machine == "" || list[0].Since.IsZero() {
		t.Errorf("connected are %+v, %v", list, err)
	}
	// A share of the file service is in nobody's way, and a front is no part of one.
	for share, want := range map[string]error{"other": nil} {
		if _, err := k.Offer(ctx, share, "a\nb \\ %U"); !errors.Is(err, want) {
			t.Errorf("%s: %v", share, err)
		}
	}
	if err := errors.Join(k.Withdraw(ctx, "trust"), k.Withdraw(ctx, "never")); err != nil {
		t.Fatal(err)
	}
	if said := client(at, "trust", "ada", "ls"); !strings.Contains(said, "BAD_NETWORK_NAME") {
		t.Errorf("it is still offered: %s", said)
	}
}

// What stands in the way of a front's share is told, and nothing is changed.
func TestInTheWay(t *testing.T) {
	at := standintest.FrontServer(t, "bracken", "trust")
	k, err := front.Open(at.FrontsFolder(), t.TempDir(), at.Configuration())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Offer(t.Context(), "trust", ""); !errors.Is(err, fs.ErrExist) {
		t.Errorf("in the place of a share: %v", err)
	}
	if _, err := os.Stat(filepath.Join(filepath.Dir(at.Configuration()), "bspan-fronts.conf")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the file is there: %v", err)
	}
	plain := standintest.OnStandardPort(t, "fern", "herbarium")
	k, err = front.Open(filepath.Join(plain.Dir, "fronts"), t.TempDir(), plain.Configuration())
	if err != nil {
		t.Fatal(err)
	}
	o, err := k.Offered(t.Context(), "trust")
	if err != nil || len(o.ByHand) != 1 || !strings.HasPrefix(o.ByHand[0], "include = ") {
		t.Errorf("of a configuration that includes nothing: %+v, %v", o, err)
	}
	if _, err := k.Offer(t.Context(), "trust", ""); err == nil {
		t.Error("it is offered by a configuration that includes nothing")
	}
}
