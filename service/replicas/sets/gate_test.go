package sets

import (
	"testing"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/model"
)

func TestWeekBetween(t *testing.T) {
	set := &model.ReplicaSet{Calendar: "full", Replicas: []model.Replica{{ID: 1}, {ID: 2}, {ID: 3}}, Lanes: []model.Lane{{FromID: 1, ToID: 2, Calendar: "off"}, {FromID: 3, ToID: 1, Closed: true}}}
	for name, c := range map[string]struct {
		from, to int64
		closed   bool
	}{
		"its own":           {1, 2, true},
		"closed by hand":    {1, 3, true},
		"that of the set":   {2, 3, false},
		"of the way back":   {2, 1, true},
		"of the way itself": {3, 1, true},
	} {
		week := WeekBetween(set, c.from, c.to)
		if closed := week.At(time.Now()) == calendar.Off; closed != c.closed {
			t.Errorf("%s: %v", name, closed)
		}
	}
}
