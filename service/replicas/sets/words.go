package sets

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/service/accounts"
	"bridgespan/service/preflight"
	"bridgespan/tree"
)

// Words says an error of the work on a set as people read it.
func Words(err error) string {
	if errors.Is(err, replication.ErrStuck) {
		return err.Error()
	}
	return preflight.Words(err)
}

func JsonText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

func AsFault(err error, f **fault.Error) bool { return errors.As(err, f) }

// CutLast cuts a text at the last of a separator.
func CutLast(text, separator string) (before, after string, ok bool) {
	i := strings.LastIndex(text, separator)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(separator):], true
}

func IsMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

func NamespaceGone(err error) bool { return fault.KindOf(err) == fault.NotFound }

func IsTaken(err error) bool { return errors.Is(err, fs.ErrExist) }

// CutPath cuts a path after its first element.
func CutPath(name string) (first, rest string, found bool) { return strings.Cut(name, "/") }

// UnknownMbit is what a way is taken to carry when nobody said: two servers in
// one room.
const UnknownMbit = 1000

func OrText(text, usual string) string {
	if text == "" {
		return usual
	}
	return text
}

// Count says a number with what it counts.
func Count(n int64, one, many string) string {
	return humanize.Comma(n) + " " + english.PluralWord(int(n), one, many)
}

func Size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// Duration says a time in the two largest units that matter.
func Duration(d time.Duration) string {
	switch {
	case d < time.Hour:
		return Count(int64(d.Minutes()), "minute", "minutes")
	case d < 48*time.Hour:
		return fmt.Sprintf("%.1f hours", d.Hours())
	}
	return fmt.Sprintf("%.1f days", d.Hours()/24)
}

// LeftOut reports whether a set is not about an entry.
func LeftOut(f *filter.Filter, e tree.Named) bool {
	if e.Kind == tree.Folder {
		return f.Folder(e.Path) != ""
	}
	return f.File(e.Path, e.Size, e.Modified, time.Now()) != "" || f.Folder(path.Dir(e.Path)) != ""
}

func LevelOf(m acl.Mask) string {
	if l := m.Level(); l != acl.Unusual {
		return string(l)
	}
	return fmt.Sprintf("special (%#x)", uint32(m))
}

// NameOf names an account as people read it; by its number when nobody can.
func (s *Base) NameOf(ctx context.Context, at *accounts.At, sid account.SID) string {
	named, err := s.People.Named(ctx, at, []account.SID{sid})
	if err != nil {
		return sid.String()
	}
	return named[0].Name
}

func LaneList(lanes []model.Lane) string {
	var names []string
	for _, l := range lanes[:min(len(lanes), 8)] {
		names = append(names, l.From+" to "+l.To)
	}
	if more := len(lanes) - len(names); more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, ", ")
}
