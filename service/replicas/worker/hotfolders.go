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

// hotFolders counts recent changes by folder. The folders with most changes are scanned between
// full scans. The zero value has no folders.
type hotFolders struct {
	mu      sync.Mutex
	folders map[string]float64
	began   time.Time // when heat was last halved
	changed time.Time // time of the last change
}

// Heat halves within halfLife. At most mostHot folders are kept, and hotTogether of them scanned
// together.
const (
	halfLife    = 30 * time.Minute
	mostHot     = 1000
	hotTogether = 40
	leastHeat   = 0.05
)

// add counts changes in a folder.
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

// fade halves the heat of all folders for each half-life that has passed.
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

// hottest returns the folders with the most changes.
func (w *hotFolders) hottest() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.fade(time.Now())
	list := slices.SortedFunc(maps.Keys(w.folders), func(a, b string) int { return cmp.Or(cmp.Compare(w.folders[b], w.folders[a]), cmp.Compare(a, b)) })
	return list[:min(len(list), hotTogether)]
}

// rest is the pause between two scans of the hottest folders. It grows with the time since the last
// change.
func (w *hotFolders) rest() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return min(max(time.Since(w.changed)/hotRestShare, hotPause), mostResting)
}

// Scans of the hottest folders are at least hotPause apart, more when nothing changes, and take at most a
// tenth of the time. Folders that have to be scanned again take at most half of the time: lanes
// skip their items until then.
const (
	hotPause     = time.Second
	hotRestShare = 2 * restShare
	hotShare     = 10
)

// calm is the longest pause between two checks for folders to scan again. Only changes add such folders.
func (w *hotFolders) calm() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return restedPause(time.Since(w.changed))
}

// partialScans scans the hottest folders, and those to scan again, until the next full scan is
// due or requested, or ctx ends. When a folder was removed, the full scan is due
// sooner.
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
		case <-p.notified.bell:
		case <-time.After(min(left, p.nextPartial(pause, hotAgain))):
		}
		folders := append(p.round.engine.Again(ctx, replica.ID(p.ID)), p.changedNow(ctx)...)
		hot := !p.follows.Load() && !p.Swept && time.Until(until) >= hotPause && !time.Now().Before(hotAgain)
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
		if err != nil { // the next full scan reports it
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

// nextPartial is the pause before the next partial scan.
func (p *replicaWorker) nextPartial(pause time.Duration, hotAgain time.Time) time.Duration {
	if p.follows.Load() || p.Swept {
		return pause
	}
	return min(pause, max(time.Until(hotAgain), hotPause))
}
