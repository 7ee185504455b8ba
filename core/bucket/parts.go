package bucket

import "fmt"

// Limits of an upload in parts, in bytes and parts.
const (
	LeastPart = 5 << 20 // of all parts but the last
	MostPart  = 5 << 30
	MostParts = 10_000
	MostSize  = 5 << 40
	// MostPut is the longest object that is put in one request, and copied in one.
	MostPut = 5 << 30
)

// UsualPart is how long parts are when nothing speaks against it: long enough that requests cost little,
// short enough that one which is lost costs little.
const UsualPart = 16 << 20

// PartSize is how many bytes each part of a file is to have, in whole MiB, so that it takes at most MostParts
// of them. It returns an error for a file that no object can hold.
func PartSize(size int64) (int64, error) {
	if size > MostSize {
		return 0, fmt.Errorf("a file of %d bytes is longer than any object may be: %d", size, int64(MostSize))
	}
	least := (size + MostParts - 1) / MostParts
	const step = 1 << 20
	return max(UsualPart, (least+step-1)/step*step), nil
}

// Part is a range of a file: its number, from 1 on, and its bytes.
type Part struct {
	Number      int
	Offset, Len int64
}

// Parts are the parts of a file that is cut into pieces of so many bytes. An empty file has one.
func Parts(size, each int64) []Part {
	parts := []Part{}
	for at := int64(0); at < size || len(parts) == 0; at += each {
		parts = append(parts, Part{len(parts) + 1, at, min(each, size-at)})
	}
	return parts
}
