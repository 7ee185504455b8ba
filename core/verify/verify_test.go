package verify

import (
	"strings"
	"testing"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
)

var local = account.MustSID("S-1-5-21-7-8-9-1000")

func TestCompare(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	d := func(text string) acl.Descriptor {
		d, err := acl.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	plain := d("O:BAD:(A;;FA;;;BA)(A;;FR;;;BU)")
	file := func(change func(*Item)) *Item {
		i := Item{Path: "a/b", Size: 10, Modified: at, Descriptor: plain}
		if change != nil {
			change(&i)
		}
		return &i
	}
	for name, c := range map[string]struct {
		first, second *Item
		want          string
	}{
		"the same":              {file(nil), file(nil), ""},
		"missing":               {file(nil), nil, "missing"},
		"extra":                 {nil, file(nil), "extra"},
		"another kind":          {file(nil), file(func(i *Item) { i.Folder = true }), "kind"},
		"another length":        {file(nil), file(func(i *Item) { i.Size = 11 }), "size"},
		"a second later":        {file(nil), file(func(i *Item) { i.Modified = at.Add(-1900 * time.Millisecond) }), ""},
		"a minute later":        {file(nil), file(func(i *Item) { i.Modified = at.Add(time.Minute) }), "time"},
		"folders have no times": {file(func(i *Item) { i.Folder = true }), file(func(i *Item) { i.Folder, i.Modified, i.Size = true, at.Add(time.Hour), 0 }), ""},
		"more rights":           {file(nil), file(func(i *Item) { i.Descriptor = d("O:BAD:(A;;FA;;;BA)(A;;0x1301bf;;;BU)") }), "permissions"},
		"in another text":       {file(nil), file(func(i *Item) { i.Descriptor = d("O:BAD:AI(A;ID;FA;;;BA)(A;ID;FR;;;BU)") }), ""},
		"another owner":         {file(nil), file(func(i *Item) { i.Descriptor = d("O:BUD:(A;;FA;;;BA)(A;;FR;;;BU)") }), "owner permissions"},
		"a local account":       {file(func(i *Item) { i.Descriptor = d("O:BAD:(A;;FA;;;BA)(A;;FR;;;BU)(A;;FR;;;" + local.String() + ")") }), file(nil), "(permissions)"},
		"local, and not":        {file(func(i *Item) { i.Descriptor = d("O:BAD:(A;;FA;;;BA)(A;;FR;;;" + local.String() + ")") }), file(nil), "permissions"},
		"several at once":       {file(nil), file(func(i *Item) { i.Size, i.Modified = 1, at.Add(time.Hour) }), "size time"},
	} {
		var got []string
		found := Compare(c.first, c.second, func(s account.SID) bool { return s == local })
		for _, f := range found {
			text := string(f.Kind)
			if f.Explained {
				text = "(" + text + ")"
			}
			got = append(got, text)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, want %q", name, got, c.want)
		}
		var sum Counts
		sum.Add(c.first, found)
		if int(sum.Unexplained()+sum.Explained) != len(found) || sum.Compared != 1 {
			t.Errorf("%s: counted %+v", name, sum)
		}
	}
}

// What turns out to be explained is counted among what is, and nowhere else.
func TestExplain(t *testing.T) {
	for _, k := range []Kind{Missing, Extra, OtherKind, Size, Time, Permissions, Owner, Attributes, Content} {
		var c Counts
		d := Difference{Path: "a", Kind: k}
		if c.Differs(d, d); c.Unexplained() != 2 || c.Explained != 0 {
			t.Errorf("two of %s: %+v", k, c)
		}
		if c.Explain(d); c.Unexplained() != 1 || c.Explained != 1 {
			t.Errorf("one of two of %s explained: %+v", k, c)
		}
	}
	var c Counts
	if c.Differs(Difference{Kind: InUse}); c.Unexplained() != 0 || c.InUse != 1 {
		t.Errorf("what is in use: %+v", c)
	}
}
