package shares

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/steps"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

var existing = []smbadmin.Share{
	{Name: "Herbarium", Kind: "disk", Path: `C:\srv\herbarium`},
	{Name: "scans", Kind: "disk", Path: `C:\srv\scans\2026`},
	{Name: "volume$", Kind: "disk", Path: `C:\srv`, Hidden: true},
	{Name: "IPC$", Kind: "pipe"},
}

// said writes advice as weight and the beginning of its text.
func said(list []finding.Finding) string {
	var lines []string
	for _, a := range list {
		if a.Remedy == "" {
			return "no remedy for: " + a.Found
		}
		lines = append(lines, fmt.Sprint(a.Severity))
	}
	return strings.Join(lines, " ")
}

func TestNameAdvice(t *testing.T) {
	for name, want := range map[string]string{
		"seeds":                  "",
		"seed-bank":              "",
		"":                       "fail",
		"  ":                     "fail",
		"herbarium":              "fail", // in another case
		"Herbarium":              "fail",
		"admin$":                 "fail warn",
		"ipc$":                   "fail fail warn",
		"global":                 "fail",
		"a/b":                    "fail",
		"a\x07b":                 "fail",
		" seeds":                 "fail",
		"seeds.":                 "fail",
		"seed bank":              "warn",
		"seeds$":                 "warn",
		"Sämlinge":               "warn",
		strings.Repeat("a", 80):  "",
		strings.Repeat("a", 81):  "fail",
		strings.Repeat("ä", 80):  "warn",
		"wide space and more $":  "warn warn",
		"Sämlinge im Frühling $": "warn warn warn",
	} {
		if got := said(nameAdvice(name, existing)); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
	if a := nameAdvice("herbarium", existing); !strings.Contains(a[0].Found, "differ only in case") {
		t.Errorf("another case: %+v", a)
	}
}

func TestPathAdvice(t *testing.T) {
	for path, want := range map[string]string{
		`C:\srv\seeds`:            "", // below a hidden share alone
		`C:\srv\herbarium`:        "warn",
		`c:/SRV/herbarium/`:       "warn",
		`C:\srv\herbarium\ferns`:  "warn",
		`C:\srv\herbarium2`:       "",
		`C:\srv\scans`:            "warn", // holds another
		`C:\`:                     "warn warn",
		`C:\srv`:                  "warn warn warn",
		`C:\srv\scans\2026\april`: "warn",
	} {
		if got := said(pathAdvice(path, existing)); got != want {
			t.Errorf("%s: %q, want %q", path, got, want)
		}
	}
}

func TestPlace(t *testing.T) {
	j := &job{server: model.Server{Name: "fern"}, shares: existing}
	for text, want := range map[string]string{
		`C:\srv\seeds`:       `C:\srv\seeds`,
		`C:/srv/seeds/`:      `C:\srv\seeds`,
		`/srv/seeds`:         `C:\srv\seeds`,
		`herbarium:ferns/a`:  `C:\srv\herbarium\ferns\a`,
		`HERBARIUM:`:         `C:\srv\herbarium`,
		`volume$:\new\one\`:  `C:\srv\new\one`,
		"":                   "path",
		"seeds":              "path",
		`nothing:ferns`:      "path",
		`IPC$:ferns`:         "path",
		`herbarium:../seeds`: "path",
		`C:\srv\..\etc`:      "path",
		`herbarium:a//b`:     "path",
	} {
		got, err := j.place(text)
		var e *fault.Error
		if errors.As(err, &e) {
			if got = e.Field; e.Remedy == "" {
				t.Errorf("%q: %v, without a remedy", text, err)
			}
		}
		if got != want {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
	}
}

func TestCovering(t *testing.T) {
	j := &job{shares: existing}
	for path, want := range map[string]string{
		`C:\srv\herbarium\a\b`: "Herbarium a/b",
		`C:\srv\seeds`:         "volume$ seeds",
		`C:\srv`:               "volume$ ",
		`D:\other`:             " ",
	} {
		if share, rest := j.covering(path); share+" "+rest != want {
			t.Errorf("%s: %q in %q, want %q", path, rest, share, want)
		}
	}
}

func TestReadOnly(t *testing.T) {
	full := []acl.Entry{{Type: acl.Deny, Mask: acl.AllAccess, Account: account.Guests}, {Type: acl.Allow, Mask: acl.Full.Mask(), Account: account.Everyone}, {Type: acl.Allow, Mask: acl.WriteData, Account: account.Users}}
	capped := readOnly(full)
	if len(capped) != 2 || capped[0] != full[0] || capped[1].Mask.Level() != acl.Read {
		t.Errorf("%+v", capped)
	}
	if full[1].Mask != acl.Full.Mask() {
		t.Error("what it was made of was changed")
	}
}

// Whatever step fails, and however, those before it are taken back, last first,
// and the answer says so; when that fails too, it says what is left.
// Why a change failed is said as a fault, with what was done and what was not.
func TestTakenBack(t *testing.T) {
	for _, c := range []struct {
		cause error
		kind  fault.Kind
		field string
	}{
		{fs.ErrExist, fault.Taken, "name"},
		{fs.ErrPermission, fault.Forbidden, ""},
		{fs.ErrNotExist, fault.Invalid, "path"},
		{tree.ErrUnreachable, fault.Unavailable, ""},
	} {
		for failing := range 3 {
			for _, stuck := range []int{-1, 0} {
				j := &job{server: model.Server{Name: "fern", Account: "warden"}}
				list := &steps.List{}
				for i := range 3 {
					list.Steps = append(list.Steps, steps.Step{Text: fmt.Sprint("step ", i),
						Do: func(context.Context) (string, error) {
							if i == failing {
								return "", fmt.Errorf("the server: %w", c.cause)
							}
							return "", nil
						},
						Undo: func(context.Context) error {
							if i == stuck {
								return errors.New("it is stuck")
							}
							return nil
						}})
				}
				err := j.takenBack(list, list.Run(t.Context()))
				var e *fault.Error
				if !errors.As(err, &e) || e.Kind != c.kind || e.Field != c.field || e.Remedy == "" {
					t.Errorf("%v at step %d: %+v", c.cause, failing, err)
					continue
				}
				want := "what was done before is taken back"
				if failing == 0 {
					want = "nothing was changed"
				} else if stuck == 0 {
					want = "done and not taken back: step 0 (it is stuck)"
				}
				if !strings.Contains(e.Problem, want) || j.plan.Unfinished != (stuck == 0 && failing > 0) {
					t.Errorf("%v at step %d, stuck %d: %s, unfinished: %v; want %q", c.cause, failing, stuck, e.Problem, j.plan.Unfinished, want)
				}
			}
		}
	}
}
