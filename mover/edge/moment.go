package edge

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// Moment is when stubs are filled.
type Moment string

const (
	// AnyMoment is WhenRead where the kernel and the file system can do that, else WhenOpened.
	AnyMoment Moment = ""
	// WhenRead fills what somebody reads (pre-content events, Linux 6.14).
	WhenRead Moment = "read"
	// WhenOpened fills all of a stub before anybody has it open (permission events).
	WhenOpened Moment = "open"
)

// ParseMoment reads a moment as people write it.
func ParseMoment(text string) (Moment, error) {
	switch m := Moment(text); m {
	case AnyMoment, WhenRead, WhenOpened:
		return m, nil
	default:
		return "", fmt.Errorf("stubs cannot be filled at %.40q: write read or open, or leave it out", text)
	}
}

// choices are the moments that may be taken, the best first.
func (m Moment) choices() []Moment {
	if m == AnyMoment {
		return []Moment{WhenRead, WhenOpened}
	}
	return []Moment{m}
}

// events are what the kernel is to tell of a volume whose stubs are filled at this moment.
func (m Moment) events() uint64 {
	if m == WhenRead {
		return preAccess | unix.FAN_OPEN_PERM
	}
	return unix.FAN_OPEN_PERM
}
