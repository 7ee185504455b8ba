package estimates

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
)

// leastRead is how much must have been read at once for its rate to tell anything, in
// bytes.
const leastRead = 1 << 20

// indexBytes is what the index of a store takes for each chunk while it works.
const indexBytes = 64

// Plan tells when the work could be done: the first pass, and each later one.
func (s *Service) Plan(ctx context.Context, name string, asked model.NewDedupPlan) (model.DedupPlan, error) {
	v, err := s.db.DedupVolume(ctx, name)
	if err != nil {
		return model.DedupPlan{}, err
	}
	points, err := s.db.Estimates(ctx, v.ID, trendLength)
	if err != nil {
		return model.DedupPlan{}, err
	}
	i := slices.IndexFunc(points, func(p model.EstimatePoint) bool { return p.ReadBytes >= leastRead && p.ReadMs > 0 })
	if i < 0 {
		return model.DedupPlan{}, fault.New(fault.Needed, "let an estimate read it whole, then plan", "how fast %s reads was not measured yet", v.Name)
	}
	latest, err := s.Get(ctx, points[0].Run)
	if err != nil {
		return model.DedupPlan{}, err
	}
	if latest.Found == nil {
		return model.DedupPlan{}, fault.New(fault.Needed, "estimate it again, then plan", "what was found of %s is gone", v.Name)
	}
	mbit := math.Round(float64(points[i].ReadBytes)*8/1e3/float64(points[i].ReadMs)*10) / 10
	begins := time.Now()
	if asked.Begins != nil {
		begins = asked.Begins.Local()
	}
	var backups calendar.Week
	if asked.Backups != nil {
		backups = *asked.Backups
	}
	t := &latest.Found.Totals
	p := model.DedupPlan{Volume: v, Memory: t.Different * indexBytes, Busy: float64(points[i].BusyMs) / float64(points[i].ReadMs), Of: runtime.NumCPU(), Warnings: []finding.Finding{}}
	p.Nights = dedup.Plan(asked.Week, backups, begins, t.InPolicy.Bytes, perDay(latest.Found.Curve), mbit)
	p.Warnings = append(p.Warnings, planWarnings(&p.Nights)...)
	p.Summary = planWords(&p)
	p.ICalendar = events(&p)
	return p, nil
}

// perDay is how many bytes change in a day, from how old what is there is.
func perDay(curve []dedup.AgePoint) int64 {
	at := func(days int) int64 {
		i := slices.IndexFunc(curve, func(p dedup.AgePoint) bool { return p.Days == days })
		if i < 0 {
			return 0
		}
		return curve[i].Bytes
	}
	return (at(0) - at(7)) / 7
}

func planWarnings(n *dedup.Nights) (list []finding.Finding) {
	add := func(level finding.Severity, says, means, remedy string) {
		list = append(list, finding.New(level, "volume", "", says, means, remedy))
	}
	if len(n.Windows) == 0 {
		add(finding.Fail, "it may never work", "the calendar is off all week", "leave some hours free, such as: off; mon-fri 20-24 full; sat full")
		return list
	}
	if n.First.Done.IsZero() {
		add(finding.Fail, "the first pass would never be done", "the windows are too short for what is in policy", "leave more hours free, or raise the pace")
	}
	if !n.Keeps {
		add(finding.Fail, "it would never keep up", fmt.Sprintf("%s change in a day, more than a day's part of the windows can read", humanize.IBytes(uint64(n.Later.Bytes))), "leave more hours free, or ask for a greater least age")
	}
	shared, hours := 0, 0
	for _, w := range n.Windows {
		if w.Backup > 0 {
			shared, hours = shared+1, hours+w.Backup
		}
	}
	if shared > 0 {
		add(finding.Warn, fmt.Sprintf("%s of the week %s with a backup, for %s", english.Plural(shared, "window", ""), map[bool]string{true: "is shared", false: "are shared"}[shared == 1], english.Plural(hours, "hour", "")), "both read the same disks, and both take longer", "begin later, or end sooner")
	}
	return list
}

func planWords(p *model.DedupPlan) string {
	n := &p.Nights
	if n.First.Done.IsZero() {
		return "In these hours the first pass would never be done."
	}
	text := fmt.Sprintf("The first pass reads %s in %s of work, over %s, and is done on %s.", humanize.IBytes(uint64(n.First.Bytes)), duration(n.First.Hours), english.Plural(n.First.Windows, "window", ""), n.First.Done.Format("Monday 2 January, 15:04"))
	return text + fmt.Sprintf(" Each later day's pass reads %s in %s.", humanize.IBytes(uint64(n.Later.Bytes)), duration(n.Later.Hours))
}

func duration(hours float64) string {
	switch {
	case hours < 1.0/60:
		return "less than a minute"
	case hours < 2:
		return fmt.Sprintf("%.0f minutes", hours*60)
	}
	return fmt.Sprintf("%.1f hours", hours)
}

// events are a plan's windows as an iCalendar object (RFC 5545): each is an event
// that is repeated every week, by the clock on the wall (form 1 of section 3.3.5).
func events(p *model.DedupPlan) string {
	const local = "20060102T150405"
	c := ics.NewCalendarFor("Bridge Span")
	c.SetProductId("-//Bridge Span//Deduplication//EN")
	c.SetMethod(ics.MethodPublish)
	begins := p.Nights.Begins
	for _, w := range p.Nights.Windows {
		day := begins.AddDate(0, 0, (int(w.Day)-int(begins.Weekday())+7)%7)
		start := time.Date(day.Year(), day.Month(), day.Day(), w.From, 0, 0, 0, begins.Location())
		e := c.AddEvent(fmt.Sprintf("volume-%d-%d-%d@bridgespan", p.Volume.ID, w.Day, w.From))
		e.SetDtStampTime(now())
		e.SetProperty(ics.ComponentPropertyDtStart, start.Format(local))
		e.SetProperty(ics.ComponentPropertyDtEnd, start.Add(time.Duration(w.Hours)*time.Hour).Format(local))
		e.AddRrule("FREQ=WEEKLY")
		e.SetSummary("Deduplication of " + p.Volume.Name)
		e.SetDescription(fmt.Sprintf("Pace: %s. %s", w.Pace, p.Summary))
		e.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return c.Serialize(ics.WithNewLineWindows)
}
