package smbadmin

import (
	"context"

	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/smbadmin/internal/rpc"
)

var remoteRegistry = rpc.Interface{Pipe: "winreg", Major: 1, UUID: uuid(0x338cd001, 0x2244, 0x31f1, 0xaa, 0xaa, 0x90, 0x00, 0x38, 0x00, 0x10, 0x03)}

// Numbers of the procedures ([MS-RRP] 3.1.5).
const (
	callRegOpenRoot  = 2
	callRegClose     = 5
	callRegCreate    = 6
	callRegDeleteKey = 7
	callRegOpen      = 15
	callRegQuery     = 17
	callRegSet       = 22
)

// Rights to keys ([MS-RRP] 2.2.3): asking for more than is needed may be refused.
const rightToQuery = 0x00000001

// withKey opens a key of a server's registry, below its local machine.
func (a *Admin) withKey(ctx context.Context, name string, rights uint32, do func(c *conversation, key handle) error) error {
	return a.talk(ctx, remoteRegistry, func(c *conversation) error {
		root, err := c.openKey(callRegOpenRoot, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.U32(mostRights)
		})
		if err != nil {
			return err
		}
		defer c.close(callRegClose, root)
		key, err := c.openBelow(root, name, rights)
		if err != nil {
			return err
		}
		defer c.close(callRegClose, key)
		return do(c, key)
	})
}

func (c *conversation) openKey(procedure uint16, write func(*ndr.Writer)) (key handle, err error) {
	status, err := c.call(procedure, write, func(r *ndr.Reader) { key = readHandle(r) })
	return key, check("open a key of the registry", status, err)
}

func (c *conversation) openBelow(key handle, name string, rights uint32) (handle, error) {
	return c.openKey(callRegOpen, func(w *ndr.Writer) {
		w.Raw(key[:])
		writeKeyName(w, name)
		w.Flush()
		w.U32(0)
		w.U32(rights)
	})
}

// writeKeyName writes a counted string that includes its terminating zero ([MS-RRP] 2.2.4).
func writeKeyName(w *ndr.Writer, name string) { w.Name(name + "\x00") }

// valueMost is the longest value that is read, in bytes.
const valueMost = 1024

// value reads a value of a key; its error wraps fs.ErrNotExist when there is none.
func (c *conversation) value(key handle, name string) (value []byte, err error) {
	status, err := c.call(callRegQuery, func(w *ndr.Writer) {
		w.Raw(key[:])
		writeKeyName(w, name)
		w.Flush()
		w.Pointer(func() { w.U32(0) })
		w.Pointer(func() { w.U32(valueMost); w.U32(0); w.U32(0) })
		w.Pointer(func() { w.U32(valueMost) })
		w.Pointer(func() { w.U32(0) })
	}, func(r *ndr.Reader) { value = readValue(r) })
	return value, check("read the value "+name, status, err)
}

func readValue(r *ndr.Reader) []byte {
	if r.Pointer() {
		r.U32()
	}
	if !r.Pointer() {
		return nil
	}
	r.U32()
	r.U32()
	return r.Raw(r.Count(1))
}
