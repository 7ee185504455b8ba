package tree

import "fmt"

type untrusted struct{}

func (untrusted) Error() string { return "the server's answers cannot be trusted" }
func (untrusted) Unwrap() error { return ErrUnreachable }

// MostEntries is how many entries of one folder are listed. A server that lists more is
// not trusted: it would fill the memory of whoever listens to it.
const MostEntries = 4 << 20

// TooMany is the error of a folder that lists more.
func TooMany(folder string) error {
	return PathError("list", folder, fmt.Errorf("%w: it lists more than %d entries", ErrUntrusted, MostEntries))
}
