package rights

import (
	"testing"

	"bridgespan/model"
)

func TestShareOver(t *testing.T) {
	shares := []model.Share{{Name: "all", Path: `C:\`}, {Name: "store", Path: `C:\srv\store`}, {Name: "scans", Path: "/srv/store/scans/"}, {Name: "IPC$"}, {Name: "storeroom", Path: `C:\srv\storeroom`}}
	for folder, want := range map[string][2]string{
		"/srv/store":             {"store", ""},
		"/srv/store/beds/north":  {"store", "beds/north"},
		"/srv/store/scans":       {"scans", ""},
		"/srv/store/scans/2026/": {"scans", "2026"},
		"/srv/storeroom":         {"storeroom", ""},
		"/srv":                   {"all", "srv"},
	} {
		if share, sub, ok := shareOver(folder, shares); !ok || share != want[0] || sub != want[1] {
			t.Errorf("%s is %q in %q, %v; want %q", folder, sub, share, ok, want)
		}
	}
	if share, _, ok := shareOver("/home/x", shares[1:]); ok {
		t.Errorf("a folder of no share is in %s", share)
	}
}
