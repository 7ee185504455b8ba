package plan

import (
	"math"
	"testing"
)

func TestPrices(t *testing.T) {
	p := Prices{Currency: "EUR", Stored: 0.02, Out: 0.08}
	if got := p.StoredFor(500e9); math.Abs(got-10) > 1e-9 {
		t.Errorf("500 GB cost %g a month", got)
	}
	if got := p.OutFor(25e9); math.Abs(got-2) > 1e-9 {
		t.Errorf("25 GB cost %g to read", got)
	}
	if !p.Known() || (Prices{Stored: 1}).Known() {
		t.Error("prices without a currency say nothing")
	}
}

func TestAmountsOf(t *testing.T) {
	seed := Content{Count: Count{Files: 10, Bytes: 100e9}, Weekly: 7e9}
	month := Monthly(7e9)
	if month < 30e9 || month > 31e9 {
		t.Errorf("a gigabyte a day is %d a month", month)
	}
	for what, c := range map[string]struct {
		readers []Reader
		want    Amounts
	}{
		"nobody else":       {nil, Amounts{Stored: 100e9}},
		"whole files":       {[]Reader{{Missing: 100e9}, {Missing: 40e9}}, Amounts{100e9, 140e9, 2 * month}},
		"up to the line":    {[]Reader{{Missing: 100e9, Stubs: true, Room: 30e9}}, Amounts{100e9, 30e9, month}},
		"on first use":      {[]Reader{{Missing: 100e9, Stubs: true}}, Amounts{Stored: 100e9}},
		"less than no room": {[]Reader{{Missing: 100e9, Stubs: true, Room: -5}}, Amounts{Stored: 100e9}},
	} {
		if got := AmountsOf(seed, c.readers); got != c.want {
			t.Errorf("%s: %+v, want %+v", what, got, c.want)
		}
	}
}
