package sets

import (
	"fmt"
	"testing"

	"bridgespan/core/acl"
)

func TestAccountUses(t *testing.T) {
	parse := func(text string) acl.Descriptor {
		t.Helper()
		d, err := acl.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	var u AccountUses
	u.Add(acl.Descriptor{}, "nothing")
	u.Add(parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;WD)"), "a")
	u.Add(parse("O:BAG:BAD:(A;;FR;;;WD)(D;;FA;;;WD)"), "b")
	if len(u.List) != 2 || u.More {
		t.Fatalf("%+v", u)
	}
	for i, want := range []AccountUse{{Items: 2, Example: "a"}, {Items: 2, Example: "a"}} {
		if got := u.List[i]; got.Items != want.Items || got.Example != want.Example {
			t.Errorf("%d: %+v, want %+v", i, got, want)
		}
	}
	for i := range mostAccounts {
		u.Add(parse(fmt.Sprintf("O:BAG:BAD:(A;;FR;;;S-1-5-21-1-2-3-%d)", 1000+i)), "many")
	}
	if len(u.List) != mostAccounts || !u.More {
		t.Errorf("%d accounts, more is %v", len(u.List), u.More)
	}
}
