package accounts

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/directory"
	"bridgespan/model"
	"bridgespan/smbadmin"
)

var (
	grove   = account.Realm{Name: "GROVE", SID: account.MustSID("S-1-5-21-1-2-3"), Domain: true}
	oak     = account.Realm{Name: "oak", SID: account.MustSID("S-1-5-21-7-8-9")}
	person  = grove.SID.Child(1103)
	keepers = grove.SID.Child(2001)
	staff   = grove.SID.Child(2002)
	all     = grove.SID.Child(2003)
	admins  = grove.SID.Child(512)
)

// known is a service that remembers a server and a domain, and has nobody to ask.
func known(groups ...smbadmin.LocalGroup) (*Service, *At) {
	s := New(nil, nil, nil, func() {})
	s.graphs.Add(grove.Name, directory.NewGraph(grove, []directory.Account{
		{SID: person, Name: "ivy", Kind: account.User}, {SID: grove.SID.Child(1104), Name: "Moss", Kind: account.User}, {SID: grove.SID.Child(1105), Name: "gone", Kind: account.User, Disabled: true},
		{SID: keepers, Name: "keepers", Kind: account.Group}, {SID: staff, Name: "staff", Kind: account.Group}, {SID: all, Name: "all", Kind: account.LocalGroup},
		{SID: admins, Name: "Domain Admins", Kind: account.Group}, {SID: account.Administrators, Name: "Administrators", Kind: account.LocalGroup},
	}, map[account.SID][]account.SID{
		person: {keepers, grove.SID.Child(9999)}, keepers: {staff}, staff: {all}, all: {keepers}, // a circle
		grove.SID.Child(1104): {admins, account.Administrators}, admins: {account.Administrators},
	}))
	return s, &At{Server: model.Server{Name: "oak"}, realms: []account.Realm{oak, grove}, groups: groups, asked: true}
}

func TestTokenFor(t *testing.T) {
	scanners, readers := oak.SID.Child(1000), oak.SID.Child(1001)
	s, at := known(smbadmin.LocalGroup{SID: readers, Name: "readers", Members: []account.SID{scanners}}, smbadmin.LocalGroup{SID: scanners, Name: "scanners", Members: []account.SID{all}})
	token, err := s.TokenFor(t.Context(), at, person)
	if err != nil || token.Missing != "" {
		t.Fatal(token, err)
	}
	for _, sid := range []account.SID{person, keepers, staff, all, scanners, readers, account.Everyone, account.AuthenticatedUsers} {
		if !token.Has(sid) {
			t.Errorf("%s is not in the token", sid)
		}
	}
	for _, sid := range []account.SID{grove.SID.Child(9999), admins, account.Administrators} {
		if token.Has(sid) {
			t.Errorf("%s is in the token", sid)
		}
	}
	var way []string
	for _, step := range token.Path(readers) {
		way = append(way, step.String())
	}
	if got := strings.Join(way, " "); got != strings.Join([]string{keepers.String(), staff.String(), all.String(), scanners.String(), readers.String()}, " ") {
		t.Errorf("the way to the readers: %s", got)
	}
	// The domain's own Administrators are not those of this server.
	moss, err := s.TokenFor(t.Context(), at, grove.SID.Child(1104))
	if err != nil || !moss.Has(admins) || moss.Has(account.Administrators) || moss.Privileges != (account.Privileges{}) {
		t.Errorf("%+v, %v", moss, err)
	}
	s, at = known(smbadmin.LocalGroup{SID: account.Administrators, Members: []account.SID{admins}}, smbadmin.LocalGroup{SID: account.BackupOperators, Members: []account.SID{person}})
	if moss, err = s.TokenFor(t.Context(), at, grove.SID.Child(1104)); err != nil || !moss.Privileges.TakeOwnership || !moss.Privileges.Restore {
		t.Errorf("an administrator: %+v, %v", moss, err)
	}
	if token, err = s.TokenFor(t.Context(), at, person); err != nil || token.Privileges != (account.Privileges{Backup: true, Restore: true}) {
		t.Errorf("a backup operator: %+v, %v", token, err)
	}
}

func TestFind(t *testing.T) {
	s, at := known()
	s.named.Add(key{"oak", person}, smbadmin.Named{SID: person, Name: "ivy", Realm: "GROVE", Kind: account.User})
	twice := []smbadmin.Named{{SID: person, Name: "ivy", Realm: "GROVE", Kind: account.User}, {SID: oak.SID.Child(1002), Name: "ivy", Realm: "OAK1", Kind: account.User}}
	s.found.Add("oak\x00ivy", twice)
	s.found.Add("oak\x00grove\\ivy", twice[:1])
	s.found.Add("oak\x00no.such", nil)
	for name, want := range map[string]string{
		"everyone":               "Everyone",
		"Administrators":         "Administrators",
		`GROVE\ivy`:              `GROVE\ivy`,
		"s-1-5-21-1-2-3-1103":    `GROVE\ivy`,
		"ivy":                    `"ivy" is in 2 places; write which one: GROVE\ivy or oak\ivy`,
		"no.such":                `oak knows no account "no.such"`,
		"":                       `oak knows no account ""`,
		"a\x00b":                 "oak knows no account",
		strings.Repeat("a", 600): "oak knows no account",
		"S-1-5-x":                "malformed SID",
	} {
		a, _, err := s.Find(t.Context(), at, "who", name)
		got := a.Name
		var e *fault.Error
		if errors.As(err, &e) {
			if got = e.Problem + "; " + e.Remedy; e.Field != "who" || e.Remedy == "" {
				t.Errorf("%q: %+v", name, e)
			}
		}
		if !strings.Contains(got, want) {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

func TestShow(t *testing.T) {
	realms := []account.Realm{oak, grove}
	for _, c := range []struct {
		named  smbadmin.Named
		name   string
		kind   account.Kind
		origin account.Origin
	}{
		{smbadmin.Named{SID: person, Name: "ivy", Realm: "GROVE", Kind: account.User}, `GROVE\ivy`, account.User, account.OfDomain},
		{smbadmin.Named{SID: oak.SID.Child(1000), Name: "scanners", Realm: "FILESERVER7", Kind: account.LocalGroup}, `oak\scanners`, account.LocalGroup, account.OfServer},
		{smbadmin.Named{SID: account.Everyone, Name: "Everyone", Kind: account.Special}, "Everyone", account.Special, account.Anywhere},
		{smbadmin.Named{SID: account.Administrators, Name: "Administratoren", Realm: "BUILTIN", Kind: account.LocalGroup}, "Administrators", account.LocalGroup, account.Anywhere},
		{smbadmin.Named{SID: account.MustSID("S-1-5-21-40-50-60-1000")}, "S-1-5-21-40-50-60-1000", account.Unresolved, account.OfUnknown},
	} {
		if a := show(c.named, realms); a.Name != c.name || a.Kind != c.kind || a.Origin != c.origin || a.Says == "" {
			t.Errorf("%s: %+v", c.named.SID, a)
		}
	}
}

func TestBelow(t *testing.T) {
	for _, c := range []struct {
		top, path, rest string
		below           bool
	}{
		{`C:\srv`, `C:\srv`, "", true}, {`C:\srv`, `c:/SRV/a/b`, "a/b", true}, {`C:\srv\`, `/srv/a/`, "a", true}, {`C:\srv`, `C:\srv2`, "", false},
		{`C:\`, `C:\a`, "a", true}, {`C:\a`, `C:\`, "", false}, {"/srv/.", "/srv/a", "a", true},
	} {
		if rest, below := Below(c.top, c.path); rest != c.rest || below != c.below {
			t.Errorf("%s below %s: %q, %v", c.path, c.top, rest, below)
		}
	}
}

func TestEverybodyOfADomain(t *testing.T) {
	s, at := known()
	people, missing, err := s.ofDomains(t.Context(), at)
	if err != nil || missing != "" || len(people) != 2 {
		t.Errorf("%+v, %q, %v", people, missing, err)
	}
	sortPeople(people)
	if people[0].Name != "ivy" || people[1].Name != "Moss" {
		t.Errorf("%+v", people)
	}
}

// BenchmarkTokens makes the tokens of a large domain, each with 40 groups.
func BenchmarkTokens(b *testing.B) {
	var accounts []directory.Account
	memberOf := map[account.SID][]account.SID{}
	for i := range uint32(2000) {
		g := grove.SID.Child(10000 + i)
		accounts = append(accounts, directory.Account{SID: g, Name: fmt.Sprint("group ", i), Kind: account.Group})
		if i >= 100 {
			memberOf[g] = []account.SID{grove.SID.Child(10000 + i/4)}
		}
	}
	const users = 200000
	for i := range uint32(users) {
		u := grove.SID.Child(100000 + i)
		accounts = append(accounts, directory.Account{SID: u, Name: fmt.Sprint("user ", i), Kind: account.User})
		for k := range uint32(20) {
			memberOf[u] = append(memberOf[u], grove.SID.Child(10000+(i*7+k*97)%2000))
		}
	}
	s, at := known(smbadmin.LocalGroup{SID: account.Users, Members: []account.SID{grove.SID.Child(10005)}})
	s.graphs.Add(grove.Name, directory.NewGraph(grove, accounts, memberOf))
	for b.Loop() {
		for i := range uint32(users) {
			if _, err := s.TokenFor(b.Context(), at, grove.SID.Child(100000+i)); err != nil {
				b.Fatal(err)
			}
		}
		s.tokens.Purge()
	}
	b.ReportMetric(float64(b.N)*users/b.Elapsed().Seconds(), "tokens/s")
}
