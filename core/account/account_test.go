package account

import (
	"errors"
	"fmt"
	"testing"
)

func ExampleDescribe() {
	realms := []Realm{{Name: "GARDEN", SID: MustSID("S-1-5-21-1-2-3"), Domain: true}, {Name: "sedge", SID: MustSID("S-1-5-21-7-8-9")}}
	for _, text := range []string{"S-1-5-11", "S-1-5-21-1-2-3-513", "S-1-5-21-7-8-9-1004", "S-1-5-21-4-4-4-1190", "S-1-22-1-1000"} {
		says := Describe(MustSID(text), realms)
		fmt.Println(says.Name+":", says.Sentence())
	}
	// Output:
	// Authenticated Users: well known: means the same on every server
	// Domain Users: number 513 of the domain GARDEN: means the same on every member
	// : number 1004 of the server sedge: means nothing on another server
	// : number 1190 of a domain or server that is not known here (S-1-5-21-4-4-4)
	// : Unix id 1000 of one host: means nothing on another server
}

func TestSIDText(t *testing.T) {
	for _, text := range []string{"S-1-0-0", "S-1-5-32-544", "S-1-5-21-1911-1101-7301-5106", "S-1-22-1-4294967295", "S-1-0x123456789abc-1", "S-1-5"} {
		s, err := ParseSID(text)
		if err != nil || s.String() != text {
			t.Errorf("%s: %s, %v", text, s, err)
			continue
		}
		back, n, err := ReadSID(append(s.Binary(), 1, 2, 3))
		if err != nil || back != s || n != s.Len() {
			t.Errorf("%s: the packet form gives %s, %d, %v", text, back, n, err)
		}
	}
	for _, text := range []string{"", "S-1", "S-2-5-1", "S-1-x", "S-1-5-", "S-1-5-4294967296", "S-1-5-1-2-3-4-5-6-7-8-9-10-11-12-13-14-15-16", "T-1-5-1"} {
		if s, err := ParseSID(text); !errors.Is(err, ErrMalformed) {
			t.Errorf("%q is read as %s, %v", text, s, err)
		}
	}
}

func TestSIDParts(t *testing.T) {
	domain := MustSID("S-1-5-21-1-2-3")
	ivy := domain.Child(1101)
	relative, ok := ivy.Relative()
	if !ivy.In(domain) || ivy.Parent() != domain || relative != 1101 || !ok || domain.In(domain) || (SID{}).In(SID{}) {
		t.Errorf("%s is not 1101 of %s", ivy, domain)
	}
	if !(SID{}).Child(1).IsZero() || (SID{}).Parent() != (SID{}) {
		t.Error("nobody has parts")
	}
}

func TestTokenPath(t *testing.T) {
	user, team, staff, local := MakeSID(5, 21, 1), MakeSID(5, 21, 2), MakeSID(5, 21, 3), MakeSID(5, 32, 4)
	token := NewToken(user, 0)
	if !token.Add(team, user) || !token.Add(staff, team) || !token.Add(local, staff) || token.Add(team, staff) {
		t.Error("groups are not added once each")
	}
	if got := token.Path(local); fmt.Sprint(got) != fmt.Sprint([]SID{team, staff, local}) {
		t.Errorf("the way to the local group is %v", got)
	}
	if got := token.Path(Everyone); len(got) != 1 || !token.Has(AuthenticatedUsers) || token.Has(Administrators) {
		t.Errorf("the way to Everyone is %v", got)
	}
	count := 0
	for range token.All() {
		count++
	}
	if count != 7 {
		t.Errorf("%d accounts, want 7", count)
	}
}

func FuzzReadSID(f *testing.F) {
	f.Add(MustSID("S-1-5-21-1-2-3-500").Binary())
	f.Fuzz(func(t *testing.T, b []byte) {
		s, n, err := ReadSID(b)
		if err != nil {
			return
		}
		again, err := ParseSID(s.String())
		if err != nil || again != s || n > len(b) {
			t.Fatalf("%x reads %s, which reads %s, %v", b, s, again, err)
		}
	})
}
