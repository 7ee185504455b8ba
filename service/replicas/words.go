package replicas

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
	"bridgespan/mover/replication"
	"bridgespan/service/accounts"
	"bridgespan/tree"
)

// words says an error to people.
func words(err error) string {
	if errors.Is(err, replication.ErrStuck) {
		return err.Error()
	}
	if errors.Is(err, tree.ErrInUse) {
		return "somebody has it open, so that nobody else may"
	}
	if errors.Is(err, tree.ErrKeepsOut) {
		return "its permissions would not let the account that brings it move or remove it there: let that account do so, through the share too, or leave it out"
	}
	var f *fault.Error
	if errors.As(err, &f) {
		if f.Remedy != "" {
			return f.Problem + ": " + f.Remedy
		}
		return f.Problem
	}
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

func jsonText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

func asFault(err error, f **fault.Error) bool { return errors.As(err, f) }

// cutLast cuts a text at the last of a separator.
func cutLast(text, separator string) (before, after string, ok bool) {
	i := strings.LastIndex(text, separator)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(separator):], true
}

func isMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

func namespaceGone(err error) bool { return fault.KindOf(err) == fault.NotFound }

func isTaken(err error) bool { return errors.Is(err, fs.ErrExist) }

// cutPath cuts a path after its first element.
func cutPath(name string) (first, rest string, found bool) { return strings.Cut(name, "/") }

// unknownMbit is what a way is taken to carry when nobody said: two servers in
// one room.
const unknownMbit = 1000

func orText(text, usual string) string {
	if text == "" {
		return usual
	}
	return text
}

// count says a number with what it counts.
func count(n int64, one, many string) string {
	return humanize.Comma(n) + " " + english.PluralWord(int(n), one, many)
}

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// duration says a time in the two largest units that matter.
func duration(d time.Duration) string {
	switch {
	case d < time.Hour:
		return count(int64(d.Minutes()), "minute", "minutes")
	case d < 48*time.Hour:
		return fmt.Sprintf("%.1f hours", d.Hours())
	}
	return fmt.Sprintf("%.1f days", d.Hours()/24)
}

// middle shortens a path to its beginning and its end.
func middle(name string) string {
	text := []rune(name)
	if len(text) <= 60 {
		return name
	}
	return string(text[:28]) + " … " + string(text[len(text)-28:])
}

// leftOut reports whether a set is not about an entry.
func leftOut(f *filter.Filter, e tree.Named) bool {
	if e.Kind == tree.Folder {
		return f.Folder(e.Path) != ""
	}
	return f.File(e.Path, e.Size, e.Modified, time.Now()) != "" || f.Folder(path.Dir(e.Path)) != ""
}

func levelOf(m acl.Mask) string {
	if l := m.Level(); l != acl.Unusual {
		return string(l)
	}
	return fmt.Sprintf("special (%#x)", uint32(m))
}

// nameOf names an account as people read it; by its number when nobody can.
func (s *Service) nameOf(ctx context.Context, at *accounts.At, sid account.SID) string {
	named, err := s.accounts.Named(ctx, at, []account.SID{sid})
	if err != nil {
		return sid.String()
	}
	return named[0].Name
}
