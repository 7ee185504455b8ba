package model

import (
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
)

// Application is what a document does to a namespace, or would do.
type Application struct {
	Namespace string                   `json:"namespace"`
	Created   bool                     `json:"created" doc:"Whether the namespace is new"`
	Settings  []string                 `json:"settings" doc:"What changes about the namespace itself"`
	Steps     []namespace.DocumentStep `json:"steps" doc:"What is done to entries, in order"`
	Rehearsed bool                     `json:"rehearsed" doc:"Whether this only tells what would be done"`
	// Fingerprint is of the namespace as it was before.
	Fingerprint string `json:"fingerprint" doc:"Of the namespace before: send it with the application, so that it does exactly this or nothing"`
}

// FixFlaw asks for the action of a flaw to be done.
type FixFlaw struct {
	Action   finding.Action `json:"action" doc:"The action, as the flaw has it"`
	Rehearse bool           `json:"rehearse,omitempty" doc:"Only tell what would be done"`
}

// Fixed is what was done about a flaw.
type Fixed struct {
	Flaw finding.Finding `json:"flaw"`
	Text string          `json:"text" doc:"What was done, or would be"`
	Run  *Run            `json:"run,omitempty" doc:"The run that does it, when it takes a while"`
}

// Flaws are what people will stumble over.
type Flaws struct {
	Flaws []finding.Finding `json:"flaws" doc:"In the order of the paths, which are their subjects; the first 2,000"`
	Total int               `json:"total" doc:"How many there are"`
	Never string            `json:"never" doc:"What cannot be there, in words"`
}
