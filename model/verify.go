package model

import "bridgespan/core/verify"

// Verification is whether a location holds what another one holds.
type Verification struct {
	Run         Run                 `json:"run"`
	Path        string              `json:"path" doc:"Full path of the signpost"`
	Location    string              `json:"location" doc:"What is verified: the second"`
	Against     string              `json:"against" doc:"What it is compared with: the first"`
	Counts      verify.Counts       `json:"counts" doc:"What was found; so far, while it runs"`
	Differences []verify.Difference `json:"differences" doc:"The first 200 in the order of the paths, those that are explained after the others"`
	Verdict     string              `json:"verdict,omitempty" doc:"What came of it, in words; absent until it is done"`
	Opened      bool                `json:"opened" doc:"Whether people are led there since"`
}
