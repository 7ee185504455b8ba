package model

import (
	"bridgespan/core/acl"
	"bridgespan/core/namespace"
)

// Seen is a signpost as somebody sees it.
type Seen struct {
	Entry    int64     `json:"entry" doc:"Number of the entry"`
	Path     string    `json:"path" doc:"Full path of the signpost"`
	Location string    `json:"location,omitempty" doc:"Where they are led: SERVER/SHARE[/FOLDER]"`
	Reason   string    `json:"reason,omitempty" doc:"Why there"`
	Level    acl.Level `json:"level,omitempty" doc:"What they may do there; absent when nobody was named"`
	Closed   string    `json:"closed,omitempty" doc:"Why they cannot open it"`
	Letter   string    `json:"letter,omitempty" doc:"Drive letter of the signpost"`
	// First is the direction behind it, for other use cases.
	First *namespace.Direction `json:"-"`
}

// Lens is a namespace as somebody sees it.
type Lens struct {
	Namespace string `json:"namespace"`
	From      string `json:"from,omitempty"`
	As        string `json:"as,omitempty"`
	Seen      []Seen `json:"seen" doc:"Every signpost, in the order of the paths"`
}
