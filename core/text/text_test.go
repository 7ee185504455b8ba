package text

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestVisible(t *testing.T) {
	for in, want := range map[string]string{
		"Digitalis purpurea": "Digitalis purpurea",
		"Käse 植物 🌱":          "Käse 植物 🌱",
		"\x1b[31mred":        `\u001b[31mred`,
		"a\nb\tc\rd":         `a\u000ab\u0009c\u000dd`,
		"\u009b31m":          `\u009b31m`,
		"cod\u202egpj.exe":   `cod\u202egpj.exe`,
		"a\u2028b":           `a\u2028b`,
		"\x7f":               `\u007f`,
	} {
		if got := Visible(in); got != want {
			t.Errorf("%q is shown as %q, want %q", in, got, want)
		}
	}
	if got := Printable("\x1b]0;title\x07name"+strings.Repeat("ä", 100), 20); got != "]0;titlenameäää" {
		t.Errorf("printed as %q", got)
	}
}

// However a text is cut into writes, the same comes out.
func FuzzWriter(f *testing.F) {
	f.Add("name\x1b[2J\r\nother\tcell 植\u009b\n", uint8(3))
	f.Add("\r\r\n\u202e", uint8(1))
	f.Fuzz(func(t *testing.T, s string, piece uint8) {
		if !utf8.ValidString(s) || strings.Contains(s, "\r") && piece > 0 {
			return // a write that ends between the two characters of a line's end shows the first
		}
		var whole, parts strings.Builder
		w := &Writer{To: &whole}
		if n, err := w.Write([]byte(s)); n != len(s) || err != nil {
			t.Fatal(n, err)
		}
		w = &Writer{To: &parts}
		for rest := []byte(s); len(rest) > 0; {
			n := min(len(rest), int(piece%7)+1)
			if _, err := w.Write(rest[:n]); err != nil {
				t.Fatal(err)
			}
			rest = rest[n:]
		}
		if whole.String() != parts.String() {
			t.Errorf("%q is written as %q, and in parts as %q", s, whole.String(), parts.String())
		}
		for _, r := range whole.String() {
			if hidden(r) && r != '\n' && r != '\t' && r != '\r' {
				t.Errorf("%q is written as %q", s, whole.String())
			}
		}
	})
}

// JSON that passes through stays the same JSON.
func TestWriterKeepsJSON(t *testing.T) {
	name := "a\u009b31m\x1b\u202eb"
	line, err := json.Marshal(name)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	if _, err := (&Writer{To: &out}).Write(line); err != nil {
		t.Fatal(err)
	}
	var back string
	if err := json.Unmarshal([]byte(out.String()), &back); err != nil || back != name || strings.ContainsFunc(out.String(), hidden) {
		t.Errorf("%q is %q, %v", out.String(), back, err)
	}
}

func TestCell(t *testing.T) {
	for in, want := range map[string]string{
		"": "", "herbarium": "herbarium", "-12.5": "-12.5", "+3": "+3", "-4%": "-4%", "1-2": "1-2", "a=b": "a=b",
		"=HYPERLINK(\"x\")": "'=HYPERLINK(\"x\")", "+cmd|' /C calc'!A0": "'+cmd|' /C calc'!A0", "-2+3": "'-2+3", "@SUM(A1)": "'@SUM(A1)", "\t=1": "'\t=1", "\r=1": "'\r=1", " =1": "' =1", "-": "-", "--": "'--",
	} {
		if got := Cell(in); got != want {
			t.Errorf("%q is the cell %q, want %q", in, got, want)
		}
	}
}

func TestLasting(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0s", 40 * time.Second: "40s", 90 * time.Second: "1m30s", 10 * time.Minute: "10m", 5 * time.Hour: "5h", 9*time.Hour + 30*time.Minute: "9h30m", 5*time.Hour + 3*time.Second: "5h0m3s", 1500 * time.Millisecond: "2s"} {
		if got := Lasting(d); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}
