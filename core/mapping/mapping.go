// Package mapping writes where people's drives and mount points lead, in the
// forms that their systems read.
package mapping

import (
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"encoding/csv"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"bridgespan/core/text"
)

// Mapping is one drive or mount point.
type Mapping struct {
	Path   string `json:"path" doc:"Full path in the namespace, such as /trust/collections/herbarium"`
	Letter string `json:"letter,omitempty" doc:"Drive letter; absent when all are used up"`
	Host   string `json:"host" doc:"Host name or address of the server"`
	Port   int    `json:"port,omitempty" doc:"TCP port, when it is not 445: Windows cannot go there"`
	Share  string `json:"share"`
	Sub    string `json:"sub,omitempty" doc:"Folder below the share"`
	// Instead is for people whose front is away.
	Instead string `json:"instead,omitempty" doc:"Of a mapping that leads through a front: where it leads without it"`
}

// UNC is the place as Windows writes it.
func (m Mapping) UNC() string {
	return `\\` + m.Host + `\` + m.Share + strings.TrimSuffix(`\`+strings.ReplaceAll(m.Sub, "/", `\`), `\`)
}

// URL is the place as Unix writes it.
func (m Mapping) URL() string { return "//" + path.Join(m.Host, m.Share, m.Sub) }

// port is the option of a mount whose server listens somewhere else.
func (m Mapping) port() string {
	if m.Port == 0 {
		return ""
	}
	return fmt.Sprintf(",port=%d", m.Port)
}

// Format is a form in which mappings are written.
type Format string

const (
	Batch      Format = "batch"      // a Windows batch file
	PowerShell Format = "powershell" // a PowerShell script
	Autofs     Format = "autofs"     // a direct map of the Linux automounter
	Fstab      Format = "fstab"      // lines for /etc/fstab
	CSV        Format = "csv"
)

// Formats are all formats.
var Formats = []Format{Batch, PowerShell, Autofs, Fstab, CSV}

// Write writes mappings; about is a line of words for whoever opens the file. before are
// those that were handed out last: a letter that leads to one of them, or to where it is to
// lead, is ours, and no other one is taken away from what it leads to.
func Write(f Format, about string, list, before []Mapping) string {
	var b strings.Builder
	switch f {
	case Batch:
		writeBatch(&b, about, list, before)
	case PowerShell:
		writePowerShell(&b, about, list, before)
	case Autofs:
		writeMounts(&b, about, list, func(m Mapping) string {
			return fmt.Sprintf("%s -fstype=cifs,multiuser,sec=krb5%s :%s", escaped(m.Path), m.port(), escaped(m.URL()))
		})
	case Fstab:
		writeMounts(&b, about, list, func(m Mapping) string {
			return fmt.Sprintf("%s %s cifs noauto,x-systemd.automount,_netdev,multiuser,sec=krb5%s 0 0", octal(m.URL()), octal(m.Path), m.port())
		})
	case CSV:
		writeCSV(&b, list)
	}
	return b.String()
}

// remark is a text for a comment, of characters that mean nothing anywhere.
func remark(words string) string {
	plain := func(r rune) rune {
		if r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune(` ./\_:,-`, r)) {
			return r
		}
		return '_'
	}
	return strings.Map(plain, strings.Join(strings.Fields(words), " "))
}

// ours are the places that a letter may lead to now for it to be ours.
func ours(m Mapping, before []Mapping) []string {
	places := []string{m.UNC()}
	for _, old := range before {
		if old.Letter == m.Letter && old.UNC() != m.UNC() {
			places = append(places, old.UNC())
		}
	}
	return places
}

// writeBatch writes commands of cmd.exe, in ASCII alone: in which code page it reads a file
// is not known to who writes it. Only names of letters, digits and a few signs are written
// as they are; cmd.exe has no unambiguous way to write others, so PowerShell is called for
// them with a script in Base64. Lines end as Windows ends them.
func writeBatch(b *strings.Builder, about string, list, before []Mapping) {
	fmt.Fprintf(b, "@echo off\r\nrem %s\r\nsetlocal disabledelayedexpansion\r\n", remark(about))
	for _, m := range list {
		places := ours(m, before)
		if m.Instead != "" {
			fmt.Fprintf(b, "rem without the front, %s: leads to %s\r\n", m.Letter, remark(m.Instead))
		}
		switch {
		case m.Letter == "":
			fmt.Fprintf(b, "rem no letter is left for %s\r\n", remark(m.Path))
		case slices.ContainsFunc(places, func(place string) bool { return !plainForBatch(place) }):
			fmt.Fprintf(b, "rem %s: %s\r\npowershell -NoProfile -NonInteractive -EncodedCommand %s\r\n", m.Letter, remark(m.UNC()), encodedCommand(oneDrive(m, before)))
		default:
			writeDrive(b, m, places)
		}
	}
}

// writeDrive maps a letter with net use. What the letter leads to now stands at the end of a
// line of what net use tells, behind a space.
func writeDrive(b *strings.Builder, m Mapping, places []string) {
	fmt.Fprintf(b, "set \"now=\"\r\nfor /f \"delims=\" %%%%L in ('net use %s: 2^>nul ^| find \"\\\\\"') do set \"now=%%%%L\"\r\n", m.Letter)
	for _, place := range places {
		fmt.Fprintf(b, "if defined now if /i \"%%now:~-%d%%\"==\" %s\" net use %s: /delete /yes >nul\r\n", len(place)+1, place, m.Letter)
	}
	fmt.Fprintf(b, "net use %s: \"%s\" /persistent:no\r\n", m.Letter, m.UNC())
}

// plainForBatch reports whether cmd.exe takes all of a name as it is within quotes.
func plainForBatch(name string) bool {
	return !strings.ContainsFunc(name, func(r rune) bool {
		return r >= utf8.RuneSelf || !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(` \._-$+,@#`, r)
	})
}

// encodedCommand is a script as PowerShell takes it on its command line: Base64 (RFC 4648)
// of UTF-16, the low byte first.
func encodedCommand(script string) string {
	var raw []byte
	for _, unit := range utf16.Encode([]rune(script)) {
		raw = binary.LittleEndian.AppendUint16(raw, unit)
	}
	return base64.StdEncoding.EncodeToString(raw)
}

// writePowerShell writes a script in ASCII alone, since Windows PowerShell reads a file
// without a byte order mark in the code page of its machine.
func writePowerShell(b *strings.Builder, about string, list, before []Mapping) {
	fmt.Fprintf(b, "# %s\r\n", remark(about))
	for _, m := range list {
		if m.Letter == "" {
			fmt.Fprintf(b, "# no letter is left for %s\r\n", remark(m.Path))
			continue
		}
		if m.Instead != "" {
			fmt.Fprintf(b, "# without the front, %s: leads to %s\r\n", m.Letter, remark(m.Instead))
		}
		b.WriteString(oneDrive(m, before))
	}
}

// oneDrive are the lines of a script that map one letter, unless it leads to what is not ours.
func oneDrive(m Mapping, before []Mapping) string {
	var places []string
	for _, place := range ours(m, before) {
		places = append(places, quoted(place))
	}
	drive := quoted(m.Letter + ":")
	return fmt.Sprintf("$now = Get-SmbMapping -LocalPath %s -ErrorAction SilentlyContinue\r\n", drive) +
		fmt.Sprintf("if ($now -and @(%s) -contains $now.RemotePath) { Remove-SmbMapping -LocalPath %s -Force; $now = $null }\r\n", strings.Join(places, ", "), drive) +
		fmt.Sprintf("if ($now) { Write-Warning (%s + ' leads to ' + $now.RemotePath + ' and is left as it is') } else { New-SmbMapping -LocalPath %s -RemotePath %s -Persistent $false }\r\n", drive, drive, quoted(m.UNC()))
}

// quoted is a text as an expression of PowerShell, in ASCII. Within single quotes all but
// quotes stands for itself; the others are given by their numbers.
func quoted(s string) string {
	var parts []string
	run := ""
	flush := func() {
		if run != "" {
			parts = append(parts, "'"+run+"'")
			run = ""
		}
	}
	for _, unit := range utf16.Encode([]rune(s)) {
		if unit >= ' ' && unit < 0x7f && unit != '\'' {
			run += string(rune(unit))
			continue
		}
		flush()
		parts = append(parts, fmt.Sprintf("[char]0x%04X", unit))
	}
	flush()
	switch {
	case len(parts) == 0:
		return "''"
	case len(parts) == 1 && parts[0][0] == '\'':
		return parts[0]
	}
	return "('' + " + strings.Join(parts, " + ") + ")"
}

// writeMounts writes a line for each mapping, but for names that no such file can hold.
func writeMounts(b *strings.Builder, about string, list []Mapping, line func(Mapping) string) {
	fmt.Fprintf(b, "# %s\n", remark(about))
	for _, m := range list {
		if strings.ContainsFunc(m.Path+m.URL(), unicode.IsControl) {
			fmt.Fprintf(b, "# a name with control characters is left out: %s\n", remark(m.Path))
			continue
		}
		if m.Instead != "" {
			fmt.Fprintf(b, "# without the front: %s\n", remark(m.Instead))
		}
		b.WriteString(line(m) + "\n")
	}
}

// escaped writes a name for a map of the automounter, in which a backslash takes the
// meaning from what follows (autofs(5)).
func escaped(name string) string {
	var b strings.Builder
	for _, r := range name {
		if r < utf8.RuneSelf && !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("/._-", r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// octal writes a name for fstab(5), which reads \040 as a space and \134 as a backslash.
func octal(name string) string {
	return strings.NewReplacer(" ", `\040`, `\`, `\134`).Replace(name)
}

func writeCSV(b *strings.Builder, list []Mapping) {
	w := csv.NewWriter(b)
	// Writing to a builder cannot fail.
	_ = w.Write([]string{"path", "letter", "unc", "url", "without the front"})
	for _, m := range list {
		_ = w.Write(text.Cells([]string{m.Path, m.Letter, m.UNC(), m.URL(), m.Instead}))
	}
	w.Flush()
}

// letters are the drive letters that are given away, in this order: those that
// systems and sticks take for themselves come last, or never.
const letters = "HIJKLMNOPQRSTUVWXYZGFE"

// Assign gives every path that has no letter the next free one; letters that
// were given away stay. It returns the letters by path.
func Assign(paths []string, given map[string]string) map[string]string {
	all := map[string]string{}
	used := map[string]bool{}
	for p, letter := range given {
		all[p] = letter
		used[letter] = true
	}
	next := 0
	for _, p := range paths {
		if all[p] != "" {
			continue
		}
		for next < len(letters) && used[letters[next:next+1]] {
			next++
		}
		if next == len(letters) {
			break
		}
		all[p] = letters[next : next+1]
		used[all[p]] = true
	}
	return all
}

// Changes says in words how mappings differ from those handed out before.
func Changes(before, after []Mapping) []string {
	was := map[string]Mapping{}
	for _, m := range before {
		was[m.Path] = m
	}
	list := []string{}
	for _, m := range after {
		old, known := was[m.Path]
		delete(was, m.Path)
		switch {
		case !known:
			list = append(list, fmt.Sprintf("%s is new: %s%s", m.Path, drive(m), m.UNC()))
		case old.UNC() != m.UNC() && m.Instead != "" && old.Instead == "":
			list = append(list, fmt.Sprintf("%s can lead through the front, %s, instead of straight to %s", m.Path, m.UNC(), old.UNC()))
		case old.UNC() != m.UNC():
			list = append(list, fmt.Sprintf("%s leads to %s instead of %s", m.Path, m.UNC(), old.UNC()))
		case old.Letter != m.Letter:
			list = append(list, fmt.Sprintf("%s is %s instead of %s", m.Path, cmp.Or(strings.TrimSpace(drive(m)), "without a letter"), cmp.Or(strings.TrimSpace(drive(old)), "without a letter")))
		}
	}
	for _, m := range before {
		if _, gone := was[m.Path]; gone {
			list = append(list, fmt.Sprintf("%s is gone; it was %s%s", m.Path, drive(m), m.UNC()))
		}
	}
	return list
}

func drive(m Mapping) string {
	if m.Letter == "" {
		return ""
	}
	return m.Letter + ": "
}
