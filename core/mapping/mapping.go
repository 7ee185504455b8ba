// Package mapping writes where people's drives and mount points lead, in the
// forms that their systems read.
package mapping

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"path"
	"strings"
)

// Mapping is one drive or mount point.
type Mapping struct {
	Path   string `json:"path" doc:"Full path in the namespace, such as /trust/collections/herbarium"`
	Letter string `json:"letter,omitempty" doc:"Drive letter; absent when all are used up"`
	Host   string `json:"host" doc:"Host name or address of the server"`
	Port   int    `json:"port,omitempty" doc:"TCP port, when it is not 445: Windows cannot go there"`
	Share  string `json:"share"`
	Sub    string `json:"sub,omitempty" doc:"Folder below the share"`
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

// Write writes mappings; about is a line of words for whoever opens the file.
func Write(f Format, about string, list []Mapping) string {
	var b strings.Builder
	about = strings.Join(strings.Fields(about), " ")
	switch f {
	case Batch:
		writeBatch(&b, about, list)
	case PowerShell:
		writePowerShell(&b, about, list)
	case Autofs:
		fmt.Fprintf(&b, "# %s\n", about)
		for _, m := range list {
			fmt.Fprintf(&b, "%s -fstype=cifs,multiuser,sec=krb5%s :%s\n", automount(m.Path), m.port(), automount(m.URL()))
		}
	case Fstab:
		fmt.Fprintf(&b, "# %s\n", about)
		for _, m := range list {
			fmt.Fprintf(&b, "%s %s cifs noauto,x-systemd.automount,_netdev,multiuser,sec=krb5%s 0 0\n", octal(m.URL()), octal(m.Path), m.port())
		}
	case CSV:
		writeCSV(&b, list)
	}
	return b.String()
}

// writeBatch writes commands of cmd.exe: inside of quotes only % needs care,
// and names of shares and folders cannot hold quotes. Lines end as Windows ends them.
func writeBatch(b *strings.Builder, about string, list []Mapping) {
	safe := strings.NewReplacer("%", "%%", `"`, "", "\r", "", "\n", "")
	fmt.Fprintf(b, "@echo off\r\nrem %s\r\nchcp 65001 >nul\r\n", safe.Replace(about))
	for _, m := range list {
		if m.Letter == "" {
			fmt.Fprintf(b, "rem no letter is left for %s: \"%s\"\r\n", safe.Replace(m.Path), safe.Replace(m.UNC()))
			continue
		}
		fmt.Fprintf(b, "if exist %s:\\ net use %s: /delete /yes >nul\r\nnet use %s: \"%s\" /persistent:no\r\n", m.Letter, m.Letter, m.Letter, safe.Replace(m.UNC()))
	}
}

// writePowerShell writes commands whose names stand in single quotes, in which
// only the quote itself is doubled; typographic quotes count as quotes there.
func writePowerShell(b *strings.Builder, about string, list []Mapping) {
	quote := func(s string) string {
		return "'" + strings.NewReplacer("'", "''", "’", "’’", "‘", "‘‘", "‚", "‚‚", "‛", "‛‛", "\r", "", "\n", "").Replace(s) + "'"
	}
	fmt.Fprintf(b, "# %s\r\n", about)
	for _, m := range list {
		if m.Letter == "" {
			fmt.Fprintf(b, "# no letter is left for %s\r\n", strings.Join(strings.Fields(m.Path), " "))
			continue
		}
		drive := quote(m.Letter + ":")
		fmt.Fprintf(b, "Remove-SmbMapping -LocalPath %s -Force -ErrorAction SilentlyContinue\r\nNew-SmbMapping -LocalPath %s -RemotePath %s -Persistent $false\r\n", drive, drive, quote(m.UNC()))
	}
}

// automount writes a name for a map of the automounter, which takes a quoted
// name as it is and a backslash before what would end it.
func automount(name string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "&", `\&`, "\n", "").Replace(name) + `"`
}

// octal writes a name for fstab(5), which reads \040 as a space.
func octal(name string) string {
	var b strings.Builder
	for _, c := range []byte(name) {
		if c <= ' ' || c == '\\' || c == '#' {
			fmt.Fprintf(&b, `\%03o`, c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func writeCSV(b *strings.Builder, list []Mapping) {
	w := csv.NewWriter(b)
	// Writing to a builder cannot fail.
	_ = w.Write([]string{"path", "letter", "unc", "url"})
	for _, m := range list {
		_ = w.Write([]string{m.Path, m.Letter, m.UNC(), m.URL()})
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
