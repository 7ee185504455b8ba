package rights

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/service/accounts"
)

var meadow = account.MustSID("S-1-5-21-70-80-90")

// crowd is many people; every third belongs to the group that may change.
func crowd(count int, group account.SID) (all []accounts.Person) {
	for i := range count {
		sid := meadow.Child(uint32(2000 + i))
		token := account.NewToken(sid, 1)
		if i%3 == 0 {
			token.Add(group, sid)
		}
		all = append(all, accounts.Person{SID: sid, Name: fmt.Sprintf("Person %05d", i*7919%count), Token: &accounts.Token{Token: token}})
	}
	return all
}

// However everybody is parted, and wherever the search stops and goes on, it
// finds the same.
func TestSearchInParts(t *testing.T) {
	group := meadow.Child(1100)
	p, err := acl.ParseParts("O:BAD:(A;OICI;0x1301bf;;;" + group.String() + ")(A;OICI;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	all := crowd(3001, group)
	found := func(size int) whoCanKept {
		var kept whoCanKept
		for part := range slices.Chunk(all, size) {
			w := &searching{object: acl.Object{Permissions: p}, level: acl.Change, part: "person", kept: kept} // as after a stop
			w.take(accounts.People{List: part})
			kept = w.kept
		}
		return kept
	}
	whole := found(len(all))
	if whole.Looked != 3001 || whole.Able != 1001 || len(whole.First) != mostPeople {
		t.Fatalf("found %d of %d, %d shown", whole.Able, whole.Looked, len(whole.First))
	}
	names := func(k whoCanKept) (list []string) {
		for _, a := range k.First {
			list = append(list, a.Name)
		}
		return list
	}
	if !slices.IsSorted(names(whole)) {
		t.Error("they are not in the order of their names")
	}
	for _, size := range []int{1, 2, 7, 500, 1000} {
		if k := found(size); k.Looked != whole.Looked || k.Able != whole.Able || !slices.Equal(names(k), names(whole)) {
			t.Errorf("in parts of %d: %d of %d", size, k.Able, k.Looked)
		}
	}
	w := &searching{object: acl.Object{Permissions: p}, level: acl.Full, part: "person 0000"}
	w.take(accounts.People{List: all, Missing: "a directory"})
	if w.kept.Able != 0 || w.kept.Looked != 10 || w.kept.Missing != "a directory" {
		t.Errorf("full for ten of them: %+v", w.kept)
	}
	// A list that begins anew counts nobody twice.
	w.take(accounts.People{List: all[:3], Anew: true})
	if w.kept.Looked > 3 || w.kept.Missing != "" {
		t.Errorf("anew: %+v", w.kept)
	}
}

func TestInsertKeepsTheFirst(t *testing.T) {
	var list []able
	for _, name := range strings.Fields("pear Apple fig banana cherry date") {
		list = insert(list, able{Name: name}, 4)
	}
	var names []string
	for _, a := range list {
		names = append(names, a.Name)
	}
	if got := strings.Join(names, " "); got != "Apple banana cherry date" {
		t.Errorf("kept %s", got)
	}
}
