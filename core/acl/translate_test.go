package acl_test

import (
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
)

// What is translated there and back is as it was; nothing but accounts changes.
func TestTranslate(t *testing.T) {
	swap := account.Swap(map[account.SID]account.SID{account.MustSID("S-1-5-21-1-1-1-1001"): account.MustSID("S-1-5-21-2-2-2-3001"), account.MustSID("S-1-5-21-1-1-1-1002"): account.MustSID("S-1-5-21-2-2-2-3002")})
	for text, want := range map[string]string{
		"": "",
		"O:S-1-5-21-1-1-1-1001G:S-1-5-21-1-1-1-1002D:P(D;;FW;;;S-1-5-21-1-1-1-1002)(A;OICI;FA;;;S-1-5-21-1-1-1-1001)(A;;FR;;;WD)": "O:S-1-5-21-2-2-2-3001G:S-1-5-21-2-2-2-3002D:P(D;;FW;;;S-1-5-21-2-2-2-3002)(A;OICI;FA;;;S-1-5-21-2-2-2-3001)(A;;FR;;;WD)",
		"O:BAG:BAD:AI(A;ID;FA;;;S-1-5-21-2-2-2-3001)":   "O:BAG:BAD:AI(A;ID;FA;;;S-1-5-21-1-1-1-1001)",
		"O:BAG:BAS:(AU;SA;FA;;;S-1-5-21-1-1-1-1001)":    "O:BAG:BAS:(AU;SA;FA;;;S-1-5-21-2-2-2-3001)",
		"G:S-1-5-21-1-1-1-1001D:NO_ACCESS_CONTROL":      "G:S-1-5-21-2-2-2-3001D:NO_ACCESS_CONTROL",
		"O:S-1-5-21-9-9-9-9G:BAD:(A;;FA;;;S-1-22-1-99)": "O:S-1-5-21-9-9-9-9G:BAD:(A;;FA;;;S-1-22-1-99)",
	} {
		var d acl.Descriptor
		var err error
		if text != "" {
			if d, err = acl.Parse(text); err != nil {
				t.Fatal(err)
			}
		}
		got, err := d.Translate(swap)
		if err != nil || want != "" && got.String() != want || want == "" && !got.IsZero() {
			t.Errorf("%s: %s, %v", text, got, err)
		}
		if back, err := got.Translate(swap); err != nil || back != d {
			t.Errorf("%s comes back as %s, %v", text, back, err)
		}
	}
}
