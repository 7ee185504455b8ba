package acl

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"strconv"
	"strings"

	"bridgespan/core/account"
)

// SyntaxError says where text is not SDDL.
type SyntaxError struct {
	Text    string
	Offset  int // in bytes, from 0
	Problem string
}

func (e *SyntaxError) Error() string {
	near := e.Text[min(e.Offset, len(e.Text)):]
	if len(near) > 24 {
		near = strings.ToValidUTF8(near[:24], "") + "…"
	}
	if near == "" {
		return fmt.Sprintf("%s at its end: %s", ErrMalformed, e.Problem)
	}
	return fmt.Sprintf("%s at character %d, near %q: %s", ErrMalformed, len([]rune(e.Text[:e.Offset]))+1, near, e.Problem)
}

func (e *SyntaxError) Unwrap() error { return ErrMalformed }

// sidCodes are the two-letter names of accounts ([MS-DTYP] 2.5.1.1).
var sidCodes = map[string]account.SID{
	"WD": account.Everyone, "CO": account.CreatorOwner, "CG": account.CreatorGroup, "OW": account.OwnerRights,
	"NU": account.Network, "IU": account.Interactive, "SU": account.MustSID("S-1-5-6"), "AN": account.Anonymous, "ED": account.MustSID("S-1-5-9"),
	"PS": account.MustSID("S-1-5-10"), "AU": account.AuthenticatedUsers, "RC": account.MustSID("S-1-5-12"),
	"SY": account.System, "LS": account.MustSID("S-1-5-19"), "NS": account.MustSID("S-1-5-20"),
	"BA": account.Administrators, "BU": account.Users, "BG": account.Guests, "PU": account.MustSID("S-1-5-32-547"),
	"AO": account.MustSID("S-1-5-32-548"), "SO": account.MustSID("S-1-5-32-549"), "PO": account.MustSID("S-1-5-32-550"),
	"BO": account.BackupOperators, "RE": account.MustSID("S-1-5-32-552"), "RU": account.MustSID("S-1-5-32-554"), "RD": account.MustSID("S-1-5-32-555"), "NO": account.MustSID("S-1-5-32-556"),
	"LW": account.MustSID("S-1-16-4096"), "ME": account.MustSID("S-1-16-8192"), "HI": account.MustSID("S-1-16-12288"), "SI": account.MustSID("S-1-16-16384"),
}

// relativeCodes name accounts that every domain has; they need a domain to mean one.
var relativeCodes = map[string]uint32{
	"LA": 500, "LG": 501, "DA": 512, "DU": 513, "DG": 514, "DC": 515, "DD": 516, "CA": 517, "SA": 518, "EA": 519, "PA": 520, "RO": 498,
}

var codeOfSID = func() map[account.SID]string {
	codes := map[account.SID]string{}
	for code, s := range sidCodes {
		codes[s] = code
	}
	return codes
}()

// rightCodes are the two-letter names of rights ([MS-DTYP] 2.5.1.1), the ones
// for files and the general ones.
var rightCodes = map[string]Mask{
	"GA": GenericAll, "GR": GenericRead, "GW": GenericWrite, "GX": GenericExec,
	"RC": ReadControl, "SD": Delete, "WD": WriteControl, "WO": TakeOwnership,
	"CC": 0x1, "DC": 0x2, "LC": 0x4, "SW": 0x8, "RP": 0x10, "WP": 0x20, "DT": 0x40, "LO": 0x80, "CR": 0x100,
	"FA": AllAccess, "FR": ReadAccess, "FW": WriteAccess, "FX": ExecuteAccess,
	"KA": 0xF003F, "KR": 0x20019, "KW": 0x20006, "KX": 0x20019, "NR": 0x2, "NW": 0x1, "NX": 0x4,
}

var typeCodes = []struct {
	code string
	kind EntryType
}{{"A", Allow}, {"D", Deny}, {"OA", AllowObject}, {"OD", DenyObject}, {"AU", Audit}, {"AL", Alarm}, {"OU", AuditObject}, {"OL", AlarmObject}, {"ML", Label}}

var flagCodes = []struct {
	code string
	flag Flags
}{{"OI", ObjectInherit}, {"CI", ContainerInherit}, {"NP", NoPropagate}, {"IO", InheritOnly}, {"ID", Inherited}, {"SA", AuditSuccess}, {"FA", AuditFailure}}

// sddlReader reads SDDL from left to right.
type sddlReader struct {
	text   string
	at     int
	domain account.SID
}

// ParseParts reads the text form ([MS-DTYP] 2.5.1).
func ParseParts(text string) (Parts, error) { return ParsePartsIn(account.SID{}, text) }

// ParsePartsIn reads the text form, in which codes such as DU stand for
// accounts of the domain given.
func ParsePartsIn(domain account.SID, text string) (p Parts, err error) {
	r := &sddlReader{text: text, domain: domain}
	seen := map[byte]bool{}
	for r.space(); r.at < len(r.text); r.space() {
		letter := r.text[r.at]
		if r.at+1 >= len(r.text) || r.text[r.at+1] != ':' || !strings.ContainsRune("OGDS", rune(letter)) {
			return p, r.fail("expected O:, G:, D: or S:")
		}
		if seen[letter] {
			return p, r.fail("%c: stands there twice", letter)
		}
		seen[letter] = true
		r.at += 2
		switch letter {
		case 'O':
			p.Owner, err = r.sid()
		case 'G':
			p.Group, err = r.sid()
		case 'D':
			p.DACL, err = r.list(&p.Control, 0)
			p.Control |= DACLPresent
		case 'S':
			p.SACL, err = r.list(&p.Control, 1)
			p.Control |= SACLPresent
		}
		if err != nil {
			return Parts{}, err
		}
	}
	if len(seen) == 0 {
		return p, r.fail("it is empty")
	}
	return p, nil
}

func (r *sddlReader) fail(format string, args ...any) error {
	return &SyntaxError{Text: r.text, Offset: r.at, Problem: fmt.Sprintf(format, args...)}
}

func (r *sddlReader) space() {
	for r.at < len(r.text) && strings.IndexByte(" \t\r\n", r.text[r.at]) >= 0 {
		r.at++
	}
}

func (r *sddlReader) rest() string { return r.text[r.at:] }

func (r *sddlReader) accept(prefix string) bool {
	if strings.HasPrefix(r.rest(), prefix) {
		r.at += len(prefix)
		return true
	}
	return false
}

func (r *sddlReader) sid() (account.SID, error) {
	if strings.HasPrefix(r.rest(), "S-") || strings.HasPrefix(r.rest(), "s-") {
		end := r.at
		for end < len(r.text) && strings.IndexByte("Ss-0123456789xXabcdefABCDEF", r.text[end]) >= 0 {
			end++
		}
		// The letter of the next part may look like a digit of the last number.
		if end < len(r.text) && r.text[end] == ':' {
			end--
		}
		s, err := account.ParseSID(r.text[r.at:end])
		if err != nil {
			return s, r.fail("%v", err)
		}
		r.at = end
		return s, nil
	}
	if len(r.rest()) < 2 {
		return account.SID{}, r.fail("an account is missing")
	}
	code := strings.ToUpper(r.rest()[:2])
	s, ok := sidCodes[code]
	if relative, isRelative := relativeCodes[code]; isRelative {
		if r.domain.IsZero() {
			return s, r.fail("%s means an account of a domain, and none is known here; write its SID", code)
		}
		s, ok = r.domain.Child(relative), true
	}
	if !ok {
		return s, r.fail("%q is not an account", code)
	}
	r.at += 2
	return s, nil
}

// nullList is what stands for "no list: everybody may do everything".
const nullList = "NO_ACCESS_CONTROL"

// list reads flags and entries; shift is 0 for the list of rights and 1 for the audit list.
func (r *sddlReader) list(control *Control, shift int) (*List, error) {
	for {
		switch {
		case r.accept(nullList):
			return nil, nil
		case r.accept("P"):
			*control |= DACLProtected << shift
		case r.accept("AI"):
			*control |= DACLAutoInherited << shift
		case r.accept("AR"):
			*control |= DACLAutoInheritRequired << shift
		default:
			return r.entries()
		}
	}
}

func (r *sddlReader) entries() (*List, error) {
	l := &List{Revision: 2}
	for r.space(); r.accept("("); r.space() {
		e, err := r.entry()
		if err != nil {
			return nil, err
		}
		if e.Type.hasObject() {
			l.Revision = 4
		}
		l.Entries = append(l.Entries, e)
	}
	if r.at < len(r.text) && !strings.HasPrefix(r.rest(), "O:") && !strings.HasPrefix(r.rest(), "G:") && !strings.HasPrefix(r.rest(), "D:") && !strings.HasPrefix(r.rest(), "S:") {
		return nil, r.fail("expected an entry in parentheses")
	}
	return l, nil
}

// entry reads type;flags;rights;object;inherited object;account and the closing parenthesis.
func (r *sddlReader) entry() (e Entry, err error) {
	kind := r.field()
	found := false
	for _, t := range typeCodes {
		if strings.EqualFold(t.code, kind) {
			e.Type, found = t.kind, true
		}
	}
	if !found {
		return e, r.fail("%q is not a type of entry", kind)
	}
	if err = r.step(kind); err != nil {
		return e, err
	}
	flags := r.field()
	if e.Flags, err = r.flags(flags); err != nil {
		return e, err
	}
	if err = r.step(flags); err != nil {
		return e, err
	}
	rights := r.field()
	if e.Mask, err = r.mask(rights); err != nil {
		return e, err
	}
	if err = r.step(rights); err != nil {
		return e, err
	}
	if e.Object, err = r.object(e.Type); err != nil {
		return e, err
	}
	if e.Account, err = r.sid(); err != nil {
		return e, err
	}
	if !r.accept(")") {
		return e, r.fail("expected the closing parenthesis of an entry")
	}
	return e, nil
}

// field looks at what stands before the next semicolon or parenthesis.
func (r *sddlReader) field() string {
	rest := r.rest()
	if end := strings.IndexAny(rest, ";()"); end >= 0 {
		rest = rest[:end]
	}
	return rest
}

// step goes past a field and its semicolon.
func (r *sddlReader) step(field string) error {
	r.at += len(field)
	if !r.accept(";") {
		return r.fail("expected a semicolon: an entry has six fields")
	}
	return nil
}

func (r *sddlReader) flags(text string) (flags Flags, err error) {
	for i := 0; i < len(text); i += 2 {
		found := false
		for _, f := range flagCodes {
			if i+2 <= len(text) && strings.EqualFold(f.code, text[i:i+2]) {
				flags, found = flags|f.flag, true
			}
		}
		if !found {
			r.at += i
			return 0, r.fail("not a flag of an entry")
		}
	}
	return flags, nil
}

func (r *sddlReader) mask(text string) (mask Mask, err error) {
	if text != "" && text[0] >= '0' && text[0] <= '9' {
		n, err := strconv.ParseUint(text, 0, 32)
		if err != nil {
			return 0, r.fail("not a set of rights of 32 bits")
		}
		return Mask(n), nil
	}
	for i := 0; i < len(text); i += 2 {
		m, ok := rightCodes[strings.ToUpper(text[i:min(i+2, len(text))])]
		if !ok {
			r.at += i
			return 0, r.fail("not a right")
		}
		mask |= m
	}
	return mask, nil
}

// object reads the two fields that name kinds of objects.
func (r *sddlReader) object(kind EntryType) (string, error) {
	var flags uint32
	var names []byte
	for i := range 2 {
		text := r.field()
		if text != "" {
			if !kind.hasObject() {
				return "", r.fail("only object entries name kinds of objects")
			}
			guid, ok := parseGUID(text)
			if !ok {
				return "", r.fail("not a GUID")
			}
			flags |= 1 << i
			names = append(names, guid...)
		}
		if err := r.step(text); err != nil {
			return "", err
		}
	}
	if !kind.hasObject() {
		return "", nil
	}
	return string(binary.LittleEndian.AppendUint32(nil, flags)) + string(names), nil
}

// A GUID on the wire has its first three numbers in little-endian order (RFC 9562, 4; [MS-DTYP] 2.3.4.2).
var guidOrder = [16]int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15}

func parseGUID(text string) ([]byte, bool) {
	if len(text) != 36 || text[8] != '-' || text[13] != '-' || text[18] != '-' || text[23] != '-' {
		return nil, false
	}
	digits := strings.ReplaceAll(text, "-", "")
	guid := make([]byte, 16)
	if len(digits) != 32 {
		return nil, false
	}
	for i, to := range guidOrder {
		n, err := strconv.ParseUint(digits[2*i:2*i+2], 16, 8)
		if err != nil {
			return nil, false
		}
		guid[to] = byte(n)
	}
	return guid, true
}

func formatGUID(guid string) string {
	var b [16]byte
	for i, from := range guidOrder {
		b[i] = guid[from]
	}
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:16])
}

// written are the control flags that SDDL can hold.
const written = DACLPresent | SACLPresent | DACLProtected | SACLProtected | DACLAutoInherited | SACLAutoInherited | DACLAutoInheritRequired | SACLAutoInheritRequired

// text writes p as SDDL, and reports false when SDDL cannot hold it.
func (p Parts) text() (string, bool) {
	var b strings.Builder
	if p.ResourceManager != 0 || p.Control&^written != 0 || p.Owner.IsZero() && p.Group.IsZero() && p.Control == 0 {
		return "", false
	}
	if !p.Owner.IsZero() {
		b.WriteString("O:" + sidText(p.Owner))
	}
	if !p.Group.IsZero() {
		b.WriteString("G:" + sidText(p.Group))
	}
	ok := p.Control&DACLPresent == 0 || listText(&b, 'D', p.DACL, p.Control)
	ok = ok && (p.Control&SACLPresent == 0 || listText(&b, 'S', p.SACL, p.Control>>1))
	return b.String(), ok
}

func sidText(s account.SID) string {
	if code, ok := codeOfSID[s]; ok {
		return code
	}
	return s.String()
}

func listText(b *strings.Builder, letter byte, l *List, control Control) bool {
	b.WriteByte(letter)
	b.WriteByte(':')
	if control&DACLProtected != 0 {
		b.WriteString("P")
	}
	if control&DACLAutoInheritRequired != 0 {
		b.WriteString("AR")
	}
	if control&DACLAutoInherited != 0 {
		b.WriteString("AI")
	}
	if l == nil {
		b.WriteString(nullList)
		return true
	}
	revision := uint8(2)
	for _, e := range l.Entries {
		if e.Type.hasObject() {
			revision = 4
		}
		if !entryText(b, e) {
			return false
		}
	}
	return revision == l.Revision
}

func entryText(b *strings.Builder, e Entry) bool {
	kind := ""
	for _, t := range typeCodes {
		if t.kind == e.Type {
			kind = t.code
		}
	}
	if kind == "" || e.Data != "" {
		return false
	}
	b.WriteString("(" + kind + ";")
	for _, f := range flagCodes {
		if e.Flags&f.flag != 0 {
			b.WriteString(f.code)
		}
	}
	if e.Flags&0x20 != 0 { // has no code
		return false
	}
	b.WriteString(";" + maskText(e.Mask) + ";")
	if !objectText(b, e.Object) {
		return false
	}
	b.WriteString(sidText(e.Account) + ")")
	return true
}

func objectText(b *strings.Builder, object string) bool {
	if object == "" {
		b.WriteString(";;")
		return true
	}
	flags, names := binary.LittleEndian.Uint32([]byte(object)), object[4:]
	if flags > 3 || len(names) != 16*bits.OnesCount32(flags) {
		return false
	}
	for i := range 2 {
		if flags&(1<<i) != 0 {
			b.WriteString(formatGUID(names[:16]))
			names = names[16:]
		}
		b.WriteByte(';')
	}
	return true
}

func maskText(m Mask) string {
	for _, code := range []string{"FA", "FR", "FW", "FX", "GA", "GR", "GW", "GX"} {
		if rightCodes[code] == m {
			return code
		}
	}
	return fmt.Sprintf("0x%x", uint32(m))
}
