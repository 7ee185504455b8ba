package edge

import "golang.org/x/sys/unix"

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
