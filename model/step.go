package model

import "time"

// Step is one thing of several that are done one after the other.
type Step struct {
	Text  string     `json:"text" doc:"What is done"`
	State string     `json:"state" enum:"planned,under-way,done,awaited,failed,undone" doc:"awaited: it is done, and has a consequence that is still to come by itself"`
	Found string     `json:"found,omitempty" doc:"What came of it, or why it failed"`
	At    *time.Time `json:"at,omitempty" doc:"When it was done"`
}

// States of a step.
const (
	StepPlanned  = "planned"
	StepUnderWay = "under-way"
	StepDone     = "done"
	StepAwaited  = "awaited"
	StepFailed   = "failed"
	StepUndone   = "undone" // it was done, and was taken back
)
