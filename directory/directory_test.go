package directory

import (
	"errors"
	"os"
	"slices"
	"testing"
	"time"

	"bridgespan/core/account"
	"bridgespan/smbadmin"
	"bridgespan/standin/standintest"
	"bridgespan/tree/smb"
)

// One domain serves the tests of this package: making it takes a while.
func TestAgainstRealDomain(t *testing.T) {
	began := time.Now()
	controller := standintest.Domain(t)
	t.Logf("the domain is up after %s", time.Since(began))
	ca, err := os.ReadFile(controller.CA())
	if err != nil {
		t.Fatal(err)
	}
	target := Target{Address: controller.LDAP(), Account: controller.UserName("cara"), Password: standintest.Password("cara"), CA: string(ca)}
	d, err := Dial(t.Context(), target)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	t.Run("refusals", func(t *testing.T) { refusals(t, target) })
	t.Run("accounts", func(t *testing.T) { accounts(t, d) })
	t.Run("memberships", func(t *testing.T) { memberships(t, d) })
	t.Run("users part by part", func(t *testing.T) { users(t, d) })
	t.Run("a member server", func(t *testing.T) {
		began := time.Now()
		server := standintest.Member(t, controller, "larch", "store")
		t.Logf("the member is up after %s", time.Since(began))
		session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Domain: "GROVE", Account: "warden", Password: standintest.Password("warden")})
		if err != nil {
			t.Fatal(err)
		}
		defer session.Close()
		asMemberSees(t, d, smbadmin.New(session))
	})
}

func refusals(t *testing.T, target Target) {
	for what, c := range map[string]struct {
		change func(*Target)
		want   error
	}{
		"a wrong password":       {func(x *Target) { x.Password = "wrong" }, ErrSignIn},
		"an empty password":      {func(x *Target) { x.Password = "" }, ErrSignIn},
		"an unknown account":     {func(x *Target) { x.Account = "nobody@grove.test" }, ErrSignIn},
		"nobody's port":          {func(x *Target) { x.Address = "127.0.0.1:1" }, ErrUnreachable},
		"an untrusted authority": {func(x *Target) { x.CA = "" }, ErrCertificate},
		"no authority at all":    {func(x *Target) { x.CA = "nonsense" }, ErrCertificate},
	} {
		bad := target
		c.change(&bad)
		if _, err := Dial(t.Context(), bad); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", what, err, c.want)
		}
	}
}

func accounts(t *testing.T, d *Directory) {
	if r := d.Realm(); r.Name != "GROVE" || r.SID != account.MustSID("S-1-5-21-4001-5002-6003") || !r.Domain {
		t.Errorf("realm %+v", r)
	}
	list, more, err := d.Accounts(t.Context(), "", 1000)
	if err != nil || more {
		t.Fatal(more, err)
	}
	for name, kind := range map[string]account.Kind{"ada": account.User, "keepers": account.Group, "Domain Users": account.Group} {
		if i := slices.IndexFunc(list, func(a Account) bool { return a.Name == name && a.Kind == kind && !a.Disabled }); i < 0 {
			t.Errorf("%s is not among the %d accounts", name, len(list))
		}
	}
	if i := slices.IndexFunc(list, func(a Account) bool { return a.Name == "Guest" && a.Disabled }); i < 0 {
		t.Error("Guest is not shown as disabled")
	}
	some, more, err := d.Accounts(t.Context(), "birch", 10)
	if err != nil || more || len(some) != 1 || some[0].Name != "ada" {
		t.Errorf("birch: %+v, %v, %v", some, more, err)
	}
	if few, more, err := d.Accounts(t.Context(), "", 3); err != nil || !more || len(few) != 3 {
		t.Errorf("three of many: %d, %v, %v", len(few), more, err)
	}
	ada, err := d.ByName(t.Context(), "ADA@grove.test")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := d.BySID(t.Context(), ada.SID); err != nil || again != ada {
		t.Errorf("by number %+v, %v; by name %+v", again, err, ada)
	}
	for _, name := range []string{"nobody-here", "*", "a)(objectClass=*"} {
		if got, err := d.ByName(t.Context(), name); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q is %+v, %v", name, got, err)
		}
	}
}

func memberships(t *testing.T, d *Directory) {
	g, err := d.Graph(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string][]string{"ada": {"Domain Users", "Users", "everybody-here", "keepers", "staff"}, "warden": {"Administrators", "Domain Admins", "Domain Users", "Users"}, "cara": {"Domain Users", "Users"}} {
		a, err := d.ByName(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		m, err := d.Member(t.Context(), g, a.SID)
		if err != nil {
			t.Fatal(err)
		}
		held := g.GroupsOf(a.SID, m.Direct)
		var names []string
		var ours []account.SID
		for _, m := range held {
			names, ours = append(names, g.Groups[m.Group].Name), append(ours, m.Group)
		}
		for _, group := range want {
			if !slices.Contains(names, group) {
				t.Errorf("%s is in %q, and not in %s", name, names, group)
			}
		}
		theirs, err := d.tokenGroups(a)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range theirs {
			if !slices.Contains(ours, s) {
				t.Errorf("the directory counts %s to %s, and we do not", s, name)
			}
		}
		for _, s := range ours {
			if !slices.Contains(theirs, s) {
				t.Errorf("we count %s to %s, and the directory does not", s, name)
			}
		}
	}
	staff, err := d.ByName(t.Context(), "staff")
	if err != nil {
		t.Fatal(err)
	}
	members, err := d.Members(t.Context(), staff)
	if err != nil || len(members) != 2 {
		t.Errorf("members of staff: %+v, %v", members, err)
	}
}

// users lists everybody of the domain, all at once and again after each mark.
func users(t *testing.T, d *Directory) {
	g, err := d.Graph(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	list := func(after Mark) (names []string, marks []Mark) {
		for part, err := range d.Users(t.Context(), g, after) {
			if err != nil {
				t.Fatal(err)
			}
			for _, m := range part.Members {
				names = append(names, m.Name)
			}
			marks = append(marks, part.Upto)
			if part.Upto.Host != d.Host() || part.Fraction <= 0 || part.Fraction > 1 {
				t.Errorf("a part %+v", part)
			}
		}
		return names, marks
	}
	names, marks := list(Mark{})
	for _, name := range []string{"Administrator", "ada", "ben", "cara", "warden", "Guest", "krbtgt"} {
		if !slices.Contains(names, name) {
			t.Errorf("%s is not among %q", name, names)
		}
	}
	if some := slices.Compact(slices.Sorted(slices.Values(names))); len(some) != len(names) || slices.Contains(names, "keepers") {
		t.Errorf("somebody is there twice, or a group: %q", names)
	}
	if rest, _ := list(marks[len(marks)-1]); len(rest) != 0 {
		t.Errorf("after the end: %q", rest)
	}
	// The further back the mark, the more there are after it, until all are.
	var before []string
	for at := marks[0].At; at > 0; at -= marks[0].At / 40 {
		rest, _ := list(Mark{d.Host(), at})
		for _, name := range before {
			if !slices.Contains(rest, name) {
				t.Fatalf("%s is after a later mark, and not after %d", name, at)
			}
		}
		before = rest
	}
	if len(before) != len(names) {
		t.Errorf("after the first numbers there are %q", before)
	}
	if anew, _ := list(Mark{"another server", marks[0].At}); !slices.Equal(anew, names) {
		t.Errorf("after the mark of another server: %q", anew)
	}
}

// A member server calls the accounts of the domain by the names and numbers
// of the directory, and knows the domain's administrators as its own.
func asMemberSees(t *testing.T, d *Directory, a *smbadmin.Admin) {
	realms, err := a.Realms(t.Context())
	if err != nil || len(realms) != 2 {
		t.Fatalf("realms %+v, %v", realms, err)
	}
	if i := slices.IndexFunc(realms, func(r account.Realm) bool { return r == d.Realm() }); i < 0 {
		t.Errorf("%+v is not among %+v", d.Realm(), realms)
	}
	ada, err := d.ByName(t.Context(), "ada")
	if err != nil {
		t.Fatal(err)
	}
	found, err := a.SIDsOf(t.Context(), []string{`GROVE\ada`, "ada@grove.test", "scanners"})
	if err != nil || found[0].SID != ada.SID || found[1].SID != ada.SID || found[2].Realm != "LARCH" {
		t.Errorf("found %+v, %v; want %s", found, err, ada.SID)
	}
	named, err := a.NamesOf(t.Context(), []account.SID{ada.SID})
	if err != nil || named[0].Full() != `GROVE\ada` || named[0].Kind != account.User {
		t.Errorf("named %+v, %v", named, err)
	}
	warden, err := d.ByName(t.Context(), "warden")
	if err != nil {
		t.Fatal(err)
	}
	g, err := d.Graph(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	member, err := d.Member(t.Context(), g, warden.SID)
	if err != nil {
		t.Fatal(err)
	}
	token := []account.SID{warden.SID}
	for _, m := range g.GroupsOf(warden.SID, member.Direct) {
		token = append(token, m.Group)
	}
	local, err := a.GroupsOf(t.Context(), token)
	if err != nil || !slices.Contains(local, account.Administrators) {
		t.Errorf("the domain's administrator is in %v, %v", local, err)
	}
}
