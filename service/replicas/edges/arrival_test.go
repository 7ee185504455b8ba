package edges

import (
	"strings"
	"testing"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/forecast"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// cloudOf is a cloud set of a bucket, an edge of whole files and one of stubs, and its lanes.
func cloudOf() (*model.ReplicaSet, []forecast.Way) {
	looked := time.Now().Add(-4 * time.Hour)
	set := &model.ReplicaSet{Name: "scans", Layout: model.LayoutHub, Replicas: []model.Replica{
		{ID: 1, Name: "haar", Swept: true, Looked: &looked},
		{ID: 2, Name: "fern"},
		{ID: 3, Name: "sedge", Edge: &model.EdgePolicy{Fill: model.FillNames, Never: []string{"Loans/"}}, EdgeFigures: &model.EdgeFigures{Free: 10, Line: 100}},
	}}
	way := func(from, to replica.ID) forecast.Way {
		return forecast.Way{Lane: replica.Lane{From: from, To: to}, Mbit: 80, Calendar: calendar.Always()}
	}
	return set, []forecast.Way{way(1, 2), way(2, 1), way(1, 3), way(3, 1)}
}

// A change in the bucket is seen by the next scan; then it is sent.
func TestArrivalFromTheBucket(t *testing.T) {
	set, ways := cloudOf()
	c := arrivalsOf(set)
	places := []model.PlaceOfContent{{Content: model.ContentWhole, Size: 10e6}, {Content: model.ContentNowhere}, {Content: model.ContentNowhere}}
	c.holders(places, make([]replica.Record, 3))
	c.forecast(ways)
	haar, fern, sedge := c.found.Places[0], c.found.Places[1], c.found.Places[2]
	if !haar.Present || c.found.MadeAt != "haar" || !strings.Contains(strings.Join(haar.Reasons, ";"), "haar was not scanned since: it is scanned every 6h, next by") {
		t.Errorf("the bucket: %+v", haar)
	}
	if fern.Content == nil || fern.Name != fern.Content || fern.OnFirstUse {
		t.Fatalf("whole files: %+v", fern)
	}
	about := func(what string, at time.Time, want time.Duration) {
		t.Helper()
		if after := at.Sub(c.now); (after - want).Abs() > 2*time.Second {
			t.Errorf("%s after %s, want %s", what, after, want)
		}
	}
	about("the earliest", fern.Content.Earliest, time.Second)
	about("the expected", fern.Content.Expected, time.Hour+time.Second)
	about("the latest", fern.Content.Latest, 2*time.Hour+2*time.Second)
	if sedge.Name == nil || sedge.Content != nil || !sedge.OnFirstUse {
		t.Errorf("at its line: %+v", sedge)
	}
	set.Replicas[2].Trouble = "the server does not answer"
	c.found.Path, c.found.Places = "Loans/a.tif", nil
	c.forecast(ways)
	if sedge := c.found.Places[2]; sedge.Content == nil || sedge.OnFirstUse || sedge.Reasons[len(sedge.Reasons)-1] != "sedge: the server does not answer" {
		t.Errorf("what stays whole: %+v", sedge)
	}
}

// Where the object service reports changes, they are expected within seconds, and the sweep finds what is lost.
func TestArrivalWithNotifications(t *testing.T) {
	now := time.Now()
	at := func(before time.Duration) *time.Time { at := now.Add(-before); return &at }
	for name, of := range map[string]struct {
		notified, carried *time.Time
		want              time.Duration
	}{
		"none":                        {nil, at(time.Hour), 3 * time.Hour},
		"of the latest file":          {at(time.Hour), at(time.Hour), model.NotifiedWithin},
		"of a file before the latest": {at(time.Hour), at(time.Minute), 3 * time.Hour},
		"and nothing was sent":        {at(time.Hour), nil, model.NotifiedWithin},
	} {
		set, ways := cloudOf()
		set.Replicas[0].Notified = of.notified
		set.Lanes = []model.Lane{{From: "fern", To: "haar", LastCarried: of.carried}, {From: "haar", To: "fern", LastCarried: &now}}
		c := arrivalsOf(set)
		if err := c.change(model.AskArrival{MadeAt: "haar", Size: 1000}); err != nil {
			t.Fatal(err)
		}
		c.forecast(ways)
		fern, why := c.found.Places[1], strings.Join(c.found.Places[0].Reasons, ";")
		if fern.Content == nil || (fern.Content.Expected.Sub(c.now)-of.want).Abs() > 2*time.Second || fern.Content.Latest.Sub(c.now) < 6*time.Hour {
			t.Errorf("%s: %+v", name, fern.Content)
		}
		if strings.Contains(why, "event notifications report changes in haar") != (of.want == model.NotifiedWithin) || !strings.Contains(why, "every 6h") {
			t.Errorf("%s: %s", name, why)
		}
	}
}

// Who has the newest version is not told when it comes; what is closed for good never does.
func TestArrivalElsewhere(t *testing.T) {
	set, ways := cloudOf()
	ways[2].Calendar = calendar.Week{}
	now := time.Now()
	rec := replica.Record{Content: replica.Content{Kind: replica.File, Size: 7, Modified: now, Version: replica.Vector{}.Advance(2)}}
	c := arrivalsOf(set)
	place := model.PlaceOfContent{Content: model.ContentWhole, Size: 7, Modified: &now}
	c.holders([]model.PlaceOfContent{place, place, {Content: model.ContentNowhere}}, []replica.Record{rec, rec, {}})
	c.forecast(ways)
	if p := c.found.Places; !p[0].Present || !p[1].Present || c.found.MadeAt != "" || p[2].Present || p[2].Name != nil || p[2].Reasons[0] != "no open lane leads there" {
		t.Errorf("%+v", c.found)
	}
}

// A change that is made somewhere is there, and is seen within a pause and a look.
func TestArrivalOfAChange(t *testing.T) {
	set, ways := cloudOf()
	c := arrivalsOf(set)
	at := c.now.Add(24 * time.Hour)
	if err := c.change(model.AskArrival{MadeAt: "fern", At: at, Size: 100e6}); err != nil {
		t.Fatal(err)
	}
	c.forecast(ways)
	haar := c.found.Places[0]
	if haar.Content == nil || haar.Content.Earliest.Sub(at) < 10*time.Second || haar.Content.Latest.Sub(at) < 20*time.Second || !haar.Name.Expected.Before(haar.Content.Expected.Add(time.Nanosecond)) {
		t.Errorf("%+v of %+v", haar, haar.Content)
	}
	for _, bad := range []model.AskArrival{{MadeAt: "oak"}, {MadeAt: "fern", At: time.Now().AddDate(2, 0, 0)}} {
		if err := arrivalsOf(set).change(bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func TestMedian(t *testing.T) {
	if median(nil) != nil || *median([]int64{9}) != 9 || *median([]int64{9, 1, 5}) != 5 {
		t.Error("the median is wrong")
	}
}
