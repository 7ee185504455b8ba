package worker

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/replica"
)

// hotFolders is how much changes in the folders of a replica: those that change most
// are looked at between the looks at all. The zero value knows of none.
type hotFolders struct {
	mu      sync.Mutex
	folders map[string]float64
	began   time.Time // since when the figures fade
	changed time.Time // when something last did
}

// Heat fades by half in so long; at most so many folders are remembered, and
// looked at together.
const (
	halfLife    = 30 * time.Minute
	mostHot     = 1000
	hotTogether = 40
	leastHeat   = 0.05
)

// add notes changes in a folder.
func (w *hotFolders) add(folder string, changes int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.folders == nil {
		w.folders = map[string]float64{}
	}
	w.changed = time.Now()
	w.fade(w.changed)
	if _, known := w.folders[folder]; !known && len(w.folders) >= mostHot {
		return
	}
	w.folders[folder] += min(float64(changes), 10)
}

// fade lets all become cooler with time.
func (w *hotFolders) fade(now time.Time) {
	steps := int(now.Sub(w.began) / halfLife)
	if steps < 1 {
		return
	}
	w.began = now
	for folder, heat := range w.folders {
		for range min(steps, 10) {
			heat /= 2
		}
		if w.folders[folder] = heat; heat < leastHeat {
			delete(w.folders, folder)
		}
	}
}

// hottest are the folders in which most changes.
func (w *hotFolders) hottest() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.fade(time.Now())
	list := slices.SortedFunc(maps.Keys(w.folders), func(a, b string) int { return cmp.Or(cmp.Compare(w.folders[b], w.folders[a]), cmp.Compare(a, b)) })
	return list[:min(len(list), hotTogether)]
}

// rest is how long the hottest folders are left alone after a look: the longer, the longer ago the last
// change is.
func (w *hotFolders) rest() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return min(max(time.Since(w.changed)/hotRestShare, hotPause), mostResting)
}

// Between two looks at the hottest folders at least so long passes, more when nothing changes, and ten
// times as long as one takes. Folders that have to be looked at again are not to wait so long: lanes
// leave what is in them alone until then. They take half of the time at most.
const (
	hotPause     = time.Second
	hotRestShare = 2 * restShare
	hotShare     = 10
)

// calm is how seldom is asked whether a folder has to be looked at again: that comes from what has changed.
func (w *hotFolders) calm() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return restedPause(time.Since(w.changed))
}

// partialScans looks at the hottest folders, and at those that have to be looked at again, until
// the next look at all is due, somebody wants one, or ctx ends. When a folder is found
// gone, that look is due sooner.
func (p *replicaWorker) partialScans(ctx context.Context, until, sooner time.Time) {
	hotAgain := time.Now().Add(p.hot.rest())
	pause := hotPause
	for {
		if p.folderGone.Load() && sooner.Before(until) {
			until = sooner
		}
		left := time.Until(until)
		if left <= 0 {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-p.look:
			return
		case <-time.After(min(left, p.nextPartial(pause, hotAgain))):
		}
		folders := p.round.engine.Again(ctx, replica.ID(p.ID))
		hot := !p.follows.Load() && time.Until(until) >= hotPause && !time.Now().Before(hotAgain)
		if hot {
			folders = append(folders, p.hot.hottest()...)
			hotAgain = time.Now().Add(p.hot.rest())
		}
		if len(folders) == 0 {
			pause = min(2*pause, p.hot.calm())
			continue
		}
		began := time.Now()
		done, err := p.round.engine.PartialScan(ctx, replica.ID(p.ID), folders)
		if err != nil { // the next look at all says so
			return
		}
		if done.Changed > 0 {
			p.ringAll()
		}
		took := time.Since(began)
		pause = max(hotPause, took)
		if again := time.Now().Add(hotShare * took); hot && again.After(hotAgain) {
			hotAgain = again
		}
	}
}

// nextPartial is how long to wait before the next look at some folders.
func (p *replicaWorker) nextPartial(pause time.Duration, hotAgain time.Time) time.Duration {
	if p.follows.Load() {
		return pause
	}
	return min(pause, max(time.Until(hotAgain), hotPause))
}
