package translate_test

import (
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/translate"
	"bridgespan/tree/treetest"
)

var (
	atFern    = account.MustSID("S-1-5-21-1-1-1-1001")
	atHeather = account.MustSID("S-1-5-21-2-2-2-3001")
	swap      = account.Swap(map[account.SID]account.SID{atFern: atHeather})
)

func TestConformance(t *testing.T) {
	treetest.Run(t, func(*testing.T) tree.Tree { return translate.New(&memory.Tree{}, swap) })
}

func rights(t *testing.T, sid account.SID) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse("O:" + sid.String() + "G:BAD:P(A;;FA;;;" + sid.String() + ")(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// The tree below has its own accounts, however they are written, and every way
// of reading shows those of the other place.
func TestAccounts(t *testing.T) {
	below := &memory.Tree{}
	tr := translate.New(below, swap)
	options := tree.PutOptions{Meta: tree.Meta{Descriptor: rights(t, atFern)}, Detail: tree.WithDescriptors}
	for name, write := range map[string]func(name string) (tree.Entry, error){
		"put": func(name string) (tree.Entry, error) {
			return tr.Put(t.Context(), name, strings.NewReader("x"), options)
		},
		"stage": func(name string) (tree.Entry, error) {
			return tr.Stage(t.Context(), name, strings.NewReader("x"), options)
		},
		"apply": func(name string) (tree.Entry, error) {
			e, err := tr.Put(t.Context(), name, strings.NewReader("x"), tree.PutOptions{})
			if err == nil {
				err = tr.Apply(t.Context(), name, options.Meta)
			}
			return e, err
		},
	} {
		e, err := write(name)
		if err != nil || !e.Descriptor.IsZero() && e.Descriptor != rights(t, atFern) {
			t.Fatalf("%s: %+v, %v", name, e, err)
		}
		if d, err := below.Descriptor(t.Context(), name); err != nil || d != rights(t, atHeather) {
			t.Errorf("%s: below is %s, %v", name, d, err)
		}
		if d, err := tr.Descriptor(t.Context(), name); err != nil || d != rights(t, atFern) {
			t.Errorf("%s: %s, %v", name, d, err)
		}
	}
	for e, err := range tr.List(t.Context(), ".", tree.WithDescriptors) {
		if err != nil || e.Descriptor != rights(t, atFern) {
			t.Errorf("%s is listed with %s, %v", e.Name, e.Descriptor, err)
		}
	}
}
