package smbadmin

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"unicode/utf16"

	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/smbadmin/internal/rpc"
)

// Options of a share, that not every server lets be set from afar.
type Options struct {
	HideUnreadable bool    // entries that a person cannot open are not listed
	Encrypt        bool    // only encrypted connections are let in
	Offline        Offline // whether clients may keep copies
}

// Offline says whether clients may keep copies for when the server is away.
type Offline string

const (
	OfflineByHand    Offline = "by-hand"   // those that people choose
	OfflineDocuments Offline = "documents" // what people open
	OfflinePrograms  Offline = "programs"  // what people open, and programs run from the copy
	OfflineNever     Offline = "never"
)

var offlines = []Offline{OfflineByHand, OfflineDocuments, OfflinePrograms, OfflineNever} // in the order of their bits

// Flags of level 1005 ([MS-SRVS] 2.2.4.29).
const (
	flagOffline        = 0x00000030
	flagOfflineShift   = 4
	flagHideUnreadable = 0x00000800
	flagEncrypt        = 0x00008000
)

func (o Options) flags() uint32 {
	var flags uint32
	for i, offline := range offlines {
		if o.Offline == offline {
			flags = uint32(i) << flagOfflineShift
		}
	}
	if o.HideUnreadable {
		flags |= flagHideUnreadable
	}
	if o.Encrypt {
		flags |= flagEncrypt
	}
	return flags
}

func optionsOf(flags uint32) Options {
	return Options{HideUnreadable: flags&flagHideUnreadable != 0, Encrypt: flags&flagEncrypt != 0, Offline: offlines[flags&flagOffline>>flagOfflineShift]}
}

// ShareOptions reads the options of a share: from the share itself, and from
// the settings of servers that keep them in a registry.
func (a *Admin) ShareOptions(ctx context.Context, name string) (Options, error) {
	flags, err := a.shareFlags(ctx, name)
	if err != nil {
		return Options{}, err
	}
	o := optionsOf(flags)
	settings, err := a.settings(ctx, name)
	if err != nil && !errors.Is(err, ErrNotOffered) && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
		return o, err
	}
	o.HideUnreadable = o.HideUnreadable || settings["hide unreadable"] == "yes"
	o.Encrypt = o.Encrypt || settings["smb encrypt"] == "required"
	for offline, policy := range policies {
		if settings["csc policy"] == policy {
			o.Offline = offline
		}
	}
	return o, nil
}

// policies are the words of the server for Offline.
var policies = map[Offline]string{OfflineByHand: "manual", OfflineDocuments: "documents", OfflinePrograms: "programs", OfflineNever: "disable"}

// SetShareOptions sets the options of a share and reads them back. Its error
// wraps ErrNotOffered and names what the server did not take.
func (a *Admin) SetShareOptions(ctx context.Context, name string, o Options) error {
	// What a server does not know of these flags it leaves out without a word.
	err := a.setShare(ctx, name, 1005, func(w *ndr.Writer) { w.U32(o.flags()) })
	var status *StatusError
	if err != nil && !errors.As(err, &status) {
		return err
	}
	if flags, err := a.shareFlags(ctx, name); err == nil && flags&(flagOffline|flagHideUnreadable|flagEncrypt) == o.flags() {
		return nil
	}
	settings := map[string]string{"hide unreadable": "no", "smb encrypt": "default", "csc policy": policies[o.Offline]}
	if o.HideUnreadable {
		settings["hide unreadable"] = "yes"
	}
	if o.Encrypt {
		settings["smb encrypt"] = "required"
	}
	if err := a.setSettings(ctx, name, settings); err != nil {
		return fmt.Errorf("%w: options of share %s: %w", ErrNotOffered, name, err)
	}
	return nil
}

func (a *Admin) shareFlags(ctx context.Context, name string) (flags uint32, err error) {
	return flags, a.onShares(ctx, func(c *conversation) error {
		status, err := c.call(callShareGetInfo, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.Text(name)
			w.U32(1005)
		}, func(r *ndr.Reader) { flags = readFlags(r) })
		return check("look at share "+name, status, err)
	})
}

func readFlags(r *ndr.Reader) uint32 {
	if r.U32() != 1005 || !r.Pointer() {
		r.Fail("no flags")
		return 0
	}
	return r.U32()
}

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

// settingsKey is where a Samba server keeps settings that it shares with its
// administrators (smb.conf(5), registry-based configuration).
const settingsKey = `SOFTWARE\Samba\smbconf`

// withSettings opens the key below which a server keeps its settings.
func (a *Admin) withSettings(ctx context.Context, do func(c *conversation, key handle) error) error {
	return a.talk(ctx, remoteRegistry, func(c *conversation) error {
		root, err := c.openKey(callRegOpenRoot, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.U32(mostRights)
		})
		if err != nil {
			return err
		}
		defer c.close(callRegClose, root)
		key, err := c.openBelow(root, settingsKey)
		if err != nil {
			return err
		}
		defer c.close(callRegClose, key)
		return do(c, key)
	})
}

func (c *conversation) openKey(procedure uint16, write func(*ndr.Writer)) (key handle, err error) {
	status, err := c.call(procedure, write, func(r *ndr.Reader) { key = readHandle(r) })
	return key, check("open the settings", status, err)
}

func (c *conversation) openBelow(key handle, name string) (handle, error) {
	return c.openKey(callRegOpen, func(w *ndr.Writer) {
		w.Raw(key[:])
		writeKeyName(w, name)
		w.Flush()
		w.U32(0)
		w.U32(mostRights)
	})
}

// writeKeyName writes a counted string that includes its terminating zero ([MS-RRP] 2.2.4).
func writeKeyName(w *ndr.Writer, name string) { w.Name(name + "\x00") }

// settings reads the settings of a share.
func (a *Admin) settings(ctx context.Context, share string) (map[string]string, error) {
	settings := map[string]string{}
	return settings, a.withSettings(ctx, func(c *conversation, key handle) error {
		below, err := c.openBelow(key, share)
		if err != nil {
			return err
		}
		defer c.close(callRegClose, below)
		for _, name := range []string{"hide unreadable", "smb encrypt", "csc policy"} {
			var value string
			status, err := c.call(callRegQuery, func(w *ndr.Writer) {
				w.Raw(below[:])
				writeKeyName(w, name)
				w.Flush()
				w.Pointer(func() { w.U32(0) })
				w.Pointer(func() { w.U32(valueMost); w.U32(0); w.U32(0) })
				w.Pointer(func() { w.U32(valueMost) })
				w.Pointer(func() { w.U32(0) })
			}, func(r *ndr.Reader) { value = readValue(r) })
			if err := check("read the setting "+name, status, err); err != nil {
				if errors.Is(err, fs.ErrNotExist) {
					continue
				}
				return err
			}
			settings[name] = value
		}
		return nil
	})
}

// valueMost is the longest setting that is read, in bytes.
const valueMost = 1024

func readValue(r *ndr.Reader) string {
	if r.Pointer() {
		r.U32()
	}
	if !r.Pointer() {
		return ""
	}
	r.U32()
	r.U32()
	b := r.Raw(r.Count(1))
	var units []uint16
	for ; len(b) >= 2 && (b[0] != 0 || b[1] != 0); b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return string(utf16.Decode(units))
}

// setSettings sets settings of a share.
func (a *Admin) setSettings(ctx context.Context, share string, settings map[string]string) error {
	return a.withSettings(ctx, func(c *conversation, key handle) error {
		below, err := c.openKey(callRegCreate, func(w *ndr.Writer) {
			w.Raw(key[:])
			writeKeyName(w, share)
			w.Flush()
			writeKeyName(w, "")
			w.Flush()
			w.U32(0)
			w.U32(mostRights)
			w.Pointer(nil)
			w.Pointer(func() { w.U32(0) })
		})
		if err != nil {
			return err
		}
		defer c.close(callRegClose, below)
		for name, value := range settings {
			if err := c.setValue(below, name, value); err != nil {
				return err
			}
		}
		return nil
	})
}

func (c *conversation) setValue(key handle, name, value string) error {
	var data []byte
	for _, u := range append(utf16.Encode([]rune(value)), 0) {
		data = binary.LittleEndian.AppendUint16(data, u)
	}
	status, err := c.call(callRegSet, func(w *ndr.Writer) {
		w.Raw(key[:])
		writeKeyName(w, name)
		w.Flush()
		w.U32(1) // text
		w.U32(uint32(len(data)))
		w.Raw(data)
		w.U32(uint32(len(data)))
	}, nil)
	return check("set "+name, status, err)
}

// forgetSettings removes the settings of a share that is removed.
func (a *Admin) forgetSettings(ctx context.Context, share string) error {
	return a.withSettings(ctx, func(c *conversation, key handle) error {
		status, err := c.call(callRegDeleteKey, func(w *ndr.Writer) {
			w.Raw(key[:])
			writeKeyName(w, share)
			w.Flush()
		}, nil)
		return check("forget the settings of "+share, status, err)
	})
}
