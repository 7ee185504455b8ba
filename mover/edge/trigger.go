package edge

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// Trigger is the access of a program that fills a stub.
type Trigger string

const (
	// AnyTrigger is OnRead where the kernel and the file system support it, else OnOpen.
	AnyTrigger Trigger = ""
	// OnRead fills the range that a program reads (fanotify(7), pre-content events, Linux 6.14).
	OnRead Trigger = "read"
	// OnOpen fills the whole stub before a program has it open (fanotify(7), permission events).
	OnOpen Trigger = "open"
)

// ParseTrigger parses a trigger: read, open, or "" for AnyTrigger.
func ParseTrigger(text string) (Trigger, error) {
	switch t := Trigger(text); t {
	case AnyTrigger, OnRead, OnOpen:
		return t, nil
	default:
		return "", fmt.Errorf("stubs cannot be filled on %.40q: write read or open, or omit the option", text)
	}
}

// choices are the triggers to try, the best first.
func (t Trigger) choices() []Trigger {
	if t == AnyTrigger {
		return []Trigger{OnRead, OnOpen}
	}
	return []Trigger{t}
}

// events is the mask of the events that the kernel is to report of a volume.
func (t Trigger) events() uint64 {
	if t == OnRead {
		return preAccess | unix.FAN_OPEN_PERM
	}
	return unix.FAN_OPEN_PERM
}
