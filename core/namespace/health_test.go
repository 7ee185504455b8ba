package namespace

import (
	"strings"
	"testing"
)

func TestJudge(t *testing.T) {
	for name, c := range map[string]struct{ looks, want string }{
		"well at once":          {"well", "well"},
		"failing at once":       {"share-missing", "share-missing"},
		"one miss is nothing":   {"well refused well refused well", "well well well well well"},
		"two misses in a row":   {"well refused refused", "well well refused"},
		"two kinds of misses":   {"well refused broken", "well well broken"},
		"well again after two":  {"well refused refused well well", "well well refused refused well"},
		"comes and goes":        {"refused well refused well", "refused refused refused refused"},
		"read-only is a change": {"well read-only read-only", "well well read-only"},
	} {
		var now Health
		misses := 0
		var got []string
		for look := range strings.FieldsSeq(c.looks) {
			now, misses = Judge(now, misses, Health(look))
			got = append(got, string(now))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
	for _, h := range []Health{ReadOnly, ShareMissing, FolderMissing, Refused, Broken, Silent} {
		if h.Words() == "" {
			t.Errorf("%s says nothing", h)
		}
		if h.Failing() == (h == ReadOnly || h == Refused) {
			t.Errorf("%s fails: %v", h, h.Failing())
		}
	}
}
