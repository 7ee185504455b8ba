package vault

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

func TestVault(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	v, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	sealed := v.Seal("server fern", "quercus-robur")
	if bytes.Contains(sealed, []byte("quercus")) {
		t.Error("the secret shows in what was sealed")
	}
	if bytes.Equal(sealed, v.Seal("server fern", "quercus-robur")) {
		t.Error("equal secrets can be told to be equal")
	}
	again, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Unseal("server fern", sealed); err != nil || got != "quercus-robur" {
		t.Errorf("Unseal = %q, %v", got, err)
	}
	if _, err := again.Unseal("server heather", sealed); err == nil {
		t.Error("a secret opens under another label")
	}
	if info, _ := os.Stat(file); info.Mode().Perm() != 0o600 {
		t.Errorf("key file mode %v", info.Mode())
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(file); err == nil {
		t.Error("a key file that others can read is accepted")
	}
}

// All instances that share a key file sign with one key, another one for each purpose.
func TestSigningKey(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	key := func(file, label string) string {
		t.Helper()
		v, err := Open(file)
		if err != nil {
			t.Fatal(err)
		}
		k, err := v.SigningKey(label)
		if err != nil {
			t.Fatal(err)
		}
		return string(k)
	}
	first := key(file, "updates")
	if key(file, "updates") != first {
		t.Error("two instances have different keys")
	}
	if first == key(file, "others") || first == key(filepath.Join(t.TempDir(), "key"), "updates") {
		t.Error("the key is that of another purpose, or of another key file")
	}
}
