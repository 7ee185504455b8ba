package model

import (
	"time"

	"bridgespan/core/namespace"
)

// LocationCheck is how a location was found just now.
type LocationCheck struct {
	Path     string           `json:"path" doc:"Full path of the signpost"`
	Location string           `json:"location" doc:"SERVER/SHARE[/FOLDER]"`
	Health   namespace.Health `json:"health" enum:",well,read-only,share-missing,folder-missing,refused,broken,silent" doc:"How it was found"`
	Text     string           `json:"text,omitempty" doc:"What is wrong, in words"`
}

// HealthSpell is a time during which a location was found in one way.
type HealthSpell struct {
	Location string           `json:"location" doc:"SERVER/SHARE[/FOLDER]"`
	Health   namespace.Health `json:"health" enum:",well,read-only,share-missing,folder-missing,refused,broken,silent"`
	Text     string           `json:"text,omitempty" doc:"What was wrong, in words"`
	From     time.Time        `json:"from"`
	To       *time.Time       `json:"to,omitempty" doc:"Absent while it lasts"`
}

// LocationChecks are the results of a check.
type LocationChecks struct {
	Locations []LocationCheck `json:"locations"`
}

// HealthHistory is how locations were found over time.
type HealthHistory struct {
	Spells []HealthSpell `json:"spells" doc:"Latest first"`
}
