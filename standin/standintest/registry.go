package standintest

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"bridgespan/standin/fileserver"
)

// MountDevices lets a file server tell what is behind letters of drives, as
// Windows servers do in their registry.
func MountDevices(t testing.TB, server *fileserver.Server, devices map[byte][]byte) {
	t.Helper()
	keys := "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\MountedDevices]\r\n"
	for letter, device := range devices {
		parts := make([]string, len(device))
		for i := range device {
			parts[i] = hex.EncodeToString(device[i : i+1])
		}
		keys += fmt.Sprintf("\"\\\\DosDevices\\\\%c:\"=hex:%s\r\n", letter, strings.Join(parts, ","))
	}
	file := filepath.Join(t.TempDir(), "keys.reg")
	if err := os.WriteFile(file, []byte(keys+"\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("net", "-s", filepath.Join(server.Dir, "smb.conf"), "registry", "import", file).CombinedOutput(); err != nil {
		t.Fatalf("net registry import: %v: %s", err, out)
	}
}

// InRegistry is text as a registry stores it.
func InRegistry(text string) (b []byte) {
	for _, u := range utf16.Encode([]rune(text)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}
