package accounts

import (
	"testing"

	"bridgespan/core/account"
	"bridgespan/model"
	"bridgespan/smbadmin"
)

// A server is not believed what it says of accounts that are another server's alone.
func TestOfAnother(t *testing.T) {
	sedge := account.Realm{Name: "sedge", SID: account.MustSID("S-1-5-21-1-1-4")}
	fern := account.Realm{Name: "fern", SID: account.MustSID("S-1-5-21-1-1-1")}
	domain := account.Realm{Name: "TRUST", SID: account.MustSID("S-1-5-21-9-9-9"), Domain: true}
	at := &At{Server: model.Server{Name: "sedge"}, Admin: &smbadmin.Admin{}, realms: []account.Realm{sedge}}
	realms := []account.Realm{sedge, fern, domain}
	for _, c := range []struct {
		sid, domain string
		another     bool
	}{
		{"S-1-5-21-1-1-4-2001", "SEDGE", false},
		{"S-1-5-21-1-1-1-2001", "SEDGE", true},
		{"S-1-5-21-1-1-1-2001", "", true},
		{"S-1-5-21-9-9-9-1104", "TRUST", false},
		{"S-1-5-21-7-7-7-1104", "ELSEWHERE", false}, // of a domain that it trusts, perhaps
		{"S-1-5-21-7-7-7-1104", "Sedge", true},
		{"S-1-5-32-544", "BUILTIN", false},
	} {
		n := smbadmin.Named{SID: account.MustSID(c.sid), Realm: c.domain, Name: "curators"}
		if got := ofAnother(at, n, realms); got != c.another {
			t.Errorf("%s of %q: %v", c.sid, c.domain, got)
		}
	}
	if ofAnother(&At{}, smbadmin.Named{SID: account.MustSID("S-1-5-21-1-1-1-2001")}, realms) {
		t.Error("who cannot be asked is asked others about")
	}
}
