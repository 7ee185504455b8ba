package calendar

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"bridgespan/core/fault"
)

func must(t testing.TB, text string) Week {
	t.Helper()
	w, err := Parse("calendar", text)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func ExampleWeek_Through() {
	w, _ := Parse("calendar", "full; mon-fri 8-18 2")
	// 20 GB over 20 Mbit/s, from Friday noon on.
	friday := time.Date(2026, 3, 6, 12, 0, 0, 0, time.UTC)
	at, _ := w.Through(friday, 20e9, 20)
	fmt.Println(at.Format("Mon 15:04"), "–", w.Words(friday))
	// Output: Fri 19:37 – 2 Mbit/s until Fri 18:00
}

func TestText(t *testing.T) {
	for text, want := range map[string]string{
		"full":                                   "full",
		"off":                                    "off",
		" FULL ; Mon-Fri 8-18 off ":              "full; mon-fri 8-18 off",
		"20":                                     "20",
		"off; sat,sun full":                      "off; sat-sun full",
		"full; sat-mon off":                      "full; mon off; sat-sun off",
		"8-18 off":                               "off",
		"off; 20-6 full":                         "off; 0-6 full; 20-24 full",
		"off; sun 20-6 full":                     "off; mon 0-6 full; sun 20-24 full",
		"off; fri-sat 22-0 5":                    "off; fri-sat 22-24 5",
		"full; 8-18 off":                         "full; 8-18 off",
		"0.5; tue 0-1 full; tue 23-24 1000":      "0.5; tue 0-1 full; tue 23-24 1000",
		"full; mon-fri 8-18 off; wed 12-13 full": "full; mon-tue 8-18 off; wed 8-12 off; wed 13-18 off; thu-fri 8-18 off",
	} {
		w, err := Parse("calendar", text)
		if err != nil || w.String() != want {
			t.Errorf("%q: %q, %v; want %q", text, w, err, want)
		}
	}
	for text, want := range map[string]string{
		"":                 "at least one rule",
		" ; ":              "at least one rule",
		"fast":             "neither off, full nor",
		"-3":               "neither off, full nor",
		"NaN":              "neither off, full nor",
		"mon-fry off":      "no days",
		"mon 8-8 off":      "no hours",
		"mon 25-8 off":     "no hours",
		"mon -1-8 off":     "no hours",
		"mon 8-25 off":     "no hours",
		"mon 8 off":        "no hours",
		"mon 8-9 9-10 off": "too much",
		"full; lunch off":  `"lunch off" is not a rule`,
	} {
		_, err := Parse("week", text)
		var f *fault.Error
		if !errors.As(err, &f) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

func TestCapacity(t *testing.T) {
	monday := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		week     string
		from, to time.Duration // from Monday 0:00
		way      float64
		want     int64
	}{
		{"full", 0, time.Hour, 8, 3600e6},
		{"full", 0, 0, 8, 0},
		{"full", time.Hour, 0, 8, 0},
		{"off", 0, 48 * time.Hour, 8, 0},
		{"4", 0, time.Hour, 8, 1800e6},
		{"40", 0, time.Hour, 8, 3600e6}, // the way carries no more
		{"full; mon 8-18 off", 0, 24 * time.Hour, 8, 14 * 3600e6},
		{"full; mon 8-18 off", 7*time.Hour + 30*time.Minute, 18*time.Hour + 15*time.Minute, 8, 45 * 60 * 1e6},
		{"full; sun off", 0, 7 * 24 * time.Hour, 8, 6 * 24 * 3600e6},
	} {
		w := must(t, c.week)
		if got := w.Capacity(monday.Add(c.from), monday.Add(c.to), c.way); got != c.want {
			t.Errorf("%q from %v to %v: %d, want %d", c.week, c.from, c.to, got, c.want)
		}
	}
	w := must(t, "full; sun off")
	if got := w.Weekly(8); got != 6*24*3600e6 {
		t.Errorf("a week: %d", got)
	}
}

// The summer that begins has an hour less, by the clock on the wall.
func TestClocksChange(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("this machine knows no time zones:", err)
	}
	w := must(t, "full; sun 8-18 off")
	day := time.Date(2026, 3, 29, 0, 0, 0, 0, berlin)
	if got := w.Capacity(day, day.AddDate(0, 0, 1), 8); got != 13*3600e6 {
		t.Errorf("the day has %v open hours, want 13", float64(got)/3600e6)
	}
	if next := w.Next(day); next.Hour() != 8 || next.Sub(day) != 7*time.Hour {
		t.Errorf("closes at %v", next)
	}
}

func TestNext(t *testing.T) {
	monday := time.Date(2026, 3, 2, 7, 59, 30, 0, time.UTC)
	w := must(t, "full; mon-fri 8-18 off")
	if next := w.Next(monday); !next.Equal(monday.Add(30 * time.Second)) {
		t.Errorf("closes at %v", next)
	}
	if next := w.Next(monday.AddDate(0, 0, 4).Add(12 * time.Hour)); next.Weekday() != time.Monday || next.Hour() != 8 {
		t.Errorf("after Friday evening it closes at %v", next)
	}
	always := Always()
	if next := always.Next(monday); !next.IsZero() {
		t.Errorf("a week without bounds changes at %v", next)
	}
	if got := Outside([]time.Weekday{time.Monday, time.Tuesday, time.Wednesday, time.Thursday, time.Friday}, 8, 18, Off); got != w {
		t.Errorf("outside office hours: %v", got)
	}
}

// What is through at a moment is what fits until then.
func TestThroughAgreesWithCapacity(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		var w Week
		for i := range w {
			w[i] = []Rate{Off, Full, 5, 50}[random.IntN(4)]
		}
		from := time.Date(2026, 1, 1, 0, 0, random.IntN(1e7), 0, time.UTC)
		bytes := int64(random.Uint64N(uint64(20 * w.Weekly(20))))
		at, ok := w.Through(from, bytes, 20)
		if got := w.Capacity(from, at, 20); !ok || got < bytes-20e6 || got > bytes+20e6 {
			t.Fatalf("%d bytes from %v are through at %v, %v: %d fit until then", bytes, from, at, ok, got)
		}
	}
	var closed Week
	if at, ok := closed.Through(time.Now(), 1, 20); ok || !closed.Closed() {
		t.Errorf("through at %v", at)
	}
	if _, ok := closed.Through(time.Now(), 0, 20); !ok {
		t.Error("nothing is through at once")
	}
}

func FuzzParse(f *testing.F) {
	f.Add("full; mon-fri 8-18 off; sat 10-14 20")
	f.Add("0.5")
	f.Fuzz(func(t *testing.T, text string) {
		w, err := Parse("calendar", text)
		if err != nil {
			return
		}
		again, err := Parse("calendar", w.String())
		if err != nil || again != w {
			t.Errorf("%q is written %q, and read again %v, %v", text, w, again, err)
		}
	})
}
