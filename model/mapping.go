package model

import (
	"time"

	"bridgespan/core/mapping"
)

// AskMappings asks for drives and mount points.
type AskMappings struct {
	For    string         `json:"for" query:"for" required:"true" maxLength:"255" doc:"Account of a person or group"`
	From   string         `json:"from,omitempty" query:"from" maxLength:"255" doc:"Site where they are"`
	Format mapping.Format `json:"format" query:"format" required:"true" enum:"batch,powershell,autofs,fstab,csv"`
}

// Mappings are the drives and mount points of somebody.
type Mappings struct {
	AskMappings
	Namespace string            `json:"namespace"`
	Mappings  []mapping.Mapping `json:"mappings"`
	Through   string            `json:"through,omitempty" doc:"Front that they lead through: they stay right when a server behind a signpost changes; absent where they lead straight to servers"`
	Closed    []string          `json:"closed" doc:"Signposts that are left out, and why"`
	Changes   []string          `json:"changes" doc:"What changed since they were last handed out"`
	Last      *time.Time        `json:"last,omitempty" doc:"When they were last handed out; absent when never"`
	Text      string            `json:"text" doc:"All of it in the format that was asked for"`
}

// Handout is what somebody was last given.
type Handout struct {
	For     string    `json:"for"`
	From    string    `json:"from,omitempty"`
	At      time.Time `json:"at"`
	Who     string    `json:"who" doc:"User who handed them out"`
	Changes []string  `json:"changes" doc:"What changed since: hand them out again"`
	Trouble string    `json:"trouble,omitempty" doc:"Why that cannot be told now"`
}

// Handouts are what was handed out.
type Handouts struct {
	Handouts []Handout `json:"handouts"`
}
