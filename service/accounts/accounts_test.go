package accounts

import (
	"context"
	"errors"
	"fmt"
	"iter"
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

// register is a directory that is held in memory. It gives its users two at a
// time.
type register struct {
	host    string
	members []directory.Member
	fails   error // instead of the second part of the users
	closed  bool
}

func (r *register) Graph(context.Context) (*directory.Graph, error) { panic("it is known") }
func (r *register) Host() string                                    { return r.host }
func (r *register) Close() error                                    { r.closed = true; return nil }

func (r *register) Member(_ context.Context, _ *directory.Graph, s account.SID) (directory.Member, error) {
	for _, m := range r.members {
		if m.SID == s {
			return m, nil
		}
	}
	return directory.Member{}, directory.ErrNotFound
}

func (r *register) Users(_ context.Context, _ *directory.Graph, after directory.Mark) iter.Seq2[directory.Users, error] {
	return func(yield func(directory.Users, error) bool) {
		if after.Host != r.host {
			after.At = 0
		}
		for at := int(after.At); at < len(r.members); at += 2 {
			if r.fails != nil && at > 0 {
				yield(directory.Users{}, r.fails)
				return
			}
			upto := min(at+2, len(r.members))
			if !yield(directory.Users{Members: r.members[at:upto], Upto: directory.Mark{Host: r.host, At: int64(upto)}, Fraction: float64(upto) / float64(len(r.members))}, nil) {
				return
			}
		}
	}
}

func user(rid uint32, name string, groups ...account.SID) directory.Member {
	return directory.Member{Account: directory.Account{SID: grove.SID.Child(rid), Name: name, Kind: account.User}, Direct: groups}
}

// known is a server of a domain that is known, and that has local groups.
func known(groups ...smbadmin.LocalGroup) (*Service, *At, *register) {
	s := New(nil, nil, nil, func() {})
	graph := directory.NewGraph(grove, []directory.Account{
		{SID: keepers, Name: "keepers", Kind: account.Group}, {SID: staff, Name: "staff", Kind: account.Group}, {SID: all, Name: "all", Kind: account.LocalGroup},
		{SID: admins, Name: "Domain Admins", Kind: account.Group}, {SID: account.Administrators, Name: "Administrators", Kind: account.LocalGroup},
	}, map[account.SID][]account.SID{keepers: {staff}, staff: {all}, all: {keepers}, admins: {account.Administrators}}) // a circle
	gone := user(1105, "gone")
	gone.Disabled = true
	r := &register{host: "dc", members: []directory.Member{user(1103, "ivy", keepers), user(1104, "Moss", admins, account.Administrators), gone}}
	return s, &At{Server: model.Server{Name: "oak"}, realms: []account.Realm{oak, grove}, groups: groups, asked: true, domains: map[account.SID]*domain{grove.SID: {graph, r}}}, r
}

func TestTokenFor(t *testing.T) {
	scanners, readers := oak.SID.Child(1000), oak.SID.Child(1001)
	s, at, _ := known(smbadmin.LocalGroup{SID: readers, Name: "readers", Members: []account.SID{scanners}}, smbadmin.LocalGroup{SID: scanners, Name: "scanners", Members: []account.SID{all}})
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
	s, at, _ = known(smbadmin.LocalGroup{SID: account.Administrators, Members: []account.SID{admins}}, smbadmin.LocalGroup{SID: account.BackupOperators, Members: []account.SID{person}})
	if moss, err = s.TokenFor(t.Context(), at, grove.SID.Child(1104)); err != nil || !moss.Privileges.TakeOwnership || !moss.Privileges.Restore {
		t.Errorf("an administrator: %+v, %v", moss, err)
	}
	if token, err = s.TokenFor(t.Context(), at, person); err != nil || token.Privileges != (account.Privileges{Backup: true, Restore: true}) {
		t.Errorf("a backup operator: %+v, %v", token, err)
	}
}

func TestFind(t *testing.T) {
	s, at, _ := known()
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

// listed is everybody after a mark, without the users of the server itself.
func listed(t *testing.T, s *Service, at *At, after Mark) (names []string, last People, err error) {
	for people, err := range s.Everybody(t.Context(), at, after) {
		if err != nil {
			return names, last, err
		}
		last = people
		for _, p := range people.List {
			names = append(names, p.Name)
			if p.Token.User != p.SID || !p.Token.Has(account.Everyone) {
				t.Errorf("%s has the token %+v", p.Name, p.Token)
			}
		}
	}
	return names, last, nil
}

func TestEverybody(t *testing.T) {
	s, at, r := known()
	names, last, err := listed(t, s, at, Mark{Server: true})
	if err != nil || strings.Join(names, " ") != "ivy Moss" || last.Fraction != 1 || last.Upto.Domain.At != 3 {
		t.Errorf("everybody: %q, %+v, %v", names, last, err)
	}
	// After a mark of this directory the rest; after one of another, all of them.
	if names, _, err = listed(t, s, at, Mark{Server: true, Domain: directory.Mark{Host: "dc", At: 1}}); err != nil || strings.Join(names, " ") != "Moss" {
		t.Errorf("after the first: %q, %v", names, err)
	}
	r.fails = directory.ErrUnreachable
	r.members = append(r.members, user(1106, "Fern"))
	if names, last, err = listed(t, s, at, Mark{Server: true}); !errors.Is(err, directory.ErrUnreachable) || len(names) != 2 || last.Upto.Domain.At != 2 {
		t.Errorf("a directory that goes away: %q, %+v, %v", names, last, err)
	}
	at.Close()
	if !r.closed {
		t.Error("the directory was not let go")
	}
}

// A user who was removed still has entries that name them: those judge nobody.
func TestTokenOfRemovedUser(t *testing.T) {
	s, at, _ := known()
	token, err := s.TokenFor(t.Context(), at, grove.SID.Child(9999))
	if err != nil || token.Missing != "" || token.Has(keepers) || !token.Has(account.Everyone) {
		t.Errorf("%+v, %v", token, err)
	}
}

// BenchmarkTokens makes the tokens of a large domain, each with 40 groups.
func BenchmarkTokens(b *testing.B) {
	var groups []directory.Account
	memberOf := map[account.SID][]account.SID{}
	for i := range uint32(2000) {
		g := grove.SID.Child(10000 + i)
		groups = append(groups, directory.Account{SID: g, Name: fmt.Sprint("group ", i), Kind: account.Group})
		if i >= 100 {
			memberOf[g] = []account.SID{grove.SID.Child(10000 + i/4)}
		}
	}
	members := make([]directory.Member, 20000)
	for i := range members {
		members[i] = user(100000+uint32(i), fmt.Sprint("user ", i))
		for k := range 20 {
			members[i].Direct = append(members[i].Direct, grove.SID.Child(10000+uint32(i*7+k*97)%2000))
		}
	}
	s, at, _ := known(smbadmin.LocalGroup{SID: account.Users, Members: []account.SID{grove.SID.Child(10005)}})
	d := &domain{graph: directory.NewGraph(grove, groups, memberOf)}
	for b.Loop() {
		if _, err := s.judged(b.Context(), at, d, members); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.N*len(members))/b.Elapsed().Seconds(), "tokens/s")
}
