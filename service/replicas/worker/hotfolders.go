package worker

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/replica"
	"bridgespan/service/replicas/sets"
)

// hotFolders is how much changes in the folders of a replica: those that change most
// are looked at between the looks at all. The zero value knows of none.
type hotFolders struct {
	mu      sync.Mutex
	folders map[string]float64
	began   time.Time // since when the figures fade
	quiet   int       // looks since the last change
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
	w.quiet = 0
	w.fade(time.Now())
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

// rest is how long the hottest folders are left alone after a look: a little longer each time that
// nothing has changed.
func (w *hotFolders) rest() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.quiet++
	return min(hotPause+time.Duration(w.quiet)*hotLonger, hotMost)
}

// Between two looks at the hottest folders at least so long passes, up to five times as long when
// nothing changes, and ten times as long as one takes. Folders that have to be looked at again are not to wait so long: lanes
// leave what is in them alone until then. They take half of the time at most.
const (
	hotPause  = time.Second
	hotLonger = 100 * time.Millisecond
	hotMost   = 5 * time.Second
	hotShare  = 10
)

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
		case <-time.After(min(left, pause)):
		}
		folders := p.round.engine.Again(ctx, replica.ID(p.ID))
		hot := !p.follows.Load() && left >= pause && time.Now().After(hotAgain)
		if hot {
			folders = append(folders, p.hot.hottest()...)
		}
		if len(folders) == 0 {
			pause = min(2*pause, sets.LeastPause)
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
		if hot {
			hotAgain = time.Now().Add(max(hotShare*took, p.hot.rest()))
		}
	}
}
