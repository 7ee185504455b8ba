package worker

import (
	"testing"

	"bridgespan/smbadmin"
)

func TestHoldsPath(t *testing.T) {
	for _, c := range []struct {
		path, sub, name string
		want            bool
	}{
		{"/srv/store/2026/Ledger.csv", "", "2026/ledger.csv", true},
		{`C:\srv\store\2026\Ledger.csv`, "", "2026/Ledger.csv", true},
		{"/srv/store/copies/2026/a", "copies", "2026/a", true},
		{"/srv/store/other/2026/a", "copies", "2026/a", false},
		{"/srv/store/2026/not ledger.csv", "", "ledger.csv", false},
		{"/srv/store/2026", "", "2026/a", false},
	} {
		if got := holdsPath(smbadmin.OpenFile{Path: c.path}, c.sub, c.name); got != c.want {
			t.Errorf("%s holds %s of %q: %v", c.path, c.name, c.sub, got)
		}
	}
}
