package smbadmin

import (
	"errors"
	"testing"

	"bridgespan/standin/standintest"
)

var devices = map[string]struct {
	device []byte
	want   Drive
	known  bool
}{
	"a partition by its disk's signature": {[]byte{0x11, 0x22, 0x33, 0x44, 0, 0, 0x10, 0, 0, 0, 0, 0}, Drive{}, true},
	"a partition by its GUID":             {append([]byte("DMIO:ID:"), make([]byte, 16)...), Drive{}, true},
	"a stick":                             {standintest.InRegistry(`_??_USBSTOR#Disk&Ven_Larkfield&Prod_Stick&Rev_1.0#0123&0#{53f56307-b6bf-11d0-94f2-00a0c91efb8b}`), Drive{Removable: true}, true},
	"a medium in a reader":                {standintest.InRegistry(`\??\STORAGE#RemovableMedia#7&1a2b3c&0&RM#{53f5630d-b6bf-11d0-94f2-00a0c91efb8b}`), Drive{Removable: true}, true},
	"a disc":                              {standintest.InRegistry(`\??\SCSI#CdRom&Ven_Larkfield&Prod_Reader#5&1&0#{53f56308-b6bf-11d0-94f2-00a0c91efb8b}`), Drive{Removable: true, ReadOnly: true}, true},
	"a floppy":                            {standintest.InRegistry(`\??\FDC#GENERIC_FLOPPY_DRIVE#6&1&0&0#{53f56311-b6bf-11d0-94f2-00a0c91efb8b}`), Drive{Removable: true}, true},
	"a disk by its interface":             {standintest.InRegistry(`\??\SCSI#Disk&Ven_Larkfield&Prod_Array#5&2&0#{53f56307-b6bf-11d0-94f2-00a0c91efb8b}`), Drive{}, true},
	"nothing":                             {nil, Drive{}, false},
	"something else":                      {[]byte("a mark that nobody knows"), Drive{}, false},
}

func TestDevices(t *testing.T) {
	for name, c := range devices {
		d, err := readDevice(c.device)
		if d != c.want || (err == nil) != c.known || err != nil && !errors.Is(err, ErrNotOffered) {
			t.Errorf("%s: %+v, %v", name, d, err)
		}
	}
}

// A server's registry is asked as it is, and when it says nothing.
func TestDrives(t *testing.T) {
	server := standintest.FileServer(t, "rowan", "store")
	a := New(dial(t, server, "warden", standintest.Password("warden")))
	if d, err := a.Drive(t.Context(), 'C'); !errors.Is(err, ErrNotOffered) {
		t.Errorf("without such a key: %+v, %v", d, err)
	}
	letters, mounted := map[string]byte{}, map[byte][]byte{}
	for name, c := range devices {
		if c.device != nil {
			letters[name] = byte('E' + len(letters))
			mounted[letters[name]] = c.device
		}
	}
	standintest.MountDevices(t, server, mounted)
	for name, letter := range letters {
		c := devices[name]
		for _, letter := range []byte{letter, letter + 'a' - 'A'} {
			if d, err := a.Drive(t.Context(), letter); d != c.want || (err == nil) != c.known {
				t.Errorf("%c:, %s: %+v, %v", letter, name, d, err)
			}
		}
	}
	if d, err := a.Drive(t.Context(), 'Z'); !errors.Is(err, ErrNotOffered) {
		t.Errorf("of no such letter: %+v, %v", d, err)
	}
}

// Whatever a server keeps behind a letter, it is told of or refused.
func FuzzDevices(f *testing.F) {
	for _, c := range devices {
		f.Add(c.device)
	}
	f.Fuzz(func(t *testing.T, device []byte) {
		d, err := readDevice(device)
		if err != nil && (d != Drive{} || !errors.Is(err, ErrNotOffered)) {
			t.Errorf("%x: %+v, %v", device, d, err)
		}
		if d.ReadOnly && !d.Removable {
			t.Errorf("%x is a disc that stays", device)
		}
	})
}
