package sets

import (
	"bridgespan/core/calendar"
	"bridgespan/core/fault"
	"bridgespan/model"
)

// ReadCalendar reads a calendar in one of its two forms, and tells it in both.
func ReadCalendar(c model.Calendar) (model.Calendar, error) {
	var week calendar.Week
	switch {
	case c.Text != "":
		var err error
		if week, err = calendar.Parse("text", c.Text); err != nil {
			return c, err
		}
	case len(c.Hours) == calendar.Hours:
		for i, rate := range c.Hours {
			if rate < 0 {
				rate = float64(calendar.Full)
			}
			week[i] = calendar.Rate(rate)
		}
	default:
		return c, fault.Field("hours", "give 168 hours, or a text", "a week has 168 hours, not %d", len(c.Hours))
	}
	c.Text, c.Hours = week.String(), make([]float64, calendar.Hours)
	for i, rate := range week {
		c.Hours[i] = float64(rate)
	}
	return c, nil
}
