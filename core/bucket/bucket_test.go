package bucket

import (
	"errors"
	"strings"
	"testing"

	"bridgespan/core/fault"
)

func TestCheckName(t *testing.T) {
	for _, name := range []string{"trust-files", "abc", "a.b.c", "2026", strings.Repeat("a", 63)} {
		if err := CheckName("bucket", name); err != nil {
			t.Errorf("%q: %v", name, err)
		}
	}
	for name, rule := range map[string]string{
		"ab":                    "3 to 63",
		strings.Repeat("a", 64): "3 to 63",
		"Trust":                 "small letters",
		"trust_files":           `holds "_"`,
		"trüst":                 "holds",
		"-trust":                "begin and end",
		"trust.":                "begin and end",
		"tr..ust":               "two dots",
		"192.0.2.7":             "address",
		"xn--trust":             "xn--",
		"trust-s3alias":         "-s3alias",
	} {
		err := CheckName("bucket", name)
		var f *fault.Error
		if !errors.As(err, &f) || f.Field != "bucket" || !strings.Contains(f.Problem+": "+f.Remedy, rule) {
			t.Errorf("%q: %+v, want a word of %s", name, f, rule)
		}
	}
}

func TestHostStyle(t *testing.T) {
	if !HostStyle("a.b", false) || HostStyle("a.b", true) || !HostStyle("a-b", true) {
		t.Error("a certificate covers one level")
	}
}

func TestCheckKey(t *testing.T) {
	if err := CheckKey("path", strings.Repeat("ü", 512)); err != nil {
		t.Error(err)
	}
	for _, key := range []string{"", strings.Repeat("ü", 513), "a\xff", "a\nb"} {
		if err := CheckKey("path", key); fault.KindOf(err) != fault.Invalid {
			t.Errorf("%.10q: %v", key, err)
		}
	}
}

func TestPartSize(t *testing.T) {
	for _, c := range []struct{ size, want int64 }{
		{0, UsualPart}, {160_000 << 20, UsualPart}, {160_000<<20 + 1, 17 << 20}, {MostSize, 525 << 20},
	} {
		got, err := PartSize(c.size)
		if err != nil || got != c.want || got < LeastPart || got > MostPart {
			t.Errorf("of %d bytes: %d, %v; want %d", c.size, got, err, c.want)
		}
		if n := (c.size + got - 1) / got; n > MostParts {
			t.Errorf("%d bytes take %d parts", c.size, n)
		}
	}
	if _, err := PartSize(MostSize + 1); err == nil {
		t.Error("a file that is too long is cut")
	}
}

func TestMetaSize(t *testing.T) {
	if got := MetaSize(map[string]string{"hash": "ab", "at": "1"}); got != 9 {
		t.Errorf("%d bytes", got)
	}
}
