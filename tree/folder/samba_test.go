package folder_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"bridgespan/core/acl"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/smb"
	"bridgespan/tree/treetest"
)

func shared(t *testing.T, dir string, by *folder.Keeping) tree.Tree {
	t.Helper()
	tr, err := folder.OpenShared(dir, by)
	if errors.Is(err, tree.ErrUnsupported) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestConformanceOfKeeping(t *testing.T) {
	for name, by := range map[string]*folder.Keeping{"samba": folder.OfSamba, "anybody": folder.OfAnybody} {
		t.Run(name, func(t *testing.T) {
			treetest.Run(t, func(t *testing.T) tree.Tree { return shared(t, t.TempDir(), by) })
		})
	}
}

// What an earlier version kept where anybody may set it is carried over, once: what anybody sets later says nothing of
// permissions.
func TestAdopted(t *testing.T) {
	for what, by := range map[string]*folder.Keeping{"own": folder.Own, "samba": folder.OfSamba} {
		t.Run(what, func(t *testing.T) { testAdopted(t, by) })
	}
}

func testAdopted(t *testing.T, by *folder.Keeping) {
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "beds"), 0o755); err != nil {
		t.Fatal(err)
	}
	before := shared(t, dir, folder.OfAnybody)
	hidden := tree.Hidden
	keepers := parse(t, "O:BAG:BAD:P(A;;FA;;;BA)")
	stage := func(in tree.Tree, name string) {
		t.Helper()
		if _, err := tree.Stage(t.Context(), in, name, strings.NewReader("x"), tree.PutOptions{Meta: tree.Meta{Descriptor: keepers, Attributes: &hidden}}); err != nil {
			t.Fatal(err)
		}
	}
	stage(before, "beds/f")
	stage(before, "g")
	want := func(in tree.Tree, name string) {
		t.Helper()
		if d, err := in.Descriptor(t.Context(), name); err != nil || d != keepers {
			t.Errorf("%s: the descriptor is %s, %v", name, d, err)
		}
	}
	now := shared(t, dir, by)
	for _, name := range []string{"beds/f", "g"} {
		want(now, name)
		if e, err := now.Stat(t.Context(), name); err != nil || e.Attributes != tree.Hidden {
			t.Errorf("%s: %+v, %v", name, e, err)
		}
	}
	// A forged one, and a file that has no other.
	stage(now, "beds/h")
	forged := parse(t, "O:WDG:WDD:(A;;FA;;;WD)").Binary()
	if err := os.WriteFile(filepath.Join(dir, "new"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"beds/h", "new"} {
		if err := syscall.Setxattr(filepath.Join(dir, name), "user.bspan.descriptor", forged, 0); err != nil {
			t.Fatal(err)
		}
	}
	later := shared(t, dir, by)
	want(later, "beds/h")
	if d, err := later.Descriptor(t.Context(), "new"); err != nil || !d.IsZero() {
		t.Errorf("forged is %s, %v", d, err)
	}
}

// What smbd keeps in a folder of which nobody said that Samba shares it says nothing, and what cannot be read keeps no mover
// from its start.
func TestNotAdopted(t *testing.T) {
	dir := t.TempDir()
	now := shared(t, dir, folder.OfSamba)
	if _, err := tree.Stage(t.Context(), now, "f", strings.NewReader("x"), tree.PutOptions{Meta: tree.Meta{Descriptor: parse(t, "O:WDG:WDD:(A;;FA;;;WD)")}}); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Removexattr(dir, "trusted.bspan.kept"); err != nil {
		t.Fatal(err)
	}
	own := shared(t, dir, nil)
	if d, err := own.Descriptor(t.Context(), "f"); err != nil || !d.IsZero() {
		t.Errorf("smbd's own is taken: %s, %v", d, err)
	}
	keepers := parse(t, "O:BAG:BAD:P(A;;FA;;;BA)")
	if err := own.Apply(t.Context(), "f", tree.Meta{Descriptor: keepers}); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Setxattr(filepath.Join(dir, "f"), "security.NTACL", []byte("nothing that smbd writes"), 0); err != nil {
		t.Fatal(err)
	}
	again, err := folder.OpenShared(dir, folder.OfSamba)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if d, err := again.Descriptor(t.Context(), "f"); err == nil {
		t.Errorf("what cannot be read is %s", d)
	}
}

func parse(t *testing.T, sddl string) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse(sddl)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// A folder that a file service shares as well has the same permissions and attributes through both, and people may do what these say.
func TestBesideSamba(t *testing.T) {
	server := standintest.FileServer(t, "SEDGE", "store")
	here := shared(t, server.SharePath("store"), folder.OfSamba)
	session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	there, err := session.Tree(t.Context(), "store", "")
	if err != nil {
		t.Fatal(err)
	}
	const open, closed = "O:BAG:BAD:P(A;OICI;FA;;;BA)(A;OICI;0x1200a9;;;WD)", "O:BAG:BAD:P(A;;FA;;;BA)"
	if err := there.Mkdir(t.Context(), "beds"); err != nil {
		t.Fatal(err)
	}
	if err := there.Apply(t.Context(), "beds", tree.Meta{Descriptor: parse(t, open)}); err != nil {
		t.Fatal(err)
	}
	if d, err := here.Descriptor(t.Context(), "beds"); err != nil || d != parse(t, open) {
		t.Errorf("set through the file service, it is %s, %v", d, err)
	}
	hidden := tree.Hidden
	for name, sddl := range map[string]string{"beds/open": open, "beds/closed": closed} {
		_, err := tree.Stage(t.Context(), here, name, strings.NewReader("fern"), tree.PutOptions{Meta: tree.Meta{Descriptor: parse(t, sddl), Attributes: &hidden}})
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Join(server.SharePath("store"), name), 0o666); err != nil {
			t.Fatal(err)
		}
		d, err := there.Descriptor(t.Context(), name)
		if err != nil || d.Parts().Owner != parse(t, sddl).Parts().Owner || len(d.Parts().Entries()) != len(parse(t, sddl).Parts().Entries()) {
			t.Errorf("%s: set here, through the file service it is %s, %v", name, d, err)
		}
		if e, err := there.Stat(t.Context(), name); err != nil || e.Attributes&tree.Hidden == 0 {
			t.Errorf("%s: %+v, %v; want it hidden", name, e, err)
		}
	}
	readonly := tree.ReadOnly
	if err := there.Apply(t.Context(), "beds/open", tree.Meta{Attributes: &readonly}); err != nil {
		t.Fatal(err)
	}
	if e, err := here.Stat(t.Context(), "beds/open"); err != nil || e.Attributes != tree.ReadOnly|tree.Hidden {
		t.Errorf("%+v, %v; want it read-only", e, err)
	}
	for name, may := range map[string]bool{"beds/open": true, "beds/closed": false} {
		got := filepath.Join(t.TempDir(), "got")
		out, err := exec.CommandContext(t.Context(), "smbclient", "//"+server.Address+"/store", "-p", portOf(server.HostPort()), "-U", "ada%"+standintest.Password("ada"), "-c", "get "+strings.ReplaceAll(name, "/", `\`)+" "+got).CombinedOutput()
		_, missing := os.Stat(got)
		if (err == nil && missing == nil) != may {
			t.Errorf("%s: ada may read is %v, %v: %s", name, !may, err, out)
		}
	}
}

func portOf(address string) string { return address[strings.LastIndex(address, ":")+1:] }
