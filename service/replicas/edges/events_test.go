package edges

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"bridgespan/tree/bucket/seal"
)

// event is an event of an object, with what services tell beside it.
func event(bucket, key string) string {
	return fmt.Sprintf(`{"eventVersion":"2.1","eventName":"ObjectCreated:Put","userIdentity":{"principalId":"x"},"s3":{"s3SchemaVersion":"1.0","bucket":{"name":%q,"arn":"x"},"object":{"key":%q,"size":3,"sequencer":"0"}}}`, bucket, key)
}

func TestFoldersOf(t *testing.T) {
	for what, c := range map[string]struct {
		keys []string
		want []string
	}{
		"a file at the top":     {[]string{"a.txt"}, []string{"."}},
		"files of a folder":     {[]string{"a/b/1.txt", "a/b/2.txt", "a/1.txt"}, []string{"a", "a/b"}},
		"escaped keys":          {[]string{"a+b/c%20d.txt", "%C3%BC/x"}, []string{"a b", "ü"}},
		"a folder by itself":    {[]string{"a/b/"}, []string{"a"}},
		"our own objects":       {[]string{".bspan/replica", ".bspan/attic/x", "a/.bspan/y"}, nil},
		"what no tree can hold": {[]string{"../a", "/a", "a//b", "%zz", ""}, nil},
	} {
		var events []string
		for _, k := range c.keys {
			events = append(events, event("files", k))
		}
		got, err := foldersOf([]byte(`{"Records":[` + strings.Join(events, ",") + `]}`))
		if err != nil || !slices.Equal(got["files"], c.want) {
			t.Errorf("%s: %q, %v; want %q", what, got["files"], err, c.want)
		}
	}
	for _, document := range []string{"", "[]", "{", `{"Records":{}}`, `{"Records":[` + strings.TrimSuffix(strings.Repeat("{},", mostEvents+1), ",") + `]}`} {
		if got, err := foldersOf([]byte(document)); err == nil {
			t.Errorf("%.20q is about %v", document, got)
		}
	}
	if got, err := foldersOf([]byte(`{"Service":"x","Event":"s3:TestEvent"}`)); err != nil || len(got) != 0 { // as services try a receiver
		t.Errorf("a test event is about %v, %v", got, err)
	}
}

func FuzzFoldersOf(f *testing.F) {
	f.Add([]byte(`{"Records":[` + event("files", "a/b.txt") + `]}`))
	f.Fuzz(func(t *testing.T, document []byte) {
		folders, err := foldersOf(document)
		for _, list := range folders {
			for _, folder := range list {
				if err != nil || folder == "" || strings.HasPrefix(folder, "/") || slices.Contains(strings.Split(folder, "/"), "..") {
					t.Errorf("%q of %q, %v", folder, document, err)
				}
			}
		}
	})
}

func TestWithin(t *testing.T) {
	folders := []string{".", "a", "a/b", "ab"}
	plain := func(key string) (string, bool) { return key, true }
	for sub, want := range map[string][]string{"": {".", "a", "a/b", "ab"}, "a": {".", "b"}, "a/b": {"."}, "c": nil} {
		if got := within(sub, folders, plain); !slices.Equal(got, want) {
			t.Errorf("within %q: %q, want %q", sub, got, want)
		}
	}
	key, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	key = key.WithNames()
	sealed := []string{"a/" + key.Path("beds/north"), "a", "a/foreign", key.Path("beds")}
	if got := within("a", sealed, key.Open); !slices.Equal(got, []string{"beds/north", "."}) {
		t.Errorf("with sealed names: %q", got)
	}
}
