package estimates

import (
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/model"
)

func TestCheck(t *testing.T) {
	for name, c := range map[string]struct {
		asked model.NewEstimate
		field string // "" when it is taken
	}{
		"nothing said":  {model.NewEstimate{}, ""},
		"all said":      {model.NewEstimate{Priority: "low", Pace: 20, Counting: model.Counting{Budget: dedup.LeastBudget, Policy: filter.Rules{MinDays: 3}}}, ""},
		"little memory": {model.NewEstimate{Counting: model.Counting{Budget: dedup.LeastBudget - 1}}, "budgetBytes"},
		"no priority":   {model.NewEstimate{Priority: "urgent"}, "priority"},
		"backwards":     {model.NewEstimate{Pace: -1}, "paceMbit"},
		"no age":        {model.NewEstimate{Counting: model.Counting{Policy: filter.Rules{MinDays: -1}}}, "policy.minDays"},
		"no pattern":    {model.NewEstimate{Counting: model.Counting{Policy: filter.Rules{LeaveOut: []string{"*.db", "[/"}}}}, "policy.leaveOut[1]"},
	} {
		err := check(&c.asked)
		e, _ := err.(*fault.Error)
		if c.field == "" && (err != nil || c.asked.Budget == 0 || c.asked.Priority == "") || c.field != "" && (e == nil || e.Field != c.field || e.Remedy == "") {
			t.Errorf("%s: %v, %+v", name, err, c.asked)
		}
	}
}

func TestOverlap(t *testing.T) {
	place := func(text string) model.DedupPlace {
		parts := append(strings.SplitN(text, "/", 3), "")
		return model.DedupPlace{Server: parts[0], Share: parts[1], Sub: parts[2]}
	}
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"fern/scans", "fern/scans", true}, {"fern/scans", "fern/scans/raw", true}, {"fern/scans/raw", "fern/scans/raw/2026", true}, {"fern/scans/Raw", "fern/scans/raw", true},
		{"fern/scans/raw", "fern/scans/rawer", false}, {"fern/scans", "heather/scans", false}, {"fern/scans", "fern/ledgers", false}, {"fern/scans/a", "fern/scans/b", false},
	} {
		if overlap(place(c.a), place(c.b)) != c.want || overlap(place(c.b), place(c.a)) != c.want {
			t.Errorf("%s and %s: not %v", c.a, c.b, c.want)
		}
	}
}

func TestPlaceOf(t *testing.T) {
	v := model.DedupVolume{Name: "all", Places: []model.DedupPlace{{Server: "fern", Share: "scans", Sub: "raw"}, {Server: "fern", Share: "ledgers"}}}
	for text, c := range map[string]struct {
		place  int
		inside string
		bad    bool
	}{
		"fern/scans/raw": {0, "", false}, "FERN/Scans/raw/2026/": {0, "2026", false}, "fern/ledgers": {1, "", false}, "fern/ledgers/a/b": {1, "a/b", false},
		"fern/scans": {bad: true}, "fern/scans/rawer": {bad: true}, "heather/ledgers": {bad: true}, "fern": {bad: true},
	} {
		place, inside, err := placeOf(v, text)
		if (err != nil) != c.bad || !c.bad && (place != c.place || inside != c.inside) || c.bad && fault.KindOf(err) != fault.Invalid {
			t.Errorf("%s: %d, %q, %v", text, place, inside, err)
		}
	}
}

func TestJudge(t *testing.T) {
	in := dedup.Left{Files: 10, Bytes: 1000}
	for name, c := range map[string]struct {
		totals dedup.Totals
		want   []string
		asked  model.Counting
	}{
		"good":          {dedup.Totals{Bytes: 1000, InPolicy: in, Saving: dedup.Exact(500), Sampled: 1}, nil, model.Counting{}},
		"nothing":       {dedup.Totals{Bytes: 1000, Sampled: 1}, []string{"the policy leaves nothing"}, model.Counting{}},
		"never read":    {dedup.Totals{Bytes: 1000, InPolicy: in, Sampled: 1, Saving: dedup.Exact(1), Left: []dedup.Left{{Why: dedup.NotYet, Files: 2, Bytes: 500}}}, []string{"500 B in 2 files were never read"}, model.Counting{}},
		"little unread": {dedup.Totals{Bytes: 100_000, InPolicy: in, Sampled: 1, Saving: dedup.Exact(1), Left: []dedup.Left{{Why: dedup.NotYet, Files: 2, Bytes: 500}}}, nil, model.Counting{}},
		"wide":          {dedup.Totals{Bytes: 1000, InPolicy: in, Sampled: 8, Saving: dedup.Figure{Bytes: 500, Low: 400, High: 600}}, []string{"the interval is wide"}, model.Counting{}},
		"costs":         {dedup.Totals{Bytes: 1000, InPolicy: in, Sampled: 1, Saving: dedup.Exact(-5)}, []string{"it would cost space"}, model.Counting{}},
		"not exact":     {dedup.Totals{Bytes: 1000, InPolicy: in, Sampled: 2, Saving: dedup.Figure{Bytes: 500, Low: 499, High: 501}}, []string{"not every chunk was counted"}, model.Counting{Exact: true}},
	} {
		var got []string
		for _, w := range judge(&dedup.Found{Totals: c.totals}, c.asked) {
			got = append(got, w.Found)
			if w.Meaning == "" || w.Remedy == "" {
				t.Errorf("%s: %+v", name, w)
			}
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

func TestPlanWords(t *testing.T) {
	if got := perDay([]dedup.AgePoint{{Days: 0, Bytes: 1000}, {Days: 3, Bytes: 900}, {Days: 7, Bytes: 300}}); got != 100 {
		t.Errorf("%d bytes change in a day", got)
	}
	week, err := calendar.Parse("week", "off; mon-fri 20-24 full")
	if err != nil {
		t.Fatal(err)
	}
	friday := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		all, daily int64
		mbit       float64
		want       string
		warnings   int
	}{
		"a night":    {45e9, 0, 100, "in 60 minutes of work, over 1 window, and is done on Friday 27 November, 21:00", 0},
		"two nights": {270e9, 9e9, 100, "in 6.0 hours of work, over 2 windows, and is done on Monday 30 November, 22:00", 0},
		"too much":   {45e9, 500e9, 100, "Each later day's pass reads 466 GiB", 1},
	} {
		p := model.DedupPlan{Nights: dedup.Plan(week, calendar.Week{}, friday, c.all, c.daily, c.mbit)}
		if got := planWords(&p); !strings.Contains(got, c.want) {
			t.Errorf("%s: %s", name, got)
		}
		if got := planWarnings(&p.Nights); len(got) != c.warnings {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

func TestLeftOut(t *testing.T) {
	l, err := newLeftOut(filter.Rules{MinDays: 30, Smallest: 10, LeaveOut: []string{"cache/", "*.db", "nowhere/"}})
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]bool{"a.txt": true, "cache/a.txt": false, "deep/cache/a": false, "x.DB": false} {
		// What is too young now is read all the same: it shows what age would save.
		if got := l.wants(&dedup.Record{Path: path, Size: 100, Modified: time.Now()}); got != want {
			t.Errorf("%s: %v", path, got)
		}
	}
	if l.wants(&dedup.Record{Path: "small", Size: 9}) {
		t.Error("what is too small is read")
	}
	if w := l.warnings(); len(w) != 1 || !strings.Contains(w[0].Found, "nowhere/") {
		t.Errorf("%+v", w)
	}
}

func TestProofWords(t *testing.T) {
	for want, p := range map[string]model.Proof{
		"It has not come to its end.":        {},
		"2 files came out otherwise":         {Came: &model.ProofPoint{}, Different: []string{"a", "b"}},
		"100 B were foretold, 0.50% too few": {Came: &model.ProofPoint{Files: 3, Bytes: 500, Real: 100, Predicted: 100, Off: -0.5}},
		"4 files were left alone":            {Came: &model.ProofPoint{Files: 3}, Skipped: 4},
	} {
		if got := proofWords(&p); !strings.Contains(got, want) {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// A plan reckons with how fast it reads when nothing holds it up.
func TestUnhindered(t *testing.T) {
	for name, c := range map[string]struct {
		priority             string
		readMs, waited, want int64
	}{
		"not held up":        {"normal", 1000, 0, 1000},
		"one of two waited":  {"normal", 1000, 500, 750},
		"both waited":        {"normal", 1000, 1800, 100},
		"alone":              {"low", 1000, 900, 100},
		"for longer than it": {"low", 1000, 1500, 1},
		"nothing was read":   {"high", 0, 0, 0},
	} {
		e := &estimating{asked: model.NewEstimate{Priority: c.priority}}
		e.waited.Store(c.waited * int64(time.Millisecond))
		if got := e.unhindered(c.readMs); got != c.want {
			t.Errorf("%s: %d ms, want %d", name, got, c.want)
		}
	}
}
