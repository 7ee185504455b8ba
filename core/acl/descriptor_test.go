package acl

import (
	"errors"
	"fmt"
	"testing"
)

func ExampleParse() {
	a, _ := Parse("O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;WD)")
	b, _ := FromBinary(a.Binary())
	fmt.Println(a == b)
	fmt.Println(b)
	// Output:
	// true
	// O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;WD)
}

func TestRoundTrip(t *testing.T) {
	for _, text := range []string{
		"O:BAG:BAD:(A;;FA;;;SY)",
		"O:S-1-5-21-1-2-3-1101G:S-1-5-21-1-2-3-513D:PAI(A;OICI;FA;;;BA)(D;;FA;;;S-1-5-21-1-2-3-1102)",
		"O:S-1-22-1-0G:S-1-22-2-0D:AI(A;OICIID;0x1200a9;;;WD)",
	} {
		d, err := Parse(text)
		if err != nil {
			t.Fatalf("Parse(%q): %v", text, err)
		}
		back, err := FromBinary(d.Binary())
		if err != nil || back != d {
			t.Errorf("%q: binary round trip gives %q, %v", text, back, err)
		}
		again, err := Parse(d.String())
		if err != nil || again != d {
			t.Errorf("%q: text round trip gives %q, %v", text, again, err)
		}
	}
}

func TestMalformed(t *testing.T) {
	for _, b := range [][]byte{nil, {1}, make([]byte, 19), {1, 0, 4, 128, 255, 255, 255, 255, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, make([]byte, MaxBinary+1)} {
		if _, err := FromBinary(b); !errors.Is(err, ErrMalformed) {
			t.Errorf("FromBinary(%d bytes) = %v, want ErrMalformed", len(b), err)
		}
	}
	for _, text := range []string{"O:", "D:(A;;FA;;;", "nonsense"} {
		if _, err := Parse(text); !errors.Is(err, ErrMalformed) {
			t.Errorf("Parse(%q) = %v, want ErrMalformed", text, err)
		}
	}
}

func FuzzFromBinary(f *testing.F) {
	d, _ := Parse("O:BAG:BAD:PAI(A;OICI;FA;;;BA)(D;;FA;;;WD)")
	f.Add(d.Binary())
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := FromBinary(b)
		if err != nil {
			return
		}
		if again, err := FromBinary(d.Binary()); err != nil || again != d {
			t.Fatalf("canonical form is not stable: %v", err)
		}
	})
}
