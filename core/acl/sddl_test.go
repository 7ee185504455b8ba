package acl

import (
	"encoding/binary"
	"errors"
	"strings"
	"testing"

	"bridgespan/core/account"
)

func TestSyntaxErrorsSayWhere(t *testing.T) {
	for text, want := range map[string]struct {
		offset  int
		problem string
	}{
		"":                         {0, "empty"},
		"X:BA":                     {0, "expected O:"},
		"O:BAO:BA":                 {4, "twice"},
		"O:QQ":                     {2, "not an account"},
		"O:S-1-5-99999999999":      {2, "not a part"},
		"O:BAG:DA":                 {6, "domain"},
		"D:(A;;FA;;;BA":            {13, "closing parenthesis"},
		"D:(Z;;FA;;;BA)":           {3, "type of entry"},
		"D:(A;XX;FA;;;BA)":         {5, "not a flag"},
		"D:(A;OI;FAQQ;;;BA)":       {10, "not a right"},
		"D:(A;;0x123456789;;;BA)":  {6, "32 bits"},
		"D:(A;;FA;;BA)":            {10, "only object entries"},
		"D:(A;;FA;1234;;BA)":       {9, "only object entries"},
		"D:(OA;;FA;1234;;BA)":      {10, "GUID"},
		"D:(A;;FA;;;BA)(A;;FA;;;)": {23, "an account is missing"},
		"D:Q(A;;FA;;;BA)":          {2, "entry in parentheses"},
	} {
		_, err := Parse(text)
		var syntax *SyntaxError
		if !errors.As(err, &syntax) || !errors.Is(err, ErrMalformed) {
			t.Errorf("%q: %v, want a syntax error", text, err)
			continue
		}
		if syntax.Offset != want.offset || !strings.Contains(syntax.Error(), want.problem) {
			t.Errorf("%q: %v (offset %d), want %q at %d", text, err, syntax.Offset, want.problem, want.offset)
		}
	}
}

func TestTextRoundTrip(t *testing.T) {
	for _, text := range []string{
		"O:BAG:BAD:PARAI(A;OICI;FA;;;BA)S:AI(AU;OICISAFA;FW;;;WD)",
		"D:NO_ACCESS_CONTROL", "O:BAD:", "D:P", "G:SY",
		"D:(OA;CI;GR;bf967aba-0de6-11d0-a285-00aa003049e2;;S-1-5-21-1-2-3-4)(OD;;GW;;bf967aba-0de6-11d0-a285-00aa003049e2;WD)",
		"S:(ML;;0x1;;;LW)", "O:S-1-0x123456789abc-1D:(A;;0x0;;;AN)",
	} {
		d, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if d.String() != text {
			t.Errorf("%s became %s", text, d)
		}
	}
	d, err := ParsePartsIn(account.MustSID("S-1-5-21-1-2-3"), " O:DA G:DU D: (A;;FRFW;;;DU) (A;;RPWP;;;ba)")
	if err != nil {
		t.Fatal(err)
	}
	if text, _ := d.text(); text != "O:S-1-5-21-1-2-3-512G:S-1-5-21-1-2-3-513D:(A;;0x12019f;;;S-1-5-21-1-2-3-513)(A;;0x30;;;BA)" {
		t.Errorf("codes of a domain: %s", text)
	}
}

// Descriptors that the text form cannot hold keep every byte.
func TestOpaque(t *testing.T) {
	plain, err := Parse("O:BAD:(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*Parts){
		"a condition":          func(p *Parts) { p.DACL.Entries[0].Type, p.DACL.Entries[0].Data = 9, "artx\x01\x02\x03\x04" },
		"an unknown entry":     func(p *Parts) { p.DACL.Entries[0] = Entry{Type: 0x40, Flags: 3, Data: "abcd"} },
		"a defaulted list":     func(p *Parts) { p.Control |= DACLDefaulted },
		"an unusual revision":  func(p *Parts) { p.DACL.Revision = 4 },
		"a manager's own byte": func(p *Parts) { p.ResourceManager = 7 },
	} {
		p := plain.Parts()
		change(&p)
		d, err := p.Descriptor()
		if err != nil {
			t.Fatal(err)
		}
		back, err := Parse(d.String())
		if err != nil || back != d || !strings.HasPrefix(d.String(), opaquePrefix) {
			t.Errorf("%s: %s comes back as %s, %v", what, d, back, err)
		}
		if again, err := FromBinary(d.Binary()); err != nil || again != d {
			t.Errorf("%s: the binary form comes back as %s, %v", what, again, err)
		}
	}
}

func TestTooLarge(t *testing.T) {
	p := Parts{Owner: account.System}
	for i := range 4000 {
		p = p.WithEntries(append(p.Entries(), Entry{Mask: ReadAccess, Account: account.MakeSID(5, 21, 1, 2, 3, uint32(i))}))
	}
	if _, err := p.Descriptor(); !errors.Is(err, ErrTooLarge) || !strings.Contains(err.Error(), "4000") {
		t.Errorf("4000 entries: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"O:BAG:BAD:PAI(A;OICI;FA;;;BA)S:(AU;SA;FW;;;WD)", "D:(OA;;GR;bf967aba-0de6-11d0-a285-00aa003049e2;;AU)", "O:S-1-5-21-1D:NO_ACCESS_CONTROL", "hex:0100"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse(text)
		if err != nil {
			return
		}
		if again, err := Parse(d.String()); err != nil || again != d {
			t.Fatalf("%q is written %q, which reads %q, %v", text, d, again, err)
		}
		d.Parts().Sentence(OnFolder, "", account.SID.String)
		d.Parts().Oddities(false)
	})
}

// A list that says more entries than it has bytes must not make us allocate for them.
func TestBoundedAllocation(t *testing.T) {
	b := make([]byte, 28)
	b[0] = 1
	binary.LittleEndian.PutUint16(b[2:], uint16(DACLPresent|selfRelative))
	binary.LittleEndian.PutUint32(b[16:], 20)
	b[20] = 2
	binary.LittleEndian.PutUint16(b[22:], 8)
	binary.LittleEndian.PutUint16(b[24:], 0xFFFF)
	if _, err := FromBinary(b); !errors.Is(err, ErrMalformed) {
		t.Errorf("65535 entries in no bytes: %v", err)
	}
}
