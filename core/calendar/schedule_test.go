package calendar

import (
	"testing"
	"time"
)

func TestSchedules(t *testing.T) {
	monday := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"daily 12:00":     "2026-03-03 12:00",
		"daily 12:01":     "2026-03-02 12:01",
		"mon 11:59":       "2026-03-09 11:59",
		"tue-thu 02:30":   "2026-03-03 02:30",
		"sat,sun 23:00":   "2026-03-07 23:00",
		"fri-mon 00:00":   "2026-03-06 00:00",
		"every 15m":       "2026-03-02 12:15",
		"EVERY 36h":       "2026-03-04 00:00",
		"mon,tue,wed 7:5": "2026-03-03 07:05",
	} {
		s, err := ParseSchedule("rule", text)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if got := s.Next(monday).Format("2006-01-02 15:04"); got != want {
			t.Errorf("%q is due at %s, want %s", text, got, want)
		}
		if again, err := ParseSchedule("rule", s.String()); err != nil || again != s {
			t.Errorf("%q is written as %q, which is read as %+v, %v", text, s, again, err)
		}
	}
	for _, bad := range []string{"", "daily", "daily 24:00", "daily 12:60", "someday 12:00", "every 1s", "every now", "every 1000h", "mon 1200", "mon 12:00 13:00"} {
		if s, err := ParseSchedule("rule", bad); err == nil {
			t.Errorf("%q is read as %q", bad, s)
		}
	}
	if at := (Schedule{}).Next(monday); !at.IsZero() {
		t.Errorf("what is never due is due at %s", at)
	}
}

// When clocks are put forward, a time that is left out is not forgotten.
func TestScheduleWhenClocksChange(t *testing.T) {
	place, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	s, err := ParseSchedule("rule", "daily 01:30")
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 28, 12, 0, 0, 0, place) // the night in which 1:00 becomes 2:00
	for range 3 {
		next := s.Next(at)
		if d := next.Sub(at); d < 12*time.Hour || d > 25*time.Hour {
			t.Errorf("after %s it is due at %s", at, next)
		}
		at = next
	}
}
