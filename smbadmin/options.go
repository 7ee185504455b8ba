package smbadmin

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"unicode/utf16"

	"bridgespan/smbadmin/internal/ndr"
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

// settingsKey is where a Samba server keeps settings that it shares with its
// administrators (smb.conf(5), registry-based configuration).
const settingsKey = `SOFTWARE\Samba\smbconf`

// settings reads the settings of a share.
func (a *Admin) settings(ctx context.Context, share string) (map[string]string, error) {
	settings := map[string]string{}
	return settings, a.withKey(ctx, settingsKey+`\`+share, rightToQuery, func(c *conversation, key handle) error {
		for _, name := range []string{"hide unreadable", "smb encrypt", "csc policy"} {
			value, err := c.value(key, name)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			settings[name] = utf16Text(value)
		}
		return nil
	})
}

// setSettings sets settings of a share.
func (a *Admin) setSettings(ctx context.Context, share string, settings map[string]string) error {
	return a.withKey(ctx, settingsKey, mostRights, func(c *conversation, key handle) error {
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
	return a.withKey(ctx, settingsKey, mostRights, func(c *conversation, key handle) error {
		status, err := c.call(callRegDeleteKey, func(w *ndr.Writer) {
			w.Raw(key[:])
			writeKeyName(w, share)
			w.Flush()
		}, nil)
		return check("forget the settings of "+share, status, err)
	})
}
