// Package text makes names and messages that came from elsewhere safe to be shown: in a
// terminal, in a log, in a spreadsheet.
package text

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// hidden reports whether a character moves the cursor, colours what follows, or turns the
// order of what is read: control characters, and those that end lines or change the
// direction of writing (Unicode Standard Annex 9, 2.1 and 2.2).
func hidden(r rune) bool {
	switch {
	case unicode.IsControl(r), r == '\u2028', r == '\u2029':
		return true
	case r >= '\u202a' && r <= '\u202e', r >= '\u2066' && r <= '\u2069':
		return true
	}
	return false
}

// Visible writes hidden characters as \u and four hexadecimal digits, which JSON reads as
// the same (RFC 8259, section 7), and leaves everything else.
func Visible(s string) string { return visible(s, func(rune) bool { return false }) }

func visible(s string, keep func(rune) bool) string {
	if strings.IndexFunc(s, func(r rune) bool { return hidden(r) && !keep(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if hidden(r) && !keep(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Printable leaves hidden characters out, and cuts a text to so many bytes.
func Printable(s string, most int) string {
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "")
	}
	return strings.Map(func(r rune) rune {
		if hidden(r) || r == utf8.RuneError {
			return -1
		}
		return r
	}, s)
}

// Writer passes text on with hidden characters made visible, but for those that form lines
// and columns.
type Writer struct {
	To   io.Writer
	rest []byte // the beginning of a character whose end comes with the next write
}

func (w *Writer) Write(p []byte) (int, error) {
	all := append(w.rest, p...)
	whole := len(all)
	for i := 1; i <= min(utf8.UTFMax-1, len(all)); i++ {
		if b := all[len(all)-i]; utf8.RuneStart(b) {
			if !utf8.FullRune(all[len(all)-i:]) {
				whole -= i
			}
			break
		}
	}
	if _, err := io.WriteString(w.To, lines(string(all[:whole]))); err != nil {
		return 0, err
	}
	w.rest = append([]byte(nil), all[whole:]...)
	return len(p), nil
}

// lines makes visible what forms neither lines nor columns. A carriage return does only
// before the end of a line.
func lines(s string) string {
	const ending = "\r\n"
	parts := strings.Split(s, ending)
	for i := range parts {
		parts[i] = visible(parts[i], func(r rune) bool { return r == '\n' || r == '\t' })
	}
	return strings.Join(parts, ending)
}

// Cell is a text as the cell of a spreadsheet: one that spreadsheets would run, and that is
// not a number, begins with an apostrophe, which they show as text.
func Cell(s string) string {
	begins := strings.TrimLeft(s, " \u00a0")
	if begins == "" || s == "-" || !strings.ContainsAny(begins[:1], "=+-@\t\r\n") {
		return s
	}
	if _, err := strconv.ParseFloat(strings.TrimSuffix(s, "%"), 64); err == nil {
		return s
	}
	return "'" + s
}

// Cells are texts as cells.
func Cells(row []string) []string {
	cells := make([]string, len(row))
	for i := range row {
		cells[i] = Cell(row[i])
	}
	return cells
}

// Middle shortens a path to its beginning and its end.
func Middle(name string) string {
	text := []rune(name)
	if len(text) <= 60 {
		return name
	}
	return string(text[:28]) + " … " + string(text[len(text)-28:])
}

// Lasting says how long something takes, without units that are zero at its end.
func Lasting(d time.Duration) string {
	said := d.Round(time.Second).String()
	for _, zero := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(said, zero) {
			said = said[:len(said)-2]
		}
	}
	return said
}
