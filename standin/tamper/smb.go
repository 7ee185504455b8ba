package tamper

import "encoding/binary"

// Commands of SMB 2 and 3 ([MS-SMB2] 2.2.1).
const (
	SessionSetup   = 0x01
	TreeConnect    = 0x03
	Read           = 0x08
	Write          = 0x09
	Control        = 0x0B
	QueryDirectory = 0x0E
)

// headBytes is the length of the head of a message ([MS-SMB2] 2.2.1.2).
const headBytes = 64

// Command is what a message is about; ok is false when it is none of SMB 2 and 3 that
// can be read on the way.
func Command(message []byte) (command uint16, ok bool) {
	if len(message) < headBytes || string(message[:4]) != "\xfeSMB" {
		return 0, false
	}
	return binary.LittleEndian.Uint16(message[12:]), true
}

// Status is the outcome that an answer tells.
func Status(message []byte) uint32 { return binary.LittleEndian.Uint32(message[8:]) }

// Body is what follows the head of a message.
func Body(message []byte) []byte { return message[headBytes:] }

// Answers makes a function that changes the successful answers to one command.
func Answers(command uint16, change func(body []byte)) func([]byte) []byte {
	return func(message []byte) []byte {
		if c, ok := Command(message); ok && c == command && Status(message) == 0 {
			change(Body(message))
		}
		return message
	}
}
