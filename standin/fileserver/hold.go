package fileserver

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os/exec"
	"strings"
)

// Hold is a person who has a file open so that nobody else may read or change it,
// as some programs do.
type Hold struct {
	cmd   *exec.Cmd
	stdin io.WriteCloser
}

// Person is who holds a file.
type Person struct {
	Name     string `json:"name"`
	Domain   string `json:"domain"`
	Password string `json:"password"`
}

// hold opens a file alone with Samba's own client, says so, and waits.
const hold = `
import json, sys, time
from samba import credentials, NTSTATUSError
from samba.param import LoadParm
from samba.samba3 import libsmb_samba_internal as libsmb, param
order = json.loads(sys.stdin.readline())
lp = param.get_context()
lp.load("/dev/null")
creds = credentials.Credentials()
creds.guess(LoadParm())
creds.set_username(order["person"]["name"])
creds.set_password(order["person"]["password"])
creds.set_domain(order["person"]["domain"])
creds.set_kerberos_state(credentials.DONT_USE_KERBEROS)
conn = libsmb.Conn(order["host"], order["share"], lp, creds)
for attempt in range(100): # others may have it open just now
    try:
        handle = conn.create(order["path"], DesiredAccess=0x3, ShareAccess=0, CreateDisposition=1)
        break
    except NTSTATUSError as e:
        if e.args[0] & 0xFFFFFFFF != 0xC0000043 or attempt == 99:
            raise
        time.sleep(0.1)
conn.write(handle, order["text"].encode(), 0)
print("held", flush=True)
sys.stdin.readline()
conn.close(handle)
`

// HoldOpen opens a file of a share for one person alone, who writes a text into
// it and does not close it before the hold is closed.
// The server must listen on the standard port: Samba's client knows no other.
func HoldOpen(address, share, path, text string, person Person) (*Hold, error) {
	order, err := json.Marshal(map[string]any{"host": address, "share": share, "path": strings.ReplaceAll(path, "/", `\`), "text": text, "person": person})
	if err != nil {
		return nil, err
	}
	h := &Hold{cmd: exec.Command("/usr/bin/python3", "-c", hold)}
	var said strings.Builder
	h.cmd.Stderr = &said
	out, err := h.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if h.stdin, err = h.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if err := h.cmd.Start(); err != nil {
		return nil, err
	}
	if _, err = h.stdin.Write(append(order, '\n')); err == nil {
		_, err = bufio.NewReader(out).ReadString('\n')
	}
	if err != nil {
		_ = h.Close()
		return nil, fmt.Errorf("hold %s open: %w: %s", path, err, said.String())
	}
	return h, nil
}

// Close lets the file go.
func (h *Hold) Close() error {
	_ = h.stdin.Close()
	return h.cmd.Wait()
}
