package calendar

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"bridgespan/core/fault"
)

// Schedule says when work is done again: at a time of some days, or after a
// while. The zero value is never due.
type Schedule struct {
	Days   [7]bool // from Monday on
	Minute int     // of the day, by the clock on the wall
	Every  time.Duration
}

// ParseSchedule reads a schedule in text form: days and a time ("mon-fri 02:30",
// "sat,sun 23:00", "daily 04:00"), or how often ("every 15m", "every 6h"). The
// fault is at field.
func ParseSchedule(field, text string) (s Schedule, err error) {
	words := strings.Fields(strings.ToLower(text))
	if len(words) != 2 {
		return s, fault.Field(field, `write "mon-fri 02:30", "daily 04:00" or "every 6h"`, "%q does not say when", text)
	}
	if words[0] == "every" {
		every, err := time.ParseDuration(words[1])
		if err != nil || every < time.Minute || every > 31*24*time.Hour {
			return s, fault.Field(field, `write "every 15m" or "every 6h": from a minute to 31 days (744h)`, "%q is not a while", words[1])
		}
		return Schedule{Every: every}, nil
	}
	days := []int{0, 1, 2, 3, 4, 5, 6}
	if words[0] != "daily" {
		if days, err = parseDays(words[0]); err != nil {
			return s, fault.Field(field, `write "mon-fri 02:30", "daily 04:00" or "every 6h"`, "%v", err)
		}
	}
	for _, day := range days {
		s.Days[day] = true
	}
	hour, minute, ok := strings.Cut(words[1], ":")
	h, err1 := strconv.Atoi(hour)
	m, err2 := strconv.Atoi(minute)
	if !ok || err1 != nil || err2 != nil || h < 0 || h > 23 || m < 0 || m > 59 {
		return Schedule{}, fault.Field(field, "write a time such as 02:30", "%q is not a time of the day", words[1])
	}
	s.Minute = h*60 + m
	return s, nil
}

// Next is the first time after t at which the work is due, by the clock of t's
// location; zero when it never is. A time that clocks leave out is due when they
// have gone on.
func (s Schedule) Next(t time.Time) time.Time {
	if s.Every > 0 {
		return t.Add(s.Every)
	}
	for day := range 8 {
		at := time.Date(t.Year(), t.Month(), t.Day()+day, s.Minute/60, s.Minute%60, 0, 0, t.Location())
		if s.Days[(int(at.Weekday())+6)%7] && at.After(t) {
			return at
		}
	}
	return time.Time{}
}

// String is the text form.
func (s Schedule) String() string {
	if s.Every > 0 {
		return "every " + strings.TrimSuffix(strings.TrimSuffix(s.Every.String(), "0s"), "0m")
	}
	var days []string
	for i, on := range s.Days {
		if on {
			days = append(days, dayNames[i])
		}
	}
	names := strings.Join(days, ",")
	if len(days) == 7 {
		names = "daily"
	}
	return fmt.Sprintf("%s %02d:%02d", names, s.Minute/60, s.Minute%60)
}
