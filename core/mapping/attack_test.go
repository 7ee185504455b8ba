package mapping

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/csv"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// attacks are names that would do something of their own, if a format let them.
var attacks = []string{
	`a & calc.exe`, `a" & calc.exe & "`, `%COMSPEC%`, `%now:~0,1%`, `100% done`, `!PATH!`, `a^b`, `a | b`, `a > b`, "a\r\ndel *", "a\ndel *",
	`O'Hara`, `'; calc #`, "’; calc #", "‘; calc", "‚; calc", "‛; calc", "“; calc", "ђ; calc; ё", "ё’", "a`nb", `$(calc)`, `${env:PATH}`, `$now`, `"; calc`, "植物'; calc", "😀'; calc", "\ufeff'", "a\u2028calc", "a\u0085calc",
	`a b`, `a\b`, `a\040b`, "a\tb", `a#b`, `#a`, `$HOST`, `${HOST}`, `a&b`, `&`, `a:b`, `a,uid=0`, `a -fstype=none`, `a" "b`, "a\x0bb", `-a`, `=1+1`, `@SUM(1)`, `+1`, "\t=1",
}

// In every format a name stays a name: what is read back is what was written.
func TestAttackNames(t *testing.T) {
	for _, name := range attacks {
		m := Mapping{Path: "/n/" + name, Letter: "H", Host: "h", Share: name, Sub: name}
		before := []Mapping{{Path: "/n/" + name, Letter: "H", Host: "old", Share: name}}
		control := strings.ContainsFunc(name, unicode.IsControl)
		t.Run(name, func(t *testing.T) {
			checkPowerShell(t, Write(PowerShell, name, []Mapping{m}, before), m, before)
			checkBatch(t, Write(Batch, name, []Mapping{m}, before), m, before)
			if lines := strings.Split(Write(Autofs, name, []Mapping{m}, nil), "\n"); control != strings.HasPrefix(lines[1], "#") || len(lines) != 3 {
				t.Errorf("autofs: %q", lines)
			} else if !control {
				fields := cut(lines[1])
				if len(fields) != 3 || fields[0] != m.Path || fields[2] != ":"+m.URL() {
					t.Errorf("autofs reads %q from %q", fields, lines[1])
				}
			}
			if lines := strings.Split(Write(Fstab, name, []Mapping{m}, nil), "\n"); control != strings.HasPrefix(lines[1], "#") || len(lines) != 3 {
				t.Errorf("fstab: %q", lines)
			} else if !control {
				fields := strings.FieldsFunc(lines[1], func(r rune) bool { return r == ' ' || r == '\t' })
				plain := strings.NewReplacer(`\040`, " ", `\134`, `\`)
				if len(fields) != 6 || plain.Replace(fields[0]) != m.URL() || plain.Replace(fields[1]) != m.Path {
					t.Errorf("fstab reads %q", fields)
				}
			}
			rows, err := csv.NewReader(strings.NewReader(Write(CSV, name, []Mapping{m}, nil))).ReadAll()
			if err != nil || len(rows) != 2 {
				t.Errorf("csv: %q, %v", rows, err)
			}
		})
	}
}

// cut reads the fields of a line as the automounter does: a backslash takes the meaning
// from what follows.
func cut(line string) (fields []string) {
	field, started, literal := "", false, false
	for _, r := range line {
		switch {
		case literal:
			field, literal, started = field+string(r), false, true
		case r == '\\':
			literal = true
		case r == ' ' || r == '\t':
			if started {
				fields, field, started = append(fields, field), "", false
			}
		case strings.ContainsRune(`"&$#`, r):
			return append(fields, "a sign with a meaning: "+string(r))
		default:
			field, started = field+string(r), true
		}
	}
	return append(fields, field)
}

// evaluated reads a quoted expression of PowerShell, of literals and characters by number.
func evaluated(t *testing.T, expression string) string {
	t.Helper()
	var units []uint16
	for _, part := range regexp.MustCompile(`'[^']*'|\[char\]0x[0-9A-F]{4}`).FindAllString(expression, -1) {
		if part[0] == '\'' {
			units = append(units, utf16.Encode([]rune(part[1:len(part)-1]))...)
			continue
		}
		n, err := strconv.ParseUint(strings.TrimPrefix(part, "[char]0x"), 16, 16)
		if err != nil {
			t.Fatal(err)
		}
		units = append(units, uint16(n))
	}
	return string(utf16.Decode(units))
}

// expression is a PowerShell expression that a name is written as.
const expression = `('[^']*'|\('' \+ (?:'[^']*'|\[char\]0x[0-9A-F]{4})(?: \+ (?:'[^']*'|\[char\]0x[0-9A-F]{4}))*\))`

var scriptOfDrive = regexp.MustCompile(`^\$now = Get-SmbMapping -LocalPath 'H:' -ErrorAction SilentlyContinue
if \(\$now -and @\(` + expression + `(?:, ` + expression + `)?\) -contains \$now\.RemotePath\) \{ Remove-SmbMapping -LocalPath 'H:' -Force; \$now = \$null \}
if \(\$now\) \{ Write-Warning \('H:' \+ ' leads to ' \+ \$now\.RemotePath \+ ' and is left as it is'\) \} else \{ New-SmbMapping -LocalPath 'H:' -RemotePath ` + expression + ` -Persistent \$false \}
$`)

func checkScript(t *testing.T, script string, m Mapping, before []Mapping) {
	t.Helper()
	found := scriptOfDrive.FindStringSubmatch(strings.ReplaceAll(script, "\r\n", "\n"))
	if found == nil {
		t.Fatalf("another script than was meant:\n%s", script)
	}
	for i, want := range []string{m.UNC(), before[0].UNC(), m.UNC()} {
		if got := evaluated(t, found[i+1]); got != want {
			t.Errorf("PowerShell reads %q, want %q", got, want)
		}
	}
}

func checkASCII(t *testing.T, text string) {
	t.Helper()
	if i := strings.IndexFunc(text, func(r rune) bool {
		return r >= utf8.RuneSelf || unicode.IsControl(r) && r != '\r' && r != '\n'
	}); i >= 0 {
		t.Errorf("not ASCII at %q", text[i:])
	}
}

func checkPowerShell(t *testing.T, text string, m Mapping, before []Mapping) {
	t.Helper()
	checkASCII(t, text)
	about, script, _ := strings.Cut(text, "\r\n")
	if !strings.HasPrefix(about, "# ") {
		t.Errorf("PowerShell begins with %q", about)
	}
	checkScript(t, script, m, before)
}

func checkBatch(t *testing.T, text string, m Mapping, before []Mapping) {
	t.Helper()
	checkASCII(t, text)
	lines := strings.Split(strings.TrimSuffix(text, "\r\n"), "\r\n")
	if !regexp.MustCompile(`^rem [A-Za-z0-9 ./\\_:,-]*$`).MatchString(lines[1]) {
		t.Errorf("batch begins with %q", lines[1])
	}
	lines = lines[3:]
	if plainForBatch(m.UNC()) && plainForBatch(before[0].UNC()) {
		want := fmt.Sprintf(`net use H: "%s" /persistent:no`, m.UNC())
		if strings.ContainsAny(m.UNC(), `"%!^&|<>`) || lines[len(lines)-1] != want {
			t.Errorf("batch: %q, want %q", lines, want)
		}
		return
	}
	encoded, ok := strings.CutPrefix(lines[1], "powershell -NoProfile -NonInteractive -EncodedCommand ")
	raw, err := base64.StdEncoding.DecodeString(encoded)
	if !ok || err != nil || len(lines) != 2 || !strings.HasPrefix(lines[0], "rem ") {
		t.Fatalf("batch: %q, %v", lines, err)
	}
	var units []uint16
	for i := 0; i+1 < len(raw); i += 2 {
		units = append(units, binary.LittleEndian.Uint16(raw[i:]))
	}
	checkScript(t, string(utf16.Decode(units)), m, before)
}

// Nothing that a name can hold is more than a name.
func FuzzWrite(f *testing.F) {
	for _, name := range attacks {
		f.Add(name, name)
	}
	f.Fuzz(func(t *testing.T, share, sub string) {
		if !utf8.ValidString(share) || !utf8.ValidString(sub) {
			return
		}
		m := Mapping{Path: "/n/" + share, Letter: "H", Host: "h", Share: share, Sub: sub}
		before := []Mapping{{Letter: "H", Host: "old", Share: sub}}
		if before[0].UNC() == m.UNC() {
			return
		}
		checkPowerShell(t, Write(PowerShell, share, []Mapping{m}, before), m, before)
		checkBatch(t, Write(Batch, share, []Mapping{m}, before), m, before)
		for _, format := range []Format{Autofs, Fstab} {
			if got := Write(format, share, []Mapping{m}, before); strings.Count(got, "\n") != 2 {
				t.Errorf("%s has another number of lines:\n%s", format, got)
			}
		}
	})
}
