package front_test

import (
	"context"
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
	"bridgespan/tree"
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
	os.WriteFile(filepath.Join(one.SharePath("herbarium"), "2026/spring/a.txt"), []byte("hello"), 0o666)
	fmt.Println(client(at, "trust", "ada", "ls; cd collections; ls; cd herbarium; ls; cd 2026/spring; ls"))
	fmt.Println(client(at, "trust", "ada", "ls deep/*"))
	session, err := smb.Dial(ctx, smb.Target{Address: at.HostPort(), Account: "ada", Password: standintest.Password("ada")})
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	tr, err := session.Tree(ctx, "trust", "")
	if err != nil {
		t.Fatal(err)
	}
	for e, err := range tr.List(ctx, ".", tree.Plain) {
		fmt.Println(e, err)
	}
	e, err := tr.Stat(ctx, "collections/herbarium")
	fmt.Printf("%+v %#v %v\n", e, err, err)
	e, err = tr.Stat(ctx, "collections/herbarium/2026")
	fmt.Printf("%+v %v\n", e, err)
	_, err = session.Tree(ctx, "trust", "collections/herbarium")
	fmt.Printf("%v\n", err)
	_ = context.Background
	_ = errors.Is
	_ = fs.ErrExist
}
