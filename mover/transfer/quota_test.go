package transfer

import (
	"testing"
	"testing/synctest"
	"time"
)

// An intake tells since when the first of those waits for whom there is no room.
func TestQuota(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		e := &Endpoint{Quota: 100}
		began := time.Now()
		enter := func(bytes int64) func() {
			leave, err := e.enter(t.Context(), bytes)
			if err != nil {
				t.Error(err)
			}
			return leave
		}
		tell := func(used int64, full time.Time) {
			t.Helper()
			synctest.Wait()
			if u, f := e.Intake(); u != used || !f.Equal(full) {
				t.Errorf("%d bytes, full since %v; want %d, %v", u, f, used, full)
			}
		}
		first := enter(60)
		tell(60, time.Time{})
		time.Sleep(time.Minute)
		second, third := make(chan func(), 1), make(chan func(), 1)
		go func() { second <- enter(300) }() // more than all of it
		synctest.Wait()
		time.Sleep(time.Minute)
		go func() { third <- enter(50) }()
		tell(60, began.Add(time.Minute))
		first()
		leave := <-second
		tell(100, began.Add(time.Minute))
		leave()
		leave = <-third
		tell(50, time.Time{})
		leave()
		tell(0, time.Time{})
	})
}
