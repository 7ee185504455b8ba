package smbadmin

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"unicode/utf16"
)

// Drive is what is behind the letter of a drive.
type Drive struct {
	Removable bool // it can be taken out
	ReadOnly  bool // nothing is ever written to it
}

// mountedDevices is where Windows servers keep what is behind each of their
// letters, so that it is found again at the next start.
const mountedDevices = `SYSTEM\MountedDevices`

// Drive finds out what is behind the letter of a drive, where the server keeps
// that in its registry and lets us read it. Its error wraps ErrNotOffered when it
// does not. A folder at which another drive shows is taken for one of the drive
// that it is on.
func (a *Admin) Drive(ctx context.Context, letter byte) (d Drive, err error) {
	err = a.withKey(ctx, mountedDevices, rightToQuery, func(c *conversation, key handle) error {
		device, err := c.value(key, `\DosDevices\`+strings.ToUpper(string(rune(letter)))+`:`)
		if err == nil {
			d, err = readDevice(device)
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		err = fmt.Errorf("%w: %w", ErrNotOffered, err)
	}
	return d, err
}

// readDevice tells of a device by what it is known by: a partition of a disk that
// stays by a signature and an offset, or by a GUID with a mark before it; anything
// else by the name of its interface.
func readDevice(device []byte) (Drive, error) {
	const signatureAndOffset = 4 + 8
	if len(device) == signatureAndOffset || bytes.HasPrefix(device, []byte("DMIO:ID:")) {
		return Drive{}, nil
	}
	name := strings.ToUpper(utf16Text(device))
	if !strings.HasPrefix(name, `\??\`) && !strings.HasPrefix(name, `_??_`) {
		return Drive{}, fmt.Errorf("%w: a drive that is known by %x", ErrNotOffered, device[:min(len(device), 32)])
	}
	disc := strings.Contains(name, "#CDROM")
	taken := strings.Contains(name, "REMOVABLEMEDIA") || strings.Contains(name, "USBSTOR") || strings.Contains(name, `\FDC#`)
	return Drive{Removable: disc || taken, ReadOnly: disc}, nil
}

// utf16Text is text as servers store it, up to a zero.
func utf16Text(b []byte) string {
	var units []uint16
	for ; len(b) >= 2 && (b[0] != 0 || b[1] != 0); b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return string(utf16.Decode(units))
}
