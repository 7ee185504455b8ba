package calendar

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"bridgespan/core/fault"
)

var dayNames = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// Parse reads a week in text form: rules one after another, of which later ones
// override earlier ones, for example
//
//	full; mon-fri 8-18 off; sat 10-14 20
//
// A rule is days (a name, a range, several with commas; all days when absent),
// hours (a range from one o'clock to another, such as 8-18; one such as 20-6 ends in the
// morning of the next day; all day when absent), and a rate: off, full, or Mbit/s. What no rule names is off. The fault is at field.
func Parse(field, text string) (w Week, err error) {
	said := false
	for rule := range strings.SplitSeq(text, ";") {
		words := strings.Fields(strings.ToLower(rule))
		if len(words) == 0 {
			continue
		}
		if err := w.rule(words); err != nil {
			return Week{}, fault.Field(field, `write rules such as "full; mon-fri 8-18 off; sat 10-14 20"`, "%q is not a rule of a calendar: %v", strings.TrimSpace(rule), err)
		}
		said = true
	}
	if !said {
		return Week{}, fault.Field(field, `write "full" for a week without bounds, or "off"`, "a calendar needs at least one rule")
	}
	return w, nil
}

func (w *Week) rule(words []string) error {
	rate, err := parseRate(words[len(words)-1])
	if err != nil {
		return err
	}
	words = words[:len(words)-1]
	days, from, to := []int{0, 1, 2, 3, 4, 5, 6}, 0, 24
	if len(words) > 0 && words[0][0] > '9' {
		if days, err = parseDays(words[0]); err != nil {
			return err
		}
		words = words[1:]
	}
	if len(words) > 0 {
		if from, to, err = parseHours(words[0]); err != nil {
			return err
		}
		words = words[1:]
	}
	if len(words) > 0 {
		return fmt.Errorf("%q is too much", strings.Join(words, " "))
	}
	for _, day := range days {
		for hour := from; hour < to; hour++ {
			w[(day*24+hour)%Hours] = rate
		}
	}
	return nil
}

func parseRate(word string) (Rate, error) {
	switch word {
	case "off":
		return Off, nil
	case "full":
		return Full, nil
	}
	mbit, err := strconv.ParseFloat(word, 64)
	if err != nil || math.IsNaN(mbit) || mbit <= 0 || mbit > 1e6 {
		return 0, fmt.Errorf("%q is neither off, full nor a number of Mbit/s up to 1000000", word)
	}
	return Rate(mbit), nil
}

func parseDays(word string) (days []int, err error) {
	for part := range strings.SplitSeq(word, ",") {
		first, last, isRange := strings.Cut(part, "-")
		from, to := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if !isRange {
			to = from
		}
		if from < 0 || to < 0 {
			return nil, fmt.Errorf("%q are no days: use %s", part, strings.Join(dayNames, " "))
		}
		for day := from; ; day = (day + 1) % 7 {
			days = append(days, day)
			if day == to {
				break
			}
		}
	}
	return days, nil
}

func parseHours(word string) (from, to int, err error) {
	first, last, ok := strings.Cut(word, "-")
	from, err1 := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	if !ok || err1 != nil || err2 != nil || from < 0 || to < 0 || from > 24 || to > 24 || from == to {
		return 0, 0, fmt.Errorf("%q are no hours: use a range such as 8-18, or 20-6 into the next day, within 0-24", word)
	}
	if to < from { // in the next day
		to += 24
	}
	return from, to, nil
}

// String is a text form that Parse reads: as few rules as describe the week day
// by day.
func (w Week) String() string {
	usual := w.usual()
	rules := []string{usual.String()}
	for day := 0; day < 7; {
		last := day
		for last+1 < 7 && w.day(last+1) == w.day(day) {
			last++
		}
		days := dayNames[day]
		if last > day {
			days += "-" + dayNames[last]
		}
		if day == 0 && last == 6 {
			days = ""
		}
		for hour := 0; hour < 24; {
			end := hour + 1
			for end < 24 && w[day*24+end] == w[day*24+hour] {
				end++
			}
			if rate := w[day*24+hour]; rate != usual {
				hours := fmt.Sprintf("%d-%d", hour, end)
				if hour == 0 && end == 24 {
					hours = ""
				}
				rules = append(rules, strings.Join(strings.Fields(days+" "+hours+" "+rate.String()), " "))
			}
			hour = end
		}
		day = last + 1
	}
	return strings.Join(rules, "; ")
}

func (w *Week) day(day int) [24]Rate { return [24]Rate(w[day*24 : day*24+24]) }

// usual is the rate of most hours.
func (w *Week) usual() Rate {
	hours := map[Rate]int{}
	usual := w[0]
	for _, r := range w {
		if hours[r]++; hours[r] > hours[usual] || hours[r] == hours[usual] && r < usual {
			usual = r
		}
	}
	return usual
}

// String is off, full or Mbit/s without the unit.
func (r Rate) String() string {
	switch {
	case r == Off:
		return "off"
	case r < 0:
		return "full"
	}
	return strconv.FormatFloat(float64(r), 'f', -1, 64)
}

func (w Week) MarshalText() ([]byte, error) { return []byte(w.String()), nil }

func (w *Week) UnmarshalText(text []byte) error {
	parsed, err := Parse("calendar", string(text))
	*w = parsed
	return err
}

// Words says when a moment's rate ends: "off until Mon 18:00".
func (w *Week) Words(t time.Time) string {
	rate := w.At(t).String()
	if r := w.At(t); r > 0 {
		rate += " Mbit/s"
	}
	if next := w.Next(t); !next.IsZero() {
		return rate + " until " + next.Format("Mon 15:04")
	}
	return rate + " all week"
}
