package jobs

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"bridgespan/model"
	"bridgespan/records"
)

// Job is a run as its worker sees it. Its methods may be called from several
// goroutines.
type Job struct {
	ID  int64
	Who string

	db       *records.DB
	settings []byte
	slot     *slot // nil in tests of workers alone
	began    time.Time
	before   int64 // worked in earlier parts, in milliseconds

	mu         sync.Mutex
	run        model.Run
	checkpoint []byte
	result     []byte

	keeps sync.Mutex // held while something is kept
	cut   bool       // the run was cut off, and may keep nothing any more
}

// Settings reads what is to be done.
func (j *Job) Settings(into any) error { return json.Unmarshal(j.settings, into) }

// Progress says how far the work is: files and folders, their bytes, and how
// much of all that is, from 0 to 1.
func (j *Job) Progress(done, bytes int64, fraction float64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.run.Done, j.run.Bytes, j.run.Fraction = done, bytes, fraction
}

// Waits says what the work waits for; "" when it goes on.
func (j *Job) Waits(text string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.run.Waits = text
}

func (j *Job) snapshot() model.Run {
	j.mu.Lock()
	defer j.mu.Unlock()
	r := j.run
	r.WorkedMs = j.before + time.Since(j.began).Milliseconds()
	return r
}

// Resumes reads what an earlier part of the work kept, and reports whether there was one.
func (j *Job) Resumes(into any) (bool, error) {
	if len(j.checkpoint) == 0 {
		return false, nil
	}
	return true, json.Unmarshal(j.checkpoint, into)
}

// Checkpoint keeps what the work needs to go on, and what it found so far
// (nil leaves that as it is).
func (j *Job) Checkpoint(ctx context.Context, checkpoint, result any) error {
	kept, err := json.Marshal(checkpoint)
	if err != nil {
		return err
	}
	var found []byte
	if result != nil {
		if found, err = json.Marshal(result); err != nil {
			return err
		}
	}
	j.keeps.Lock()
	defer j.keeps.Unlock()
	if j.cut {
		return errCutOff
	}
	return j.db.Checkpoint(context.WithoutCancel(ctx), j.ID, kept, found)
}

// Finish keeps what the work found.
func (j *Job) Finish(result any) error {
	found, err := json.Marshal(result)
	j.mu.Lock()
	defer j.mu.Unlock()
	j.result = found
	return err
}

// cutOff lets the work keep nothing any more.
func (j *Job) cutOff() {
	j.keeps.Lock()
	defer j.keeps.Unlock()
	j.cut = true
}

func (j *Job) finished() []byte {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.result
}
