package fronts

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
	"bridgespan/records"
)

// writer keeps the folder of one front up to date.
type writer struct {
	*Service
	front model.Front
	news  chan struct{} // rung when the namespace may have changed
	stop  context.CancelFunc
	ended chan struct{}

	have  []front.Entry // entries that the folder has
	read  time.Time     // state of the namespace that have was written from; zero: unknown
	check chan struct{} // rung when a check is due soon

	first atomic.Pointer[[]string] // hosts that links lead to first

	looking sync.Mutex
	toCheck map[string]bool // paths written since the last check; a part of them when there are many
}

// keeps reports whether the writer already uses the settings of a front.
func (w *writer) keeps(f model.Front) bool {
	return w.front.Version == f.Version && w.front.Host == f.Host && w.front.Site == f.Site && w.front.Namespace == f.Namespace && w.front.Server == f.Server
}

const (
	retrySoon    = time.Second
	retryLate    = 15 * time.Second
	compareEvery = 5 * time.Minute // full comparison: the folder may have been changed on the host
	helloEvery   = 3 * time.Second // check that the mover answers
	together     = 1000            // changes in one request
	checkEvery   = 5 * time.Minute
	checkSoon    = 2 * time.Second // after a change, so that one check covers several
)

// run keeps the front up to date until ctx ends. After each connection to its mover, it compares all entries.
func (w *writer) run(ctx context.Context) {
	pause := retrySoon
	for ctx.Err() == nil {
		began := time.Now()
		err := w.at(ctx, w.front, func(at moverfront.Client) error { return w.follow(ctx, at) })
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return
		}
		w.is(ctx, model.FrontAway, err.Error())
		if time.Since(began) > retryLate {
			pause = retrySoon
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, retryLate)
	}
}

// checks runs checks until ctx ends: at intervals, and soon after changes.
func (w *writer) checks(ctx context.Context) {
	server, share := w.front.Server, w.front.Share // other fields belong to run
	all := time.NewTicker(checkEvery)
	defer all.Stop()
	for ctx.Err() == nil {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-w.check:
			select {
			case <-ctx.Done():
				return
			case <-time.After(checkSoon):
			}
			err = w.checkChanged(ctx, server, share, w.takeChanged())
		case <-all.C:
			_, err = w.Check(ctx, server, share, model.AskFrontCheck{})
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("a front cannot be checked", "front", server+"/"+share, "error", err)
		}
	}
}

// noteChanged records written paths for the next check.
func (w *writer) noteChanged(changes []front.Change) {
	w.looking.Lock()
	defer w.looking.Unlock()
	for _, c := range changes[:min(len(changes), mostAlone+1)] {
		if len(w.toCheck) > mostAlone {
			break
		}
		w.toCheck[c.Path] = true
	}
}

func (w *writer) takeChanged() map[string]bool {
	w.looking.Lock()
	defer w.looking.Unlock()
	changed := w.toCheck
	w.toCheck = map[string]bool{}
	return changed
}

// follow compares all entries, then writes changes until an error occurs.
func (w *writer) follow(ctx context.Context, at moverfront.Client) error {
	whole, hello := time.NewTicker(compareEvery), time.NewTicker(helloEvery)
	defer whole.Stop()
	defer hello.Stop()
	started, err := at.Hello(ctx)
	if err == nil {
		err = w.compare(ctx, at, true)
	}
	if err != nil {
		return err
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-w.news:
			if err := w.renew(ctx, at); err != nil {
				return err
			}
		case <-whole.C:
			if err := w.compare(ctx, at, true); err != nil {
				return err
			}
		case <-hello.C:
			if again, err := at.Hello(ctx); err != nil || again != started {
				return err // the mover was restarted: read its entries again
			}
			if w.read.IsZero() { // some entries could not be written
				if err := w.renew(ctx, at); err != nil {
					return err
				}
			}
		}
	}
}

// renew writes changed entries. After a failed write, it compares all entries.
func (w *writer) renew(ctx context.Context, at moverfront.Client) error {
	if w.read.IsZero() {
		return w.compare(ctx, at, false)
	}
	return w.write(ctx, at, false)
}

// compare reads the entries of the folder, and writes the differences; told: the number of differences is
// stored.
func (w *writer) compare(ctx context.Context, at moverfront.Client, told bool) error {
	found, _, err := at.Look(ctx)
	if err != nil {
		return err
	}
	if o, _, err := at.Offered(ctx); err == nil && len(o.Missing) > 0 && len(o.ByHand) == 0 {
		if err := at.Offer(ctx, w.front.Comment); err != nil { // a setting of the mover was changed by hand
			slog.Warn("a front is not offered as it is to be", "front", name(w.front), "error", err)
		}
	}
	if !found.There {
		if err := at.Make(ctx); err != nil {
			return err
		}
	}
	w.have, w.read = found.Entries, time.Time{}
	w.front.Foreign = found.Foreign
	return w.write(ctx, at, told)
}

// write writes the difference between have and the namespace; whole: it follows a full comparison.
func (w *writer) write(ctx context.Context, at moverfront.Client, whole bool) error {
	want, left, read, err := w.naming.Front(ctx, w.front.Namespace, w.front.Settings())
	switch {
	case fault.KindOf(err) == fault.NotFound: // the branch was moved: keep what people see
		w.is(ctx, model.FrontFailing, err.Error())
		return nil
	case err != nil && ctx.Err() == nil:
		slog.Warn("a front stays as it was last written", "front", name(w.front), "error", err)
		return nil
	case err != nil || read.Equal(w.read):
		return nil
	}
	changes := front.Changes(w.have, want)
	var failed []moverfront.Outcome
	for part := range slices.Chunk(changes, together) {
		if len(changes) > together {
			w.is(ctx, model.FrontWriting, "")
		}
		bad, err := at.Write(ctx, part)
		if err != nil {
			return err
		}
		failed = append(failed, bad...)
	}
	w.noteChanged(changes)
	w.have, w.read = want, read
	if len(failed) > 0 {
		w.read = time.Time{} // compare before the next try
	}
	w.note(ctx, want, left, len(changes), whole, failed)
	return nil
}

// mostLeftOut is the maximum number of omitted signposts that are stored.
const mostLeftOut = 50

// note stores the result of a write.
func (w *writer) note(ctx context.Context, want []front.Entry, left []front.LeftOut, changes int, whole bool, failed []moverfront.Outcome) {
	f := &w.front
	before := *f
	now := time.Now().UTC().Truncate(time.Microsecond)
	f.Folders, f.Links = 0, 0
	bad := map[string]bool{}
	for _, o := range failed {
		bad[o.Path] = true
	}
	for _, e := range want {
		if bad[e.Path] {
			continue
		}
		if e.Link() {
			f.Links++
		} else {
			f.Folders++
		}
	}
	f.LeftOut = left[:min(len(left), mostLeftOut)]
	if changes -= len(failed); changes > 0 {
		f.Written = &now
		ring(w.check)
	}
	if whole {
		f.CaughtUp, f.CaughtUpChanges = &now, int64(changes)
	}
	state, trouble := model.FrontCurrent, ""
	if len(failed) > 0 {
		state, trouble = model.FrontFailing, fmt.Sprintf("%d entries cannot be written, such as %s: %s", len(failed), failed[0].Path, failed[0].Trouble)
	}
	first := firstHosts(want)
	w.first.Store(&first)
	if changes == 0 && !whole && before.State == state && before.Trouble == trouble && len(before.LeftOut) == len(f.LeftOut) {
		return
	}
	w.keep(ctx, state, trouble, now)
}

// is stores a state.
func (w *writer) is(ctx context.Context, state, trouble string) {
	if w.front.State != state || w.front.Trouble != trouble {
		w.keep(ctx, state, trouble, time.Now().UTC().Truncate(time.Microsecond))
	}
}

func (w *writer) keep(ctx context.Context, state, trouble string, now time.Time) {
	f := &w.front
	if f.State != state {
		f.Since = &now
	}
	f.State, f.Trouble = state, trouble
	err := w.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.StoreFront(ctx, *f); err != nil {
			return err
		}
		return tx.Tell(ctx, "front-state", name(*f), now)
	})
	if err != nil && ctx.Err() == nil {
		slog.Warn("how a front is cannot be kept", "front", name(*f), "error", err)
		return
	}
	w.changed()
}

// firstHosts returns the hosts that links lead to first.
func firstHosts(entries []front.Entry) []string {
	hosts := map[string]bool{}
	for _, e := range entries {
		if e.Link() {
			host, _, _ := strings.Cut(e.To[0], `\`)
			hosts[namespace.Key(host)] = true
		}
	}
	return slices.Sorted(maps.Keys(hosts))
}
