package bucket

import "fmt"

// Limits of uploads: numbers of bytes, and MostParts parts.
const (
	LeastPart = 5 << 20 // of all parts but the last
	MostPart  = 5 << 30
	MostParts = 10_000
	MostSize  = 5 << 40
	// MostPut is the largest object that one request can write or copy.
	MostPut = 5 << 30
)

// UsualPart is the part size of files up to 160 GiB. Larger parts make a failed request more expensive, smaller
// ones need more requests.
const UsualPart = 16 << 20

// PartSize returns the part size for a file of size bytes, in whole MiB, so that at most MostParts are needed. It
// returns an error for a file larger than MostSize.
func PartSize(size int64) (int64, error) {
	if size > MostSize {
		return 0, fmt.Errorf("a file of %d bytes is longer than any object may be: %d", size, int64(MostSize))
	}
	least := (size + MostParts - 1) / MostParts
	const step = 1 << 20
	return max(UsualPart, (least+step-1)/step*step), nil
}
