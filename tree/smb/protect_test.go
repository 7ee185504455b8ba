package smb_test

import (
	"errors"
	"io/fs"
	"strings"
	"testing"

	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// An ordinary user of a share, who may change everything else in it, comes to nothing in
// a folder that is protected, even where they made the folder themselves.
func testProtect(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	root, ben := share(t, warden, "store", ""), share(t, dial(t, server, "ben"), "store", "")
	for name, byBen := range map[string]bool{"ours": false, "planted": true} {
		if err := root.Mkdir(t.Context(), name); err != nil {
			t.Fatal(err)
		}
		if err := root.Apply(t.Context(), name, tree.Meta{Descriptor: mustParse(t, "O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FA;;;AU)")}); err != nil {
			t.Fatal(err)
		}
		work := name + "/.bspan"
		maker := root
		if byBen {
			maker = ben
		}
		if err := maker.Mkdir(t.Context(), work); err != nil {
			t.Fatal(err)
		}
		if err := root.Protect(t.Context(), work); err != nil {
			t.Fatal(err)
		}
		staged := work + "/staged"
		if _, err := root.Stage(t.Context(), staged, strings.NewReader("a secret"), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		for what, do := range map[string]func() error{
			"list":  func() error { return listOf(t, ben, work) },
			"read":  func() error { _, err := ben.Open(t.Context(), staged); return err },
			"write": func() error { return ben.MayWrite(t.Context(), staged) },
			"make": func() error {
				_, err := ben.Put(t.Context(), work+"/mine", strings.NewReader("x"), tree.PutOptions{})
				return err
			},
			"remove":  func() error { return ben.Remove(t.Context(), staged) },
			"take":    func() error { return ben.Rename(t.Context(), staged, name+"/mine", false) },
			"look at": func() error { _, err := ben.Descriptor(t.Context(), staged); return err },
			"permissions": func() error {
				return ben.Apply(t.Context(), work, tree.Meta{Descriptor: mustParse(t, "O:BAG:BAD:PAI(A;OICI;FA;;;WD)")})
			},
		} {
			if err := do(); !errors.Is(err, fs.ErrPermission) {
				t.Errorf("%s: ben may %s: %v", name, what, err)
			}
		}
		testSeal(t, root, ben, work)
		text, err := tree.ReadFile(t.Context(), root, staged)
		if err != nil || string(text) != "a secret" {
			t.Errorf("%s: it holds %q, %v", name, text, err)
		}
	}
}

// testSeal: not even by its exact path, and though they might do everything with it before,
// do people get at a file that is sealed.
func testSeal(t *testing.T, root, ben *smb.Tree, work string) {
	t.Helper()
	name, open := work+"/kept", mustParse(t, "O:BAG:BAD:P(A;;FA;;;BA)(A;;FA;;;AU)")
	if _, err := root.Stage(t.Context(), name, strings.NewReader("kept"), tree.PutOptions{Meta: tree.Meta{Descriptor: open}}); err != nil {
		t.Fatal(err)
	}
	if c, err := ben.Open(t.Context(), name); err != nil {
		t.Errorf("before it is sealed, ben could not open it by its exact path: the test shows nothing: %v", err)
	} else if err := c.Close(); err != nil {
		t.Error(err)
	}
	for range 2 { // once more changes nothing
		if err := root.Seal(t.Context(), name); err != nil {
			t.Error(err)
		}
	}
	if _, err := ben.Open(t.Context(), name); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben opens what is sealed: %v", err)
	}
	if err := ben.Apply(t.Context(), name, tree.Meta{Descriptor: open}); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben gives himself what is sealed: %v", err)
	}
	if err := root.Remove(t.Context(), name); err != nil {
		t.Error(err)
	}
}

func listOf(t *testing.T, tr *smb.Tree, folder string) error {
	for _, err := range tr.List(t.Context(), folder, tree.Plain) {
		if err != nil {
			return err
		}
	}
	return nil
}

// Where people may make files and not remove any, what could not be put in its place does
// not stay beside it.
func testNothingLeft(t *testing.T, server *fileserver.Server, warden *smb.Session) {
	root, ben := share(t, warden, "store", ""), share(t, dial(t, server, "ben"), "store", "")
	if err := root.Mkdir(t.Context(), "drop"); err != nil {
		t.Fatal(err)
	}
	// All but to delete, to change permissions and to take over.
	if err := root.Apply(t.Context(), "drop", tree.Meta{Descriptor: mustParse(t, "O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;0x1201bf;;;AU)")}); err != nil {
		t.Fatal(err)
	}
	if _, err := ben.Put(t.Context(), "drop/letter", strings.NewReader("a letter"), tree.PutOptions{Replace: true}); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("ben puts a file where none may be moved: %v", err)
	}
	for e, err := range root.List(t.Context(), "drop", tree.Plain) {
		t.Errorf("left behind: %s, %v", e.Name, err)
	}
}
