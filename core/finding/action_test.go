package finding

import (
	"reflect"
	"slices"
	"strings"
	"testing"
)

// A link is right whatever the names in it are, and each kind of action is one of the API's
// document.
func TestLinks(t *testing.T) {
	if got, want := To(OpenLane, "field notes", "a/b", "c?d&e").Href, "/api/v1/replica-sets/field%20notes/lanes/a%2Fb/c%3Fd%26e"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if got, want := To(ShowRights, "fern/a+b&c").Href, "/api/v1/rights?path=fern%2Fa%2Bb%26c"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	field, _ := reflect.TypeFor[Action]().FieldByName("Do")
	documented := strings.Split(field.Tag.Get("enum"), ",")
	for _, do := range Dos() {
		if !slices.Contains(documented, string(do)) {
			t.Errorf("%s is not in the document", do)
		}
	}
	if len(documented) != len(Dos()) {
		t.Errorf("documented are %v", documented)
	}
}
