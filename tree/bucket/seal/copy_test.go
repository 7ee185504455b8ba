package seal_test

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"

	"bridgespan/tree/bucket/seal"
)

func TestParseRecoveryKeys(t *testing.T) {
	public, private, err := seal.NewRecoveryKey()
	if err != nil {
		t.Fatal(err)
	}
	k := newKey(t)
	if keys, err := seal.ParseRecoveryKeys([]string{public, " " + k.Recipient() + " "}); err != nil || len(keys) != 2 {
		t.Errorf("%d keys, %v", len(keys), err)
	}
	for _, bad := range [][]string{nil, {""}, {"age1"}, {public + "\n" + public}, {"# " + public}, {public, "fern"}} {
		if _, err := seal.ParseRecoveryKeys(bad); err == nil {
			t.Errorf("%q are accepted", bad)
		}
	}
	for _, secret := range []string{private, k.Identity(), strings.ToLower(k.Identity())} {
		if _, err := seal.ParseRecoveryKeys([]string{secret}); !errors.Is(err, seal.ErrPrivate) || strings.Contains(err.Error(), secret[:30]) {
			t.Errorf("a private key: %v", err)
		}
	}
}

// A recovery key opens the key of a folder, here and in the age library.
func TestRecover(t *testing.T) {
	k := newKey(t)
	one, onePrivate, err1 := seal.NewRecoveryKey()
	two, twoPrivate, err2 := seal.NewRecoveryKey()
	_, otherPrivate, err3 := seal.NewRecoveryKey()
	keys, err4 := seal.ParseRecoveryKeys([]string{one, two})
	file, err5 := k.ForRecovery(keys)
	if err := errors.Join(err1, err2, err3, err4, err5); err != nil {
		t.Fatal(err)
	}
	for _, private := range []string{onePrivate, twoPrivate} {
		if got, err := seal.Recover(file, private); err != nil || got.Identity() != k.Identity() {
			t.Errorf("recovered %v, %v", got, err)
		}
		identities, err := age.ParseIdentities(strings.NewReader(private))
		if err != nil {
			t.Fatal(err)
		}
		r, err := age.Decrypt(bytes.NewReader(file), identities...)
		if err != nil {
			t.Fatal(err)
		}
		if text, err := io.ReadAll(r); err != nil || !strings.Contains(string(text), k.Identity()+"\n") {
			t.Errorf("age reads %d bytes, %v", len(text), err)
		}
	}
	for _, private := range []string{otherPrivate, one, ""} {
		if got, err := seal.Recover(file, private); err == nil {
			t.Errorf("%.20q recovers %v", private, got)
		}
	}
}

// sealedCopy writes a copy of a sealed bucket into a folder, and returns a recovery key for it.
func sealedCopy(t *testing.T, dir string, names bool, files map[string]string) (recovery string) {
	t.Helper()
	k := newKey(t)
	public, private, err := seal.NewRecoveryKey()
	if err != nil {
		t.Fatal(err)
	}
	keys, err := seal.ParseRecoveryKeys([]string{public})
	if err != nil {
		t.Fatal(err)
	}
	keyFile, err := k.ForRecovery(keys)
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, seal.KeyFile), keyFile)
	write(t, filepath.Join(dir, ".bspan/descriptors/abc"), []byte("of ours"))
	for name, content := range files {
		if names {
			name = k.WithNames().Path(name)
		}
		write(t, filepath.Join(dir, name), sealed(t, k, strings.NewReader(content)))
	}
	return private
}

func write(t *testing.T, name string, content []byte) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, content, 0o644)); err != nil {
		t.Fatal(err)
	}
}

func roots(t *testing.T) (from, to *os.Root) {
	t.Helper()
	for _, r := range []**os.Root{&from, &to} {
		opened, err := os.OpenRoot(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { opened.Close() })
		*r = opened
	}
	return from, to
}

func TestOpenCopy(t *testing.T) {
	files := map[string]string{"beds/north/fern.txt": "a fern", "empty": "", "long": strings.Repeat("rose ", 50_000)}
	for _, names := range []bool{false, true} {
		from, to := roots(t)
		recovery := sealedCopy(t, from.Name(), names, files)
		write(t, filepath.Join(from.Name(), "theirs.txt"), []byte("plain"))
		var failed []string
		tell := func(name string, err error) { failed = append(failed, name+": "+err.Error()) }
		o, err := seal.OpenCopy(t.Context(), from, to, recovery, tell)
		if err != nil || len(failed) > 0 || o.Files != 3 || o.Plain != 1 || o.Failed != 0 {
			t.Fatalf("opened %+v, %v, %q", o, err, failed)
		}
		var got []string
		err = fs.WalkDir(to.FS(), ".", func(name string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			got = append(got, name)
			content, err := fs.ReadFile(to.FS(), name)
			if want, ours := files[name]; string(content) != want && ours {
				t.Errorf("%s has %d bytes", name, len(content))
			}
			return err
		})
		if err != nil || !slices.Equal(got, []string{"beds/north/fern.txt", "empty", "long", "theirs.txt"}) {
			t.Errorf("there are %q, %v", got, err)
		}
		// Opened again, as after it was ended half-way: what is there already stays, and nothing is left over.
		changed := "Rose " + files["long"][5:]
		err = errors.Join(to.WriteFile("empty", []byte("mine"), 0o600), to.WriteFile("long", []byte(changed), 0o600), to.Remove("theirs.txt"), to.WriteFile(".bspan-part", []byte("a fe"), 0o600))
		if err != nil {
			t.Fatal(err)
		}
		o, err = seal.OpenCopy(t.Context(), from, to, recovery, tell)
		if err != nil || o.There != 1 || o.Plain != 1 || o.Files != 0 || o.Failed != 2 || len(failed) != 2 {
			t.Errorf("again: %+v, %v, %q", o, err, failed)
		}
		for name, want := range map[string]string{"empty": "mine", "long": changed, "theirs.txt": "plain"} {
			if content, err := to.ReadFile(name); err != nil || string(content) != want {
				t.Errorf("%s is %.20q, %v", name, content, err)
			}
		}
		if _, err := to.Stat(".bspan-part"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("a part is left: %v", err)
		}
	}
}

func TestOpenDamagedCopy(t *testing.T) {
	from, to := roots(t)
	recovery := sealedCopy(t, from.Name(), false, map[string]string{"f": strings.Repeat("rose ", 50_000)})
	content, err := from.ReadFile("f")
	if err != nil {
		t.Fatal(err)
	}
	content[len(content)-20] ^= 1
	write(t, filepath.Join(from.Name(), "f"), content)
	o, err := seal.OpenCopy(t.Context(), from, to, recovery, func(_ string, err error) {
		if !errors.Is(err, seal.ErrDamaged) {
			t.Errorf("it fails with %v", err)
		}
	})
	if left, _ := fs.Glob(to.FS(), "*"); err != nil || o.Failed != 1 || len(left) > 0 {
		t.Errorf("opened %+v, %v, and left %q", o, err, left)
	}
	if _, err := seal.OpenCopy(t.Context(), to, from, recovery, nil); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("without a key: %v", err)
	}
}
