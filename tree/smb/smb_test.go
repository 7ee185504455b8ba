package smb_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
	"bridgespan/tree/treetest"
)

func dial(t *testing.T, server *fileserver.Server, account string) *smb.Session {
	t.Helper()
	s, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: account, Password: standintest.Password(account)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func share(t *testing.T, s *smb.Session, name, sub string) *smb.Tree {
	t.Helper()
	tr, err := s.Tree(t.Context(), name, sub)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestAgainstRealServer(t *testing.T) {
	server := standintest.FileServer(t, "oak", "store", "private")
	warden := dial(t, server, "warden")

	t.Run("ReadBack", func(t *testing.T) {
		root := share(t, warden, "store", "")
		if err := root.Mkdir(t.Context(), "back"); err != nil {
			t.Fatal(err)
		}
		treetest.ReadBack(t, share(t, warden, "store", "back"), filepath.Join(server.SharePath("store"), "back"))
	})

	t.Run("Conformance", func(t *testing.T) {
		root := share(t, warden, "store", "")
		n := 0
		treetest.Run(t, func(t *testing.T) tree.Tree {
			n++
			name := fmt.Sprintf("case-%d", n)
			if err := root.Mkdir(t.Context(), name); err != nil {
				t.Fatal(err)
			}
			return share(t, warden, "store", name)
		})
	})
	t.Run("ManyDescriptors", func(t *testing.T) { testManyDescriptors(t, server, warden) })
	t.Run("SameAsSmbclient", func(t *testing.T) { testSameAsSmbclient(t, server, warden) })
	t.Run("Refusals", func(t *testing.T) { testRefusals(t, server, warden) })
	t.Run("Assemble", func(t *testing.T) { testAssemble(t, share(t, warden, "store", "")) })
	t.Run("AssembleOnTheWire", func(t *testing.T) { testOnTheWire(t, server) })
	t.Run("KeptOut", func(t *testing.T) { testKeptOut(t, func() *smb.Tree { return share(t, warden, "store", "") }) })
	t.Run("Protect", func(t *testing.T) { testProtect(t, server, warden) })
	t.Run("NothingLeft", func(t *testing.T) { testNothingLeft(t, server, warden) })
	t.Run("HostileAnswers", func(t *testing.T) { testHostileAnswers(t, server) })
	t.Run("BetweenSignIn", func(t *testing.T) { testBetweenSignIn(t, server) })
	t.Run("NamesOfTheWire", func(t *testing.T) {
		root := share(t, warden, "store", "")
		for _, name := range []string{`a\b`, "a:b", "what?", "star*", "tail.", "tail ", "tab\t"} {
			if _, err := root.Put(t.Context(), name, strings.NewReader(""), tree.PutOptions{}); !errors.Is(err, fs.ErrInvalid) {
				t.Errorf("Put(%q): %v, want fs.ErrInvalid", name, err)
			}
		}
	})
	t.Run("Unreachable", func(t *testing.T) {
		root := share(t, warden, "store", "")
		server.Halt()
		if _, err := root.Stat(t.Context(), "."); !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("Stat on a halted server: %v, want ErrUnreachable", err)
		}
		_, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "ada", Password: "x"})
		if !errors.Is(err, tree.ErrUnreachable) {
			t.Errorf("Dial to a halted server: %v, want ErrUnreachable", err)
		}
	})
}

// testSameAsSmbclient writes with us and reads with Samba's own client.
func testSameAsSmbclient(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	root := share(t, warden, "store", "")
	want := bytes.Repeat([]byte("Digitalis purpurea\n"), 100_000)
	if _, err := root.Put(t.Context(), "ledger.csv", bytes.NewReader(want), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	local := filepath.Join(t.TempDir(), "ledger.csv")
	out, err := exec.Command("smbclient", "//"+server.Address+"/store", "-p", fmt.Sprint(server.Port),
		"-U", "warden%"+standintest.Password("warden"), "-c", "get ledger.csv "+local).CombinedOutput()
	if err != nil {
		t.Fatalf("smbclient: %v: %s", err, out)
	}
	if got, err := os.ReadFile(local); err != nil || !bytes.Equal(got, want) {
		t.Errorf("smbclient reads %d bytes, %v; want %d equal ones", len(got), err, len(want))
	}
}

func testRefusals(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	_, err := smb.Dial(context.Background(), smb.Target{Address: server.HostPort(), Account: "ada", Password: "wrong"})
	if !errors.Is(err, smb.ErrSignIn) {
		t.Errorf("wrong password: %v, want ErrSignIn", err)
	}
	if _, err := warden.Tree(t.Context(), "vanished", ""); !errors.Is(err, smb.ErrNoShare) {
		t.Errorf("missing share: %v, want ErrNoShare", err)
	}
	testClosedBase(t, share(t, warden, "store", ""), share(t, dial(t, server, "ben"), "store", ""))
	root := share(t, warden, "private", "")
	if _, err := root.Put(t.Context(), "minutes.txt", strings.NewReader("x"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	closed := mustParse(t, "O:BAG:BAD:PAI(A;OICI;FA;;;BA)")
	if err := root.Apply(t.Context(), "minutes.txt", tree.Meta{Descriptor: closed}); err != nil {
		t.Fatal(err)
	}
	ben := share(t, dial(t, server, "ben"), "private", "")
	if _, err := ben.Open(t.Context(), "minutes.txt"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben opens the minutes: %v, want fs.ErrPermission", err)
	}
}

func mustParse(t *testing.T, text string) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// A folder of many files is listed with their permissions, batch by batch, and
// the connection lives on: a server ends it when too much is asked at once.
func testManyDescriptors(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	root := share(t, warden, "store", "")
	const many = 1500
	if err := os.Mkdir(filepath.Join(server.SharePath("store"), "many"), 0o777); err != nil {
		t.Fatal(err)
	}
	for i := range many {
		if err := os.WriteFile(filepath.Join(server.SharePath("store"), "many", fmt.Sprintf("%04d", i)), nil, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	seen := map[string]bool{}
	for e, err := range root.List(t.Context(), "many", tree.WithDescriptors) {
		if err != nil {
			t.Fatal(err)
		}
		if e.Descriptor.IsZero() || seen[e.Name] {
			t.Fatalf("%s has no permissions, or is listed twice", e.Name)
		}
		seen[e.Name] = true
	}
	if len(seen) != many {
		t.Errorf("%d of %d files were listed", len(seen), many)
	}
}

// Whatever parts a file is made of, of bases of one window and of several, at the
// server there is what there should be.
func testAssemble(t *testing.T, root *smb.Tree) {
	random := rand.New(rand.NewPCG(1, 2))
	for i, size := range []int{2, 100, 70_000, 1<<24 - 1, 1 << 24, 1<<24 + 1, 40<<20 + 12345} {
		base := make([]byte, size)
		_, _ = rand.NewChaCha8([32]byte{byte(i)}).Read(base)
		from := fmt.Sprint("base", i)
		if _, err := root.Put(t.Context(), from, bytes.NewReader(base), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		for n := range 4 {
			parts, want := anyParts(random, base, n%2 == 0)
			name := fmt.Sprint("made", i, n)
			e, err := root.Assemble(t.Context(), name, from, parts, bytes.NewReader(want), tree.PutOptions{Size: int64(len(want)), SizeKnown: true})
			got, bad := tree.ReadFile(t.Context(), root, name)
			if err != nil || bad != nil || e.Size != int64(len(want)) || !bytes.Equal(got, want) {
				t.Errorf("%v of %d bytes: %d bytes of %d, %v, %v", parts, size, len(got), len(want), err, bad)
			}
			if err := root.Remove(t.Context(), name); err != nil {
				t.Fatal(err)
			}
		}
		if got, err := tree.ReadFile(t.Context(), root, from); err != nil || !bytes.Equal(got, base) {
			t.Errorf("the base of %d bytes is another one now, %v", size, err)
		}
	}
	// Much that goes to and fro is not worth while, and leaves nothing behind.
	var parts []chunk.Part
	for at := range int64(1000) {
		parts = append(parts, chunk.Part{At: at, Length: 1, From: 2000 - at})
	}
	if _, err := root.Assemble(t.Context(), "to and fro", "base2", parts, strings.NewReader(""), tree.PutOptions{}); !errors.Is(err, tree.ErrUnsupported) {
		t.Errorf("a thousand parts: %v, want ErrUnsupported", err)
	}
	for e, err := range root.List(t.Context(), ".", tree.Plain) {
		if err != nil || strings.HasPrefix(e.Name, "made") || strings.HasPrefix(e.Name, "to and") {
			t.Errorf("%s was left behind, %v", e.Name, err)
		}
	}
}

// anyParts makes up parts of a base, and what they make together. Those in place stand
// where they belong.
func anyParts(random *rand.Rand, base []byte, inPlace bool) (parts []chunk.Part, made []byte) {
	most := len(base)/2 + 1
	for range 1 + random.IntN(6) {
		p := chunk.Part{At: int64(len(made)), Length: int64(1 + random.IntN(most)), From: -1}
		if random.IntN(3) > 0 {
			p.From = int64(random.IntN(len(base)))
			if inPlace {
				p.From = p.At
			}
			p.Length = min(p.Length, int64(len(base))-p.From)
		}
		if p.Length <= 0 {
			continue
		}
		if p.From < 0 {
			fresh := make([]byte, p.Length)
			_, _ = rand.NewChaCha8([32]byte{byte(random.IntN(256)), 1}).Read(fresh)
			made = append(made, fresh...)
		} else {
			made = append(made, base[p.From:p.From+p.Length]...)
		}
		parts = append(parts, p)
	}
	return parts, made
}

// Of a file that somebody may not read no other one is made; whether one may be made
// without it is another question.
func testClosedBase(t *testing.T, root, ben *smb.Tree) {
	t.Helper()
	for name, rights := range map[string]string{"open": "O:BAG:BAD:PAI(A;OICI;FA;;;WD)", "open/closed.txt": "O:BAG:BAD:PAI(A;;FA;;;BA)"} {
		if err := root.Mkdir(t.Context(), "open"); err != nil && !errors.Is(err, fs.ErrExist) {
			t.Fatal(err)
		}
		if _, err := root.Put(t.Context(), "open/closed.txt", strings.NewReader("minutes"), tree.PutOptions{Replace: true}); err != nil {
			t.Fatal(err)
		}
		if err := root.Apply(t.Context(), name, tree.Meta{Descriptor: mustParse(t, rights)}); err != nil {
			t.Fatal(err)
		}
	}
	_, err := ben.Assemble(t.Context(), "open/copy.txt", "open/closed.txt", []chunk.Part{{Length: 7}}, nil, tree.PutOptions{Size: 7, SizeKnown: true})
	if !errors.Is(err, tree.ErrUnsupported) {
		t.Errorf("ben makes a file of a closed one: %v, want ErrUnsupported", err)
	}
	if _, err := ben.Put(t.Context(), "open/copy.txt", strings.NewReader("his own"), tree.PutOptions{}); err != nil {
		t.Errorf("ben makes a file without it: %v", err)
	}
}

// A file whose permissions do not name us comes where the folder lets us move and remove
// what is in it; elsewhere it does not come, and nothing stays behind.
func testKeptOut(t *testing.T, open func() *smb.Tree) {
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	others := mustParse(t, "O:S-1-22-1-0G:S-1-22-2-0D:P(A;;FA;;;S-1-22-1-0)(A;;FR;;;WD)")
	for folder, c := range map[string]struct {
		rights string
		want   error
	}{
		"narrow": {"O:BAG:BAD:PAI(A;OICI;0x1301bf;;;BA)", tree.ErrKeepsOut},
		"wide":   {"O:BAG:BAD:PAI(A;OICI;FA;;;BA)", nil},
	} {
		root := open() // which remembers what it has tried
		if err := root.Mkdir(t.Context(), folder); err != nil {
			t.Fatal(err)
		}
		if err := root.Apply(t.Context(), folder, tree.Meta{Descriptor: mustParse(t, c.rights)}); err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{folder + "/first", folder + "/second"} {
			e, err := root.Stage(t.Context(), name, strings.NewReader("content"), tree.PutOptions{Size: 7, SizeKnown: true, Detail: tree.WithDescriptors, Meta: tree.Meta{Modified: at, Descriptor: others}})
			if !errors.Is(err, c.want) {
				t.Errorf("%s: %v, want %v", name, err, c.want)
			}
			if err == nil && (!e.Modified.Equal(at) || len(acl.Compare(e.Descriptor.Parts(), others.Parts())) > 0) {
				t.Errorf("%s is %+v", name, e)
			}
			if err := root.Remove(t.Context(), name); c.want == nil && err != nil || c.want != nil && !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s cannot be removed, or stayed: %v", name, err)
			}
		}
		for e, err := range root.List(t.Context(), folder, tree.Plain) { // but an empty one, once
			if err != nil || c.want == nil || e.Name != "first.try" || e.Size > 0 {
				t.Errorf("in %s is %+v, %v", folder, e, err)
			}
		}
	}
}
