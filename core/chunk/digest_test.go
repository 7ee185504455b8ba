package chunk

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestDigestText(t *testing.T) {
	var known Digest
	for i := range known {
		known[i] = byte(255 - i)
	}
	numbers, err := json.Marshal([32]byte(known))
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range []Digest{{}, known} {
		text, err := json.Marshal(d)
		if err != nil || len(text) > 2+64 {
			t.Errorf("%s, %v", text, err)
		}
		back := Digest{1}
		if err := json.Unmarshal(text, &back); err != nil || back != d {
			t.Errorf("%s was read as %x, %v", text, back, err)
		}
	}
	var before Digest
	if err := json.Unmarshal(numbers, &before); err != nil || before != known {
		t.Errorf("as it was written before: %x, %v", before, err)
	}
	for _, bad := range []string{`"ab"`, `"` + strings.Repeat("xy", 32) + `"`, `7`, `["a"]`} {
		if err := json.Unmarshal([]byte(bad), new(Digest)); err == nil {
			t.Errorf("%s is read", bad)
		}
	}
}
