package smbadmin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// asked are the rights that are tried for real, one by one and as programs ask for them.
var asked = []acl.Mask{
	acl.ReadData, acl.WriteData, acl.AppendData, acl.ReadExtra, acl.WriteExtra, acl.Execute, acl.ReadAttr, acl.WriteAttr,
	acl.Delete, acl.ReadControl, acl.WriteControl, acl.TakeOwnership,
	acl.ReadAccess, acl.WriteAccess, acl.Change.Mask(), acl.AllAccess, acl.ReadData | acl.WriteControl,
}

// try opens files with exactly the rights asked for, as Samba's own client
// does, and prints which were let in.
const try = `
import json, sys
from samba import credentials, NTSTATUSError
from samba.param import LoadParm
from samba.samba3 import libsmb_samba_internal as libsmb, param
order = json.load(sys.stdin)
lp = param.get_context()
lp.load_default() if False else lp.load("/dev/null")
out = []
for person in order["people"]:
    creds = credentials.Credentials()
    creds.guess(LoadParm())
    creds.set_username(person["name"])
    creds.set_password(person["password"])
    creds.set_domain("")
    creds.set_kerberos_state(credentials.DONT_USE_KERBEROS)
    for share in order["shares"]:
        conn = libsmb.Conn(order["host"], share, lp, creds)
        for path in order["paths"]:
            row = []
            for mask in order["masks"]:
                try:
                    handle = conn.create(path, DesiredAccess=mask, ShareAccess=7, CreateDisposition=1)
                    conn.close(handle)
                    row.append(0)
                except NTSTATUSError as e:
                    row.append(e.args[0] & 0xFFFFFFFF)
            out.append(row)
json.dump(out, sys.stdout)
`

// What we say that somebody may do is what the server then lets them do:
// thousands of combinations of permissions, share, person and right, each
// tried for real.
func TestEffectiveAccessAgreesWithTheServer(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("Samba's client needs port 445")
	}
	server := onStandardPort(t)
	machine := account.MustSID(server.SID)
	a := New(dial(t, server, "warden", standintest.Password("warden")))
	narrow, _ := acl.Parse(fmt.Sprintf("D:(A;;0x1200a9;;;WD)(A;;0x1301bf;;;%s)", machine.Child(2001)))
	share, err := a.Share(t.Context(), "narrow")
	if err != nil {
		t.Fatal(err)
	}
	share.Permissions = narrow
	if err := a.EditShare(t.Context(), share); err != nil {
		t.Fatal(err)
	}
	store, err := dial(t, server, "warden", standintest.Password("warden")).Tree(t.Context(), "wide", "")
	if err != nil {
		t.Fatal(err)
	}
	objects := generate(t, store, machine)
	wide, err := a.Share(t.Context(), "wide")
	if err != nil {
		t.Fatal(err)
	}
	compareWithServer(t, a, server, objects, map[string]acl.Descriptor{"wide": wide.Permissions, "narrow": narrow})
}

// onStandardPort starts a server with two shares of the same folder.
func onStandardPort(t *testing.T) *fileserver.Server {
	t.Helper()
	place := filepath.Join(t.TempDir(), "server")
	dir, err := fileserver.Place(place)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fileserver.Discard(place) })
	pid := os.Getpid()
	s, err := fileserver.Start(fileserver.Config{
		Dir: dir, Name: "judge", Address: fmt.Sprintf("127.%d.%d.30", 64+pid%64, pid/64%250), Port: 445, SID: "S-1-5-21-3001-3002-3003",
		Groups: []fileserver.Group{{Name: "keepers", RID: 2001}, {Name: "others", RID: 2002}},
		Accounts: []fileserver.Account{{Name: "warden", Password: standintest.Password("warden"), RID: 5001, Administrator: true},
			{Name: "ada", Password: standintest.Password("ada"), RID: 5101, Groups: []string{"keepers"}}, {Name: "ben", Password: standintest.Password("ben"), RID: 5102, Groups: []string{"others"}}},
		Shares: []fileserver.Share{{Name: "wide"}, {Name: "narrow", Path: "wide"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

// object is a file that is tried, with what decides about it.
type object struct {
	path        string
	own, parent acl.Parts
}

// generate makes files with permissions of all sorts, in folders of several kinds.
func generate(t *testing.T, store tree.Tree, machine account.SID) []object {
	t.Helper()
	source := rand.New(rand.NewPCG(7, 9))
	people := []account.SID{machine.Child(5101), machine.Child(5102), machine.Child(2001), machine.Child(2002), account.Everyone, account.AuthenticatedUsers, account.Administrators, account.OwnerRights, machine.Child(4999)}
	masks := []acl.Mask{acl.AllAccess, acl.Change.Mask(), acl.Read.Mask(), acl.ReadAccess, acl.WriteAccess, acl.Delete, acl.WriteControl, acl.TakeOwnership, acl.ReadData, acl.WriteData | acl.AppendData, acl.GenericRead, acl.GenericAll, acl.ReadControl}
	owners := []account.SID{account.Administrators, machine.Child(5101), machine.Child(5102)}
	draw := func() acl.Parts {
		p := acl.Parts{Owner: owners[source.IntN(len(owners))], Group: account.Administrators, Control: acl.DACLProtected}
		var entries []acl.Entry
		for range source.IntN(6) {
			e := acl.Entry{Mask: masks[source.IntN(len(masks))], Account: people[source.IntN(len(people))]}
			if source.IntN(4) == 0 {
				e.Type = acl.Deny
			}
			entries = append(entries, e)
		}
		return p.WithEntries(entries)
	}
	var objects []object
	for f := range 6 {
		folder := fmt.Sprintf("folder%d", f)
		if err := store.Mkdir(t.Context(), folder); err != nil {
			t.Fatal(err)
		}
		for i := range 24 {
			name := fmt.Sprintf("%s/file%d", folder, i)
			if _, err := store.Put(t.Context(), name, strings.NewReader("x"), tree.PutOptions{}); err != nil {
				t.Fatal(err)
			}
			objects = append(objects, object{path: name, own: apply(t, store, name, draw())})
		}
		parent := acl.Parts{Owner: account.Administrators, Group: account.Administrators, Control: acl.DACLProtected}.WithEntries([]acl.Entry{
			{Mask: acl.Read.Mask(), Account: account.Everyone}, {Mask: acl.AllAccess, Account: account.Administrators}})
		if f%2 == 1 { // whoever is in keepers may remove what is in it
			parent = parent.Grant(acl.Allow, machine.Child(2001), acl.DeleteChild|acl.Read.Mask(), 0)
		}
		parent = apply(t, store, folder, parent)
		for i := len(objects) - 24; i < len(objects); i++ {
			objects[i].parent = parent
		}
	}
	return objects
}

// apply sets permissions. They are not read back: most of them do not let the
// administrator do so.
func apply(t *testing.T, store tree.Tree, name string, p acl.Parts) acl.Parts {
	t.Helper()
	d, err := p.Descriptor()
	if err != nil {
		t.Fatal(err)
	}
	if err := store.Apply(t.Context(), name, tree.Meta{Descriptor: d}); err != nil {
		t.Fatalf("%s: %s: %v", name, d, err)
	}
	return p
}

func compareWithServer(t *testing.T, a *Admin, server *fileserver.Server, objects []object, shares map[string]acl.Descriptor) {
	t.Helper()
	type person struct {
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	order := struct {
		Host   string     `json:"host"`
		People []person   `json:"people"`
		Shares []string   `json:"shares"`
		Paths  []string   `json:"paths"`
		Masks  []acl.Mask `json:"masks"`
	}{Host: server.Address, People: []person{{"ada", standintest.Password("ada")}, {"ben", standintest.Password("ben")}}, Shares: []string{"wide", "narrow"}, Masks: asked}
	for _, o := range objects {
		order.Paths = append(order.Paths, strings.ReplaceAll(o.path, "/", `\`))
	}
	text, err := json.Marshal(order)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("/usr/bin/python3", "-c", try) // Debian's, which has the module
	cmd.Stdin = bytes.NewReader(text)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	answer, err := cmd.Output()
	if err != nil {
		t.Fatalf("%v: %s", err, stderr.String())
	}
	var rows [][]uint32
	if err := json.Unmarshal(answer, &rows); err != nil {
		t.Fatal(err)
	}
	tried, allowed, wrong := 0, 0, 0
	for _, p := range order.People {
		token := tokenOf(t, a, account.MustSID(server.SID), p.Name)
		for _, share := range order.Shares {
			through := shares[share].Parts()
			for _, o := range objects {
				row := rows[0]
				rows = rows[1:]
				effective := acl.Object{Permissions: o.own, Parent: &o.parent, Share: &through}.Effective(token)
				for i, mask := range asked {
					tried++
					let := row[i] == 0
					if let {
						allowed++
					} else if row[i] != 0xC0000022 {
						t.Fatalf("%s: status 0x%08x", o.path, row[i])
					}
					if say := (effective|acl.Synchronize)&mask == mask; let != say {
						if wrong++; wrong > 10 {
							continue
						}
						d, _ := o.own.Descriptor()
						t.Errorf("%s asks 0x%x of %s through %s (%s): the server lets in %v, we say 0x%x %v", p.Name, uint32(mask), o.path, share, d, let, uint32(effective), say)
					}
				}
			}
		}
	}
	t.Logf("%d combinations tried, %d let in, %d wrong", tried, allowed, wrong)
	if tried < 2000 || allowed < tried/10 || allowed > tried*9/10 {
		t.Errorf("%d combinations with %d let in prove little", tried, allowed)
	}
}

// tokenOf asks the server what somebody belongs to.
func tokenOf(t *testing.T, a *Admin, machine account.SID, name string) *account.Token {
	t.Helper()
	found, err := a.SIDsOf(t.Context(), []string{name})
	if err != nil || !found[0].SID.In(machine) {
		t.Fatalf("%+v, %v", found, err)
	}
	token := account.NewToken(found[0].SID, 0)
	groups, err := a.GroupsOf(t.Context(), []account.SID{found[0].SID})
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range groups {
		token.Add(g, found[0].SID)
	}
	return token
}

// What we say that new files and folders inherit is what the server gives
// them, and its own tools show the same permissions that we read.
func TestInheritanceAgreesWithTheServer(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("Samba's client needs port 445")
	}
	server := onStandardPort(t)
	machine := account.MustSID(server.SID)
	store, err := dial(t, server, "warden", standintest.Password("warden")).Tree(t.Context(), "wide", "")
	if err != nil {
		t.Fatal(err)
	}
	keepers := machine.Child(2001).String()
	base := "O:BAG:BAD:PAI(A;OICI;FA;;;BA)"
	for i, entries := range []string{
		"(A;OICI;0x1301bf;;;" + keepers + ")", "(A;OI;FR;;;WD)", "(A;CI;FR;;;WD)", "(A;OICINP;FR;;;WD)", "(A;OICIIO;FR;;;WD)", "(A;OICIIO;FA;;;CO)(A;OICI;FR;;;CG)",
		"(D;OICI;0x2;;;WD)(A;OI;0x1200a9;;;" + keepers + ")", "(A;;FR;;;WD)", "(A;CIIO;FA;;;CO)", "(A;OINP;FX;;;WD)(A;CINP;FR;;;" + keepers + ")", "(A;OICIIO;GA;;;CO)",
	} {
		folder := fmt.Sprintf("case%d", i)
		if err := store.Mkdir(t.Context(), folder); err != nil {
			t.Fatal(err)
		}
		parent, err := acl.ParseParts(base + entries)
		if err != nil {
			t.Fatal(err)
		}
		d, err := parent.Descriptor()
		if err != nil {
			t.Fatal(err)
		}
		if err := store.Apply(t.Context(), folder, tree.Meta{Descriptor: d}); err != nil {
			t.Fatal(err)
		}
		if d, err = store.Descriptor(t.Context(), folder); err != nil { // servers write general rights as those of files
			t.Fatal(err)
		}
		parent = d.Parts()
		if err := store.Mkdir(t.Context(), folder+"/sub"); err != nil {
			t.Fatal(err)
		}
		if _, err := store.Put(t.Context(), folder+"/file", strings.NewReader("x"), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		for name, isFolder := range map[string]bool{"/sub": true, "/file": false} {
			got, err := store.Descriptor(t.Context(), folder+name)
			if err != nil {
				t.Fatal(err)
			}
			p := got.Parts()
			want := acl.New(parent, isFolder, p.Owner, p.Group).Entries()
			if !sameEntries(p.Entries(), want) {
				text, _ := acl.New(parent, isFolder, p.Owner, p.Group).Descriptor()
				t.Errorf("%s%s: the server gives\n%s, we say\n%s", entries, name, got, text)
			}
			if p.Stale(parent, isFolder) {
				t.Errorf("%s%s is called stale", entries, name)
			}
			theirs := toolSays(t, server, folder+name)
			if theirs != got {
				t.Errorf("%s%s: the server's tool shows\n%s, we read\n%s", entries, name, theirs, got)
			}
		}
	}
}

// sameEntries compares lists of inherited entries, whether or not the server
// marks them as such (it does when the folder above was marked).
func sameEntries(a, b []acl.Entry) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		x, y := a[i], b[i]
		x.Flags, y.Flags = x.Flags&^acl.Inherited, y.Flags&^acl.Inherited
		if x != y {
			return false
		}
	}
	return true
}

// toolSays reads permissions with Samba's own command.
func toolSays(t *testing.T, server *fileserver.Server, path string) acl.Descriptor {
	t.Helper()
	out, err := exec.Command("smbcacls", "--sddl", "--domain-sid", server.SID, "-U", "warden%"+standintest.Password("warden"), "//"+server.Address+"/wide", path).Output()
	if err != nil {
		t.Fatalf("smbcacls: %v: %s", err, out)
	}
	p, err := acl.ParsePartsIn(account.MustSID(server.SID), strings.TrimSpace(string(out)))
	if err != nil {
		t.Fatalf("smbcacls: %v", err)
	}
	d, err := p.Descriptor()
	if err != nil {
		t.Fatal(err)
	}
	return d.WithoutSACL()
}
