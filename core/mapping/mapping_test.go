package mapping

import (
	"fmt"
	"strings"
	"testing"
)

func ExampleWrite() {
	fmt.Print(Write(Fstab, "for ivy.marsh", []Mapping{{Path: "/trust/seed bank", Host: "fern", Share: "seedbank"}}, nil))
	// Output:
	// # for ivy.marsh
	// //fern/seedbank /trust/seed\040bank cifs noauto,x-systemd.automount,_netdev,multiuser,sec=krb5 0 0
}

func TestWrite(t *testing.T) {
	list := []Mapping{{Path: "/trust/seed bank", Letter: "H", Host: "fern.example", Share: "seed bank", Sub: "done/beds"}, {Path: "/trust/o", Letter: "I", Host: "fern.example", Share: "O'Hara’s"}, {Path: "/trust/council", Host: "127.0.0.11", Port: 1445, Share: "council"}}
	before := []Mapping{{Letter: "H", Host: "old", Share: "seed"}, {Letter: "J", Host: "old", Share: "other"}}
	for format, want := range map[Format][]string{
		Batch: {"rem for ivy.marsh\r\n", `for /f "delims=" %%L in ('net use H: 2^>nul ^| find "\\"') do set "now=%%L"` + "\r\n",
			`if defined now if /i "%now:~-35%"==" \\fern.example\seed bank\done\beds" net use H: /delete /yes >nul` + "\r\n", `if defined now if /i "%now:~-11%"==" \\old\seed" net use H: /delete /yes >nul`,
			`net use H: "\\fern.example\seed bank\done\beds" /persistent:no` + "\r\n", "rem no letter is left for /trust/council", "powershell -NoProfile -NonInteractive -EncodedCommand "},
		PowerShell: {"# for ivy.marsh\r\n", `@('\\fern.example\seed bank\done\beds', '\\old\seed') -contains $now.RemotePath`, `New-SmbMapping -LocalPath 'H:' -RemotePath '\\fern.example\seed bank\done\beds' -Persistent $false`,
			`-RemotePath ('' + '\\fern.example\O' + [char]0x0027 + 'Hara' + [char]0x2019 + 's')`, "# no letter is left for /trust/council"},
		Autofs: {`/trust/seed\ bank -fstype=cifs,multiuser,sec=krb5 ://fern.example/seed\ bank/done/beds` + "\n", `/trust/council -fstype=cifs,multiuser,sec=krb5,port=1445 ://127.0.0.11/council`},
		Fstab:  {`//fern.example/seed\040bank/done/beds /trust/seed\040bank cifs noauto,`},
		CSV:    {"path,letter,unc,url,without the front\n", `/trust/seed bank,H,\\fern.example\seed bank\done\beds,//fern.example/seed bank/done/beds,`},
	} {
		got := Write(format, "for\nivy.marsh", list, before)
		for _, line := range want {
			if !strings.Contains(got, line) {
				t.Errorf("%s:\n%s\nwant %s", format, got, line)
			}
		}
		if strings.Contains(got, "other") {
			t.Errorf("%s: a letter that is not given away is touched:\n%s", format, got)
		}
	}
}

// A mapping through a front also says where it leads without it.
func TestWriteThroughFront(t *testing.T) {
	before := []Mapping{{Path: "/trust/council", Letter: "H", Host: "fern", Share: "council"}}
	list := []Mapping{{Path: "/trust/council", Letter: "H", Host: "bracken", Share: "trust", Sub: "council", Instead: `\\fern\council`}}
	for format, want := range map[Format]string{Batch: `rem without the front, H: leads to \\fern\council`, PowerShell: `# without the front, H: leads to \\fern\council`, Autofs: `# without the front: \\fern\council`, Fstab: `//bracken/trust/council /trust/council cifs`, CSV: `\\fern\council`} {
		if got := Write(format, "for ivy", list, before); !strings.Contains(got, want) {
			t.Errorf("%s:\n%s\nwant %s", format, got, want)
		}
	}
	if got := Changes(before, list); len(got) != 1 || !strings.Contains(got[0], "can lead through the front") {
		t.Errorf("of a mapping that led straight to a server is told %q", got)
	}
	moved := []Mapping{list[0]}
	moved[0].Instead = `\\yarrow\council`
	if got := Changes(list, moved); len(got) != 0 {
		t.Errorf("another server behind the front makes it stale: %q", got)
	}
}

func TestAssign(t *testing.T) {
	first := Assign([]string{"/a", "/b"}, nil)
	if first["/a"] != "H" || first["/b"] != "I" {
		t.Errorf("%v", first)
	}
	// What was given stays, whatever comes before it.
	again := Assign([]string{"/0", "/a", "/c"}, map[string]string{"/a": "H", "/gone": "I", "/b": "J"})
	if again["/a"] != "H" || again["/0"] != "K" || again["/c"] != "L" {
		t.Errorf("%v", again)
	}
	var many []string
	for i := range 30 {
		many = append(many, strings.Repeat("x", i+1))
	}
	all := Assign(many, nil)
	seen := map[string]bool{}
	for _, letter := range all {
		if seen[letter] || strings.Contains("ABCD", letter) {
			t.Errorf("%s is given twice, or to nobody", letter)
		}
		seen[letter] = true
	}
	if len(all) != len(letters) {
		t.Errorf("%d letters are given", len(all))
	}
}

func TestChanges(t *testing.T) {
	before := []Mapping{{Path: "/a", Letter: "H", Host: "one", Share: "a"}, {Path: "/b", Letter: "I", Host: "one", Share: "b"}, {Path: "/c", Letter: "J", Host: "one", Share: "c"}}
	after := []Mapping{{Path: "/a", Letter: "H", Host: "two", Share: "a"}, {Path: "/b", Letter: "K", Host: "one", Share: "b"}, {Path: "/d", Host: "one", Share: "d"}}
	want := `/a leads to \\two\a instead of \\one\a|/b is K: instead of I:|/d is new: \\one\d|/c is gone; it was J: \\one\c`
	if got := strings.Join(Changes(before, after), "|"); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if got := Changes(before, before); len(got) != 0 {
		t.Errorf("%v", got)
	}
}
