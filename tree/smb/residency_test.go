package smb

import (
	"io/fs"
	"os"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"

	"bridgespan/tree"
)

// listed is a file as a server lists it.
type listed struct{ attributes uint32 }

func (l listed) Name() string       { return "scan.tif" }
func (l listed) Size() int64        { return 7 }
func (l listed) Mode() fs.FileMode  { return 0o666 }
func (l listed) ModTime() time.Time { return time.Unix(1, 0) }
func (l listed) IsDir() bool        { return l.attributes&0x10 != 0 }
func (l listed) Sys() any           { return &smb2.FileStat{FileAttributes: l.attributes} }

var _ os.FileInfo = listed{}

// Files that a server would fetch from elsewhere are stubs ([MS-FSCC] 2.6).
func TestResidency(t *testing.T) {
	for attributes, want := range map[uint32]tree.Residency{0x20: tree.Whole, 0x80: tree.Whole, 0x1020: tree.Stub, 0x40000: tree.Stub, 0x400020: tree.Stub, 0x1010: tree.Whole} {
		if e := toEntry(listed{attributes}, "scan.tif"); e.Residency != want {
			t.Errorf("%#x is %d, want %d", attributes, e.Residency, want)
		}
	}
}
