package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"testing"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

func part(at, length, from int64) chunk.Part { return chunk.Part{At: at, Length: length, From: from} }

func TestRuns(t *testing.T) {
	for what, c := range map[string]struct {
		parts, want []chunk.Part
		inPlace     bool
	}{
		"nothing":         {nil, nil, false},
		"nothing held":    {[]chunk.Part{part(0, 9, -1)}, nil, false},
		"all":             {[]chunk.Part{part(0, 9, 0)}, []chunk.Part{part(0, 9, 0)}, true},
		"changed within":  {[]chunk.Part{part(0, 5, 0), part(5, 2, -1), part(7, 3, 7)}, []chunk.Part{part(0, 10, 0)}, true},
		"changed at ends": {[]chunk.Part{part(0, 5, -1), part(5, 2, 5), part(7, 3, -1)}, []chunk.Part{part(5, 2, 5)}, true},
		"put in":          {[]chunk.Part{part(0, 5, 0), part(5, 2, -1), part(7, 3, 5)}, []chunk.Part{part(0, 5, 0), part(7, 3, 5)}, false},
		"left out":        {[]chunk.Part{part(0, 5, 0), part(5, 3, 9)}, []chunk.Part{part(0, 5, 0), part(5, 3, 9)}, false},
		"all shifted":     {[]chunk.Part{part(0, 5, 1), part(5, 1, -1), part(6, 3, 7)}, []chunk.Part{part(0, 9, 1)}, false},
		"there and back":  {[]chunk.Part{part(0, 5, 0), part(5, 1, 0), part(6, 3, 6)}, []chunk.Part{part(0, 5, 0), part(5, 1, 0), part(6, 3, 6)}, false},
		"of no length":    {[]chunk.Part{part(0, 0, 4), part(0, 3, 0)}, []chunk.Part{part(0, 3, 0)}, true},
	} {
		if got := runsOf(c.parts); !slices.Equal(got, c.want) || inPlace(got) != c.inPlace {
			t.Errorf("%s: %v, in place: %v", what, got, inPlace(got))
		}
	}
}

// A run is copied by windows of which none brings more than belongs where it goes; in
// place, what they bring belongs there in any case.
func TestSteps(t *testing.T) {
	same := func(offsets ...int64) (all []step) {
		for _, at := range offsets {
			all = append(all, step{at, at})
		}
		return all
	}
	for what, c := range map[string]struct{ got, want []step }{
		"a window":             {steps(part(5, window, 7)), []step{{7, 5}}},
		"a little more":        {steps(part(5, window+1, 7)), []step{{7, 5}, {8, 6}}},
		"two":                  {steps(part(0, 2*window, 9)), []step{{9, 0}, {9 + window, window}}},
		"a short file":         {whole(part(3, 5, 3), 9), same(0)},
		"a file of one window": {whole(part(3, 5, 3), window), same(0)},
		"within a long one":    {whole(part(3, 5, 3), 2*window), same(3)},
		"at its end":           {whole(part(2*window-5, 5, 2*window-5), 2*window), same(window)},
		"all of it":            {whole(part(0, 2*window+1, 0), 2*window+1), same(0, window, window+1)},
		"up to its end":        {whole(part(window-1, window+1, window-1), 2*window), same(window-1, window)},
	} {
		if !slices.Equal(c.got, c.want) {
			t.Errorf("%s: %v, want %v", what, c.got, c.want)
		}
	}
}

// After a refusal the file comes over the network; after other errors it is not tried.
func TestWithout(t *testing.T) {
	answer := func(code uint32) error {
		return &os.LinkError{Op: "copy", Old: "base", New: "made", Err: &smb2.ResponseError{Code: code}}
	}
	for what, c := range map[string]struct{ err, want error }{
		"no such request":     {answer(0xC0000010), tree.ErrUnsupported},
		"not supported":       {answer(0xC00000BB), tree.ErrUnsupported},
		"a form of its own":   {&os.LinkError{Op: "copy", Err: &smb2.InvalidResponseError{Message: "broken"}}, tree.ErrUnsupported},
		"may not be read":     {answer(0xC0000022), tree.ErrUnsupported},
		"no room for it":      {answer(0xC000007F), tree.ErrUnsupported},
		"in use":              {answer(0xC0000043), tree.ErrInUse},
		"the share went away": {answer(0xC00000C9), tree.ErrUnreachable},
		"no connection":       {&smb2.TransportError{Err: io.EOF}, tree.ErrUnreachable},
		"given up":            {context.Canceled, context.Canceled},
	} {
		got := pathError("stage", "made", without(c.err))
		if !errors.Is(got, c.want) || c.want != tree.ErrUnsupported && errors.Is(got, tree.ErrUnsupported) {
			t.Errorf("%s: %v, want %v", what, got, c.want)
		}
	}
}

// What the library says of its own steps is left out.
func TestClassifyPlain(t *testing.T) {
	err := pathError("descriptor", "closed", &fs.PathError{Op: "getsecinfo", Path: "closed", Err: fmt.Errorf("calling createFile: %w", fs.ErrPermission)})
	if want := "descriptor closed: permission denied"; err.Error() != want || !errors.Is(err, fs.ErrPermission) {
		t.Errorf("%v, want %s", err, want)
	}
}
