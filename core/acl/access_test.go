package acl_test

import (
	"fmt"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
)

var (
	domain   = account.MustSID("S-1-5-21-1-2-3")
	ivy      = domain.Child(1101)
	fieldies = domain.Child(1102)
	all      = domain.Child(1103)
)

func parts(t testing.TB, text string) acl.Parts {
	t.Helper()
	p, err := acl.ParseParts(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func token() *account.Token {
	t := account.NewToken(ivy, 0)
	t.Add(fieldies, ivy)
	t.Add(all, fieldies)
	return t
}

func ExampleParts_Sentence() {
	p, _ := acl.ParseParts("O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;0x1301bf;;;S-1-5-21-1-2-3-1102)(A;OICI;0x1200a9;;;AU)")
	name := func(s account.SID) string {
		if s == fieldies {
			return "field-team"
		}
		known, _ := account.WellKnown(s)
		return known
	}
	fmt.Println(p.Sentence(acl.OnFolder, "", name))
	child := acl.New(p, false, ivy, all)
	fmt.Println(child.Sentence(acl.OnFile, "/herbarium", name))
	// Output:
	// Administrators may do everything to this folder and everything below; field-team may change this folder and everything below; Authenticated Users may read this folder and everything below; nothing is inherited from above.
	// Administrators may do everything to this file; field-team may change this file; Authenticated Users may read this file; three entries come from /herbarium.
}

func TestEffective(t *testing.T) {
	const full = acl.AllAccess
	for _, c := range []struct {
		name, file, parent, share string
		want                      acl.Mask
	}{
		{"nothing granted but what servers always show", "O:BAD:", "", "", acl.ReadAttr},
		{"no list grants everything", "O:BAD:NO_ACCESS_CONTROL", "", "", full},
		{"a nested group counts", "O:BAD:(A;;FR;;;S-1-5-21-1-2-3-1103)", "", "", acl.ReadAccess},
		{"the first entry decides: deny", "O:BAD:(D;;FR;;;S-1-5-21-1-2-3-1102)(A;;FA;;;S-1-5-21-1-2-3-1101)", "", "", full&^acl.ReadAccess | acl.ReadAttr},
		{"the first entry decides: allow", "O:BAD:(A;;FA;;;S-1-5-21-1-2-3-1101)(D;;FR;;;S-1-5-21-1-2-3-1102)", "", "", full},
		{"entries that are only handed on do not count", "O:BAD:(A;OICIIO;FA;;;WD)", "", "", acl.ReadAttr},
		{"generic rights count as those of files", "O:BAD:(A;;GR;;;WD)", "", "", acl.ReadAccess},
		{"owners may read and change permissions", "O:S-1-5-21-1-2-3-1101D:", "", "", acl.ReadAttr | acl.ReadControl | acl.WriteControl},
		{"unless an entry limits owners", "O:S-1-5-21-1-2-3-1101D:(A;;RC;;;OW)", "", "", acl.ReadAttr | acl.ReadControl},
		{"the folder above lets remove", "O:BAD:(A;;FR;;;WD)", "O:BAD:(A;;DC;;;BA)(A;;0x40;;;WD)", "", acl.ReadAccess | acl.Delete},
		{"the share holds back", "O:BAD:(A;;FA;;;WD)", "", "D:(A;;FR;;;WD)", acl.ReadAccess},
		{"the share grants nothing by itself", "O:BAD:(A;;FR;;;WD)", "", "D:(A;;FA;;;WD)", acl.ReadAccess},
		{"object entries are not heeded", "O:BAD:(OA;;FA;;;WD)", "", "", acl.ReadAttr},
	} {
		o := acl.Object{Permissions: parts(t, c.file)}
		if c.parent != "" {
			p := parts(t, c.parent)
			o.Parent = &p
		}
		if c.share != "" {
			p := parts(t, c.share)
			o.Share = &p
		}
		if got := o.Effective(token()); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got.Words(false), c.want.Words(false))
		}
		checkExplained(t, c.name, o, token())
	}
}

// checkExplained tests that the reasons add up to the decision.
func checkExplained(t *testing.T, name string, o acl.Object, token *account.Token) {
	t.Helper()
	d := o.Explain(token)
	if d.Granted != o.Effective(token) {
		t.Errorf("%s: explained %v, decided %v", name, d.Granted, o.Effective(token))
	}
	var granted, seen, held acl.Mask
	for _, r := range d.Reasons {
		if r.Source == acl.ByShare {
			if !r.Granted {
				held |= r.Mask
			}
			continue
		}
		if seen&r.Mask != 0 {
			t.Errorf("%s: %v decided twice", name, (seen & r.Mask).Words(false))
		}
		seen |= r.Mask
		if r.Granted {
			granted |= r.Mask
		}
	}
	if seen != acl.AllAccess || granted != d.File || granted&^held != d.Granted {
		t.Errorf("%s: the reasons say %v of %v, held back %v; the decision is %v", name, granted, seen, held, d.Granted)
	}
}

func TestLevel(t *testing.T) {
	for mask, want := range map[acl.Mask]acl.Level{
		0: acl.None, acl.Synchronize: acl.None, acl.ReadAttr: acl.None, 0x1f01ff: acl.Full, 0x1f01bf: acl.Full, 0x1301bf: acl.Change, 0x1301ff: acl.Change,
		0x1201bf: acl.Write, 0x12019f: acl.Write, 0x1200a9: acl.Read, 0x120089: acl.Read, 0x1000a1: acl.ListIt,
		acl.GenericAll: acl.Full, acl.GenericRead: acl.Read, 0x1301bf | acl.WriteControl: acl.Unusual, acl.Delete: acl.Unusual, 0x120116: acl.Unusual,
	} {
		if got := mask.Level(); got != want {
			t.Errorf("0x%x is %s, want %s", uint32(mask), got, want)
		}
	}
	for _, l := range acl.Levels {
		if got := l.Mask().Level(); got != l {
			t.Errorf("the rights of %s are called %s", l, got)
		}
		if !l.Mask().AtLeast(l) || !acl.AllAccess.AtLeast(l) {
			t.Errorf("%s does not hold itself, or full does not hold it", l)
		}
	}
}

func TestInheritance(t *testing.T) {
	for _, c := range []struct{ name, parent, folder, file string }{
		{"handed down to all", "D:(A;OICI;FA;;;BA)", "(A;OICIID;FA;;;BA)", "(A;ID;FA;;;BA)"},
		{"to files alone", "D:(A;OI;FR;;;WD)", "(A;OIIOID;FR;;;WD)", "(A;ID;FR;;;WD)"},
		{"to folders alone", "D:(A;CI;FR;;;WD)", "(A;CIID;FR;;;WD)", ""},
		{"not handed on", "D:(A;OICINP;FR;;;WD)", "(A;ID;FR;;;WD)", "(A;ID;FR;;;WD)"},
		{"files alone and not handed on", "D:(A;OINP;FR;;;WD)", "", "(A;ID;FR;;;WD)"},
		{"only handed on", "D:(A;OICIIO;FR;;;WD)", "(A;OICIID;FR;;;WD)", "(A;ID;FR;;;WD)"},
		{"not handed down", "D:(A;;FA;;;BA)", "", ""},
		{"creator owner", "D:(A;OICIIO;FA;;;CO)", "(A;ID;FA;;;S-1-5-21-1-2-3-1101)(A;OICIIOID;FA;;;CO)", "(A;ID;FA;;;S-1-5-21-1-2-3-1101)"},
		{"creator group, not handed on", "D:(A;OICINP;FA;;;CG)", "(A;ID;FA;;;S-1-5-21-1-2-3-1103)", "(A;ID;FA;;;S-1-5-21-1-2-3-1103)"},
		{"generic rights", "D:(A;OICI;GR;;;WD)", "(A;ID;FR;;;WD)(A;OICIIOID;GR;;;WD)", "(A;ID;FR;;;WD)"},
		{"denials", "D:(D;OICI;FW;;;WD)", "(D;OICIID;FW;;;WD)", "(D;ID;FW;;;WD)"},
	} {
		for want, folder := range map[string]bool{"D:AI" + c.folder: true, "D:AI" + c.file: false} {
			if c.folder == c.file {
				folder = true
			}
			got, err := acl.New(parts(t, c.parent), folder, ivy, all).Descriptor()
			if err != nil {
				t.Fatal(err)
			}
			if text := got.String(); text != "O:"+ivy.String()+"G:"+all.String()+want {
				t.Errorf("%s: folder %v inherits %s, want %s", c.name, folder, text, want)
			}
		}
	}
}

func TestChanges(t *testing.T) {
	parent := parts(t, "O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;WD)")
	child := parts(t, "O:BAD:AI(D;;FW;;;BU)(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check := func(what string, got acl.Parts, want string) {
		t.Helper()
		d, err := got.Descriptor()
		if err != nil || d.String() != want {
			t.Errorf("%s: %s, %v; want %s", what, d, err, want)
		}
	}
	check("grant", child.Grant(acl.Allow, ivy, acl.Change.Mask(), acl.Everything.Flags()), "O:BAD:AI(D;;FW;;;BU)(A;OICI;0x1301bf;;;"+ivy.String()+")(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check("grant twice", child.Grant(acl.Allow, ivy, acl.Read.Mask(), 0).Grant(acl.Allow, ivy, acl.Change.Mask(), 0), "O:BAD:AI(D;;FW;;;BU)(A;;0x1301bf;;;"+ivy.String()+")(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check("deny goes first", child.Grant(acl.Allow, ivy, acl.Read.Mask(), 0).Grant(acl.Deny, all, acl.Delete, 0), "O:BAD:AI(D;;FW;;;BU)(D;;0x10000;;;"+all.String()+")(A;;0x1200a9;;;"+ivy.String()+")(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check("revoke leaves what is inherited", child.Revoke(account.Users).Revoke(account.Everyone), "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check("protect and keep", child.Protect(true), "O:BAD:P(D;;FW;;;BU)(A;OICI;FA;;;BA)(A;OICI;FR;;;WD)")
	check("protect and drop", child.Protect(false), "O:BAD:P(D;;FW;;;BU)")
	check("inherit again", child.Protect(true).Inherit(parent, true), "O:BAD:AI(D;;FW;;;BU)(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check("replace below", child.ReplacedBelow(parent, true), "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
	check("below", child.Below(parts(t, "D:(A;CI;FR;;;BG)"), true), "O:BAD:AI(D;;FW;;;BU)(A;CIID;FR;;;BG)")
	check("below, protected", child.Protect(false).Below(parent, true), "O:BAD:P(D;;FW;;;BU)")
	check("what all of it began with", child, "O:BAD:AI(D;;FW;;;BU)(A;OICIID;FA;;;BA)(A;OICIID;FR;;;WD)")
}

func TestOrder(t *testing.T) {
	for text, want := range map[string]int{
		"D:(D;;FW;;;BU)(A;;FR;;;WD)(D;ID;FW;;;BU)(A;ID;FR;;;WD)(D;ID;FW;;;BG)": -1,
		"D:(A;;FR;;;WD)(D;;FW;;;BU)":     1,
		"D:(A;ID;FR;;;WD)(A;;FW;;;BU)":   1,
		"D:(A;;FR;;;WD)(OA;;FW;;;BU)":    -1,
		"D:NO_ACCESS_CONTROL":            -1,
		"D:(A;;FR;;;WD)(A;ID;FR;;;BA)":   -1,
		"D:(D;ID;FR;;;WD)(D;;FR;;;BA)S:": 1,
	} {
		p := parts(t, text)
		if got := p.OutOfOrder(); got != want {
			t.Errorf("%s: %d, want %d", text, got, want)
		}
		if p.DACL != nil && p.WithEntries(acl.Ordered(p.Entries())).OutOfOrder() != -1 {
			t.Errorf("%s is out of order after it was ordered", text)
		}
	}
}

func TestJudge(t *testing.T) {
	d := func(text string) acl.Descriptor {
		d, err := acl.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	var j acl.Judge
	for range 2 { // the second time from memory
		for text, want := range map[string]string{
			"D:(A;;FR;;;BU)":       "",
			"D:AI(A;;FR;;;BU)":     "",
			"D:(A;;0x1301bf;;;BU)": " S-1-5-32-545 read→change",
			"D:":                   " S-1-5-32-545 read→none",
		} {
			got := ""
			for _, s := range j.Shifts(d("D:(A;;FR;;;BU)"), d(text)) {
				got += fmt.Sprintf(" %s %s→%s", s.Account, s.Before, s.After)
			}
			if got != want {
				t.Errorf("%s: %q, want %q", text, got, want)
			}
		}
	}
	if s := j.Shifts(acl.Descriptor{}, d("D:(A;;FR;;;BU)")); s != nil {
		t.Errorf("somebody gains where nothing was: %v", s)
	}
}

func TestOddities(t *testing.T) {
	for text, want := range map[string]string{
		"O:BAD:NO_ACCESS_CONTROL":              "[no-list]",
		"D:(A;;FA;;;BA)":                       "[owner-missing]",
		"O:BAD:P(A;;FA;;;BA)":                  "[inheritance-cut]",
		"O:BAD:(A;;0x1301bf;;;AU)":             "[everyone-changes]",
		"O:BAD:(A;;FR;;;BU)(D;;FW;;;BG)":       "[out-of-order]",
		"O:BAD:(D;;FW;;;AU)(A;;0x1301bf;;;AU)": "[]",
		"O:BAD:(OA;;FR;;;BU)":                  "[unjudged]",
	} {
		kinds := []acl.OddityKind{}
		for _, f := range parts(t, text).Oddities(false) {
			kinds = append(kinds, f.Kind)
			if told := f.Kind.Finding("ada"); told.Found == "" || told.Meaning == "" || told.Remedy == "" {
				t.Errorf("%s is told as %+v", f.Kind, told)
			}
		}
		if fmt.Sprint(kinds) != want {
			t.Errorf("%s: %v, want %s", text, kinds, want)
		}
	}
	top := parts(t, "O:BAD:(A;;FA;;;BA)(A;;0x1301bf;;;BU)")
	if f := acl.ShareOddities(parts(t, "D:(A;;FR;;;WD)"), top); len(f) != 2 || f[0].Kind != acl.ShareNarrower {
		t.Errorf("a narrow share: %v", f)
	}
	if f := acl.ShareOddities(parts(t, "D:(A;;FA;;;WD)(A;;FA;;;BG)"), top); len(f) != 1 || f[0].Kind != acl.ShareWider || f[0].Account != account.Guests {
		t.Errorf("a wide share: %v", f)
	}
}

func BenchmarkEffective(b *testing.B) {
	o := acl.Object{Permissions: parts(b, "O:BAD:AI(D;;FW;;;BG)(A;OICIID;FA;;;BA)(A;OICIID;FA;;;SY)(A;ID;0x1301bf;;;S-1-5-21-1-2-3-1150)(A;ID;0x1301bf;;;S-1-5-21-1-2-3-1103)(A;ID;0x1200a9;;;AU)")}
	share, parent := parts(b, "D:(A;;FA;;;WD)"), o.Permissions
	o.Share, o.Parent = &share, &parent
	t := token()
	for i := range 30 {
		t.Add(domain.Child(uint32(3000+i)), ivy)
	}
	b.ReportAllocs()
	for b.Loop() {
		if o.Effective(t)&acl.ReadData == 0 {
			b.Fatal("refused")
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "decisions/s")
}
