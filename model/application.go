package model

import "bridgespan/core/namespace"

// Application is what a document does to a namespace, or would do.
type Application struct {
	Namespace string           `json:"namespace"`
	Created   bool             `json:"created" doc:"Whether the namespace is new"`
	Settings  []string         `json:"settings" doc:"What changes about the namespace itself"`
	Steps     []namespace.Step `json:"steps" doc:"What is done to entries, in order"`
	Rehearsed bool             `json:"rehearsed" doc:"Whether this only tells what would be done"`
	// Fingerprint is of the namespace as it was before.
	Fingerprint string `json:"fingerprint" doc:"Of the namespace before: send it with the application, so that it does exactly this or nothing"`
}
