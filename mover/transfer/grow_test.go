package transfer

import (
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

// A piece ends when enough has come, but not where nothing is left but to say that this
// was all.
func TestPiece(t *testing.T) {
	for what, c := range map[string]struct {
		content string
		enough  int64
		want    string
		ended   bool
	}{
		"enough":         {"abcdef", 3, "abc", false},
		"all of it":      {"abcdef", 6, "abcdef", true},
		"less than that": {"abcdef", 9, "abcdef", true},
		"nothing":        {"", 3, "", true},
	} {
		p := &piece{r: byteByByte{strings.NewReader(c.content)}, left: int64(len(c.content)), enough: func(n int64) bool { return n >= c.enough }}
		got, err := io.ReadAll(p)
		if err != nil || string(got) != c.want || p.n != int64(len(got)) || p.ended != c.ended {
			t.Errorf("%s: %q, ended: %v, %v", what, got, p.ended, err)
		}
	}
}

type byteByByte struct{ r io.Reader }

func (b byteByByte) Read(p []byte) (int, error) { return b.r.Read(p[:min(len(p), 1)]) }

// Pieces come for a while, however fast: a file that comes quickly comes at once.
func TestEnough(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		enough := Settings{}.enough()
		if enough(1 << 40) {
			t.Error("it is enough at once")
		}
		time.Sleep(pieceFor + time.Millisecond)
		if enough(0) || !enough(1) {
			t.Error("it is never enough, or was enough before anything came")
		}
	})
}
