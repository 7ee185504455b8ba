package smbadmin

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/process"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

func TestAgainstRealServer(t *testing.T) {
	server := standintest.FileServer(t, "elm", "store", "archive")
	g, err := Negotiate(t.Context(), server.HostPort())
	if err != nil {
		t.Fatal(err)
	}
	if g.DialectName() != "SMB 3.1.1" || g.Encryption == "" || g.ClockDifference.Abs() > 5*time.Second {
		t.Errorf("greeting %+v", g)
	}
	session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	a := New(session)
	t.Run("shares", func(t *testing.T) { sharesOf(t, a, server) })
	t.Run("accounts", func(t *testing.T) { accountsOf(t, a, server) })
	t.Run("names", func(t *testing.T) { namesOf(t, a, server) })
	t.Run("use", func(t *testing.T) { useOf(t, a, server) })
	t.Run("not an administrator", func(t *testing.T) { asAnybody(t, server) })
}

func dial(t *testing.T, server *fileserver.Server, person, password string) *smb.Session {
	t.Helper()
	session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: person, Password: password})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { session.Close() })
	return session
}

// sharesOf lists, makes, changes and removes shares, and sees each through the
// server's own eyes.
func sharesOf(t *testing.T, a *Admin, server *fileserver.Server) {
	ctx := t.Context()
	shares, err := a.Shares(ctx)
	if err != nil || len(shares) != 3 || shares[0].Name != "archive" || shares[1].Kind != "pipes" || !shares[1].Hidden || !shares[2].Known {
		t.Fatalf("shares %+v, %v", shares, err)
	}
	everybody, _ := acl.Parse("D:(A;;FA;;;WD)")
	if shares[2].Permissions != everybody || !strings.HasSuffix(shares[2].Path, `\store`) {
		t.Errorf("store is %+v", shares[2])
	}
	folder := filepath.Join(server.SharePath("store"), "with a space")
	if err := os.Mkdir(folder, 0o777); err != nil {
		t.Fatal(err)
	}
	keepers := account.MustSID(server.SID).Child(2001)
	narrow := acl.Parts{}.WithEntries([]acl.Entry{{Mask: acl.Change.Mask(), Account: keepers}, {Mask: acl.AllAccess, Account: account.Administrators}})
	permissions, err := narrow.Descriptor()
	if err != nil {
		t.Fatal(err)
	}
	made := Share{Name: "Herbier", Note: "Größe “quoted”", Path: shares[2].Path + `\with a space`, MaxUses: 7, Permissions: permissions}
	if err := a.CreateShare(ctx, made); err != nil {
		t.Fatal(err)
	}
	if err := a.CreateShare(ctx, made); !errors.Is(err, fs.ErrExist) {
		t.Errorf("the same share twice: %v", err)
	}
	got, err := a.Share(ctx, made.Name)
	if err != nil || got.Note != made.Note || got.Permissions != permissions {
		t.Errorf("made %+v, found %+v, %v", made, got, err)
	}
	made.Note, made.MaxUses = "changed", NoLimit
	if err := a.EditShare(ctx, made); err != nil {
		t.Error(err)
	}
	if got, err = a.Share(ctx, made.Name); err != nil || got.Note != "changed" || got.Permissions != permissions {
		t.Errorf("changed to %+v, found %+v, %v", made, got, err)
	}
	options := Options{HideUnreadable: true, Encrypt: true, Offline: OfflineNever}
	before, err := a.ShareOptions(ctx, made.Name)
	if err != nil || before != (Options{Offline: OfflineByHand}) {
		t.Errorf("options at first %+v, %v", before, err)
	}
	if err := a.SetShareOptions(ctx, made.Name, options); err != nil {
		t.Error(err)
	}
	if got, err := a.ShareOptions(ctx, made.Name); err != nil || got != options {
		t.Errorf("options set to %+v, found %+v, %v", options, got, err)
	}
	out, err := exec.Command("testparm", "-s", "--section-name="+made.Name, filepath.Join(server.Dir, "smb.conf")).CombinedOutput()
	for _, want := range []string{"hide unreadable = Yes", "smb encrypt = required", "csc policy = disable"} {
		if err != nil || !strings.Contains(string(out), want) {
			t.Errorf("the server does not say %q: %s, %v", want, out, err)
		}
	}
	nowhere := made
	nowhere.Name, nowhere.Path = "nowhere", `C:\no\such\folder`
	if err := a.CreateShare(ctx, nowhere); err == nil {
		t.Error("a share of a folder that is not there was made")
	}
	if err := a.RemoveShare(ctx, made.Name); err != nil {
		t.Error(err)
	}
	if err := a.RemoveShare(ctx, made.Name); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("removed twice: %v", err)
	}
	if _, err := a.Share(ctx, made.Name); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a removed share: %v", err)
	}
	if _, err := os.Stat(folder); err != nil {
		t.Errorf("the folder went with its share: %v", err)
	}
}

func accountsOf(t *testing.T, a *Admin, server *fileserver.Server) {
	ctx := t.Context()
	machine := account.MustSID(server.SID)
	users, err := a.Users(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if i := slices.IndexFunc(users, func(u LocalUser) bool { return u.Name == "ada" && u.SID == machine.Child(5101) && !u.Disabled }); i < 0 || len(users) != 3 {
		t.Errorf("users %+v", users)
	}
	team, err := a.CreateGroup(ctx, "field team")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.CreateGroup(ctx, "field team"); !errors.Is(err, fs.ErrExist) {
		t.Errorf("the same group twice: %v", err)
	}
	ada := machine.Child(5101)
	if err := a.AddMember(ctx, team, ada); err != nil {
		t.Fatal(err)
	}
	if err := a.AddMember(ctx, team, ada); !errors.Is(err, fs.ErrExist) {
		t.Errorf("the same member twice: %v", err)
	}
	groups, err := a.Groups(ctx)
	if i := slices.IndexFunc(groups, func(g LocalGroup) bool { return g.SID == team && slices.Equal(g.Members, []account.SID{ada}) }); err != nil || i < 0 {
		t.Errorf("groups %+v, %v", groups, err)
	}
	if i := slices.IndexFunc(groups, func(g LocalGroup) bool { return g.SID == account.Administrators && len(g.Members) == 1 }); i < 0 {
		t.Errorf("no administrators in %+v", groups)
	}
	held, err := a.GroupsOf(ctx, []account.SID{ada})
	if err != nil || !slices.Contains(held, team) {
		t.Errorf("ada's groups %v, %v; want %s", held, err, team)
	}
	if err := a.RemoveMember(ctx, team, ada); err != nil {
		t.Error(err)
	}
	if err := a.RemoveGroup(ctx, team); err != nil {
		t.Error(err)
	}
	if err := a.RemoveGroup(ctx, team); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("removed twice: %v", err)
	}
	target := smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")}
	cleo, err := CreateUser(ctx, target, "cleo", "mossy-9-Stones")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := CreateUser(ctx, target, "cleo", "mossy-9-Stones"); !errors.Is(err, fs.ErrExist) {
		t.Errorf("the same user twice: %v", err)
	}
	dial(t, server, "cleo", "mossy-9-Stones")
	if err := a.RemoveUser(ctx, cleo); err != nil {
		t.Error(err)
	}
	if _, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: "cleo", Password: "mossy-9-Stones"}); !errors.Is(err, smb.ErrSignIn) {
		t.Errorf("a removed user signs in: %v", err)
	}
}

func namesOf(t *testing.T, a *Admin, server *fileserver.Server) {
	ctx := t.Context()
	machine := account.MustSID(server.SID)
	realms, err := a.Realms(ctx)
	if err != nil || len(realms) != 1 || realms[0].SID != machine || !strings.EqualFold(realms[0].Name, "elm") {
		t.Errorf("realms %+v, %v", realms, err)
	}
	sids := []account.SID{machine.Child(5101), account.Administrators, account.Everyone, machine.Child(4999), account.MustSID("S-1-5-21-9-9-9-1000")}
	for i := range 1200 { // several batches
		sids = append(sids, machine.Child(uint32(70000+i)))
	}
	named, err := a.NamesOf(ctx, sids)
	if err != nil || len(named) != len(sids) {
		t.Fatalf("%d names, %v", len(named), err)
	}
	for i, want := range []Named{
		{sids[0], "ada", "ELM", account.User}, {sids[1], "Administrators", "", account.LocalGroup}, {sids[2], "Everyone", "", account.Special},
		{sids[3], "", "", account.Unresolved}, {sids[4], "", "", account.Unresolved},
	} {
		if named[i] != want {
			t.Errorf("named %+v, want %+v", named[i], want)
		}
	}
	if none, err := a.NamesOf(ctx, sids[3:4]); err != nil || none[0].Kind != account.Unresolved {
		t.Errorf("none to be named: %+v, %v", none, err)
	}
	found, err := a.SIDsOf(ctx, []string{"ada", "nobody-here", `ELM\ben`, "keepers", `BUILTIN\Administrators`, "Everyone"})
	if err != nil || len(found) != 6 {
		t.Fatalf("%+v, %v", found, err)
	}
	for i, want := range []account.SID{machine.Child(5101), {}, machine.Child(5102), machine.Child(2001), account.Administrators, account.Everyone} {
		if found[i].SID != want {
			t.Errorf("%s is %s, want %s", found[i].Name, found[i].SID, want)
		}
	}
	if none, err := a.SIDsOf(ctx, []string{"nobody-here"}); err != nil || none[0].Kind != account.Unresolved {
		t.Errorf("none to be found: %+v, %v", none, err)
	}
}

func useOf(t *testing.T, a *Admin, server *fileserver.Server) {
	ctx := t.Context()
	store, err := dial(t, server, "warden", standintest.Password("warden")).Tree(ctx, "store", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := store.Put(ctx, "held.txt", strings.NewReader("x"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	held, err := store.Open(ctx, "held.txt")
	if err != nil {
		t.Fatal(err)
	}
	defer held.Close()
	files, err := a.OpenFiles(ctx)
	if i := slices.IndexFunc(files, func(f OpenFile) bool {
		return strings.HasSuffix(strings.ReplaceAll(f.Path, `\`, "/"), "store/held.txt") && f.Person == "warden"
	}); err != nil || i < 0 {
		t.Errorf("open files %+v, %v", files, err)
	}
	sessions, err := a.Sessions(ctx)
	if i := slices.IndexFunc(sessions, func(s Session) bool { return s.Person == "warden" }); err != nil || i < 0 {
		t.Errorf("sessions %+v, %v", sessions, err)
	}
}

// asAnybody sees what somebody sees who is no administrator, and that changes are refused.
func asAnybody(t *testing.T, server *fileserver.Server) {
	a := New(dial(t, server, "ben", standintest.Password("ben")))
	shares, err := a.Shares(t.Context())
	if err != nil || len(shares) != 3 {
		t.Errorf("shares %+v, %v", shares, err)
	}
	if err := a.CreateShare(t.Context(), Share{Name: "mine", Path: `C:\tmp`, MaxUses: NoLimit}); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben makes a share: %v", err)
	}
	if err := a.RemoveShare(t.Context(), "store"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben removes a share: %v", err)
	}
	if _, err := a.CreateGroup(t.Context(), "ours"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben makes a group: %v", err)
	}
}

func TestNegotiateWithStrangers(t *testing.T) {
	port, err := process.FreePort("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	nobody := net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port}
	if _, err := Negotiate(t.Context(), nobody.String()); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("nobody listens: %v", err)
	}
	for _, answer := range []string{"", "HTTP/1.1 400 Bad Request\r\n\r\n", "\x00\x00\x00\x40short", "\xff\xff\xff\xff"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			conn, err := l.Accept()
			if err == nil {
				_, _ = conn.Write([]byte(answer))
				conn.Close()
			}
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		if _, err := Negotiate(ctx, l.Addr().String()); !errors.Is(err, ErrNotSMB) {
			t.Errorf("answer %q: %v, want ErrNotSMB", answer, err)
		}
		cancel()
		l.Close()
	}
}

// Whoever looks for a file service by the name of its host does not wait for one that says nothing.
func TestFindStrangers(t *testing.T) {
	if err := Find(t.Context(), "nowhere.invalid"); !errors.Is(err, ErrUnknownName) { // RFC 2606, section 2
		t.Errorf("a name that nobody knows: %v", err)
	}
	const silent = "127.193.9.3" // of this test alone
	l, err := net.Listen("tcp", net.JoinHostPort(silent, "445"))
	if err != nil {
		t.Skip("port 445 may not be used here: ", err)
	}
	defer l.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := Find(ctx, silent); err == nil || errors.Is(err, ErrUnknownName) {
		t.Errorf("somebody who says nothing: %v", err)
	}
}

func FuzzParseGreeting(f *testing.F) {
	frame := make([]byte, 64+64)
	copy(frame, "\xfeSMB")
	binary.LittleEndian.PutUint16(frame[68:], 0x0311)
	binary.LittleEndian.PutUint16(frame[70:], 3)
	f.Add(frame)
	f.Add(bytes.Repeat([]byte{0xff}, 200))
	f.Fuzz(func(t *testing.T, frame []byte) {
		_, _ = parseGreeting(frame)
		_, _ = readFrame(bytes.NewReader(frame))
	})
}
