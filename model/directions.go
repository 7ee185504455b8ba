package model

import (
	"time"

	"bridgespan/core/namespace"
)

// Directions say where one path leads one person at one site.
type Directions struct {
	Path     string `json:"path" doc:"The path that was asked for"`
	Kind     string `json:"kind" enum:"folder,signpost" doc:"folder: a plain folder of the namespace; signpost: the path lies at or below one"`
	Signpost string `json:"signpost,omitempty" doc:"Full path of the signpost"`
	Rest     string `json:"rest,omitempty" doc:"What follows below the signpost: the path inside each location"`
	From     string `json:"from,omitempty" doc:"Site that was asked from"`
	As       string `json:"as,omitempty" doc:"Account that was asked for"`
	TTL      int    `json:"ttl" doc:"For how many seconds this may be kept"`
	Returns  string `json:"returns" enum:"at-once,later" doc:"Whether to come back to a preferred location at once when it is well again, or when this runs out"`
	Through  string `json:"through,omitempty" doc:"Front that gives them, as SERVER/SHARE; absent: the gateway"`
	Opens    string `json:"opens,omitempty" doc:"What a person types to open the path through the front"`
	Fresh    bool   `json:"fresh,omitempty" doc:"Whether it was read for this answer, past everything that is remembered"`
	// Hiding is true when people see only what they may open.
	Hiding bool `json:"-"`
	// ReadAt tells how fresh the answer is: it lags only while the database is away.
	ReadAt     time.Time             `json:"readAt" doc:"When the namespace was last read from the records"`
	Directions []namespace.Direction `json:"directions" doc:"The locations in the order in which they are to be tried"`
	// May is asked of the file server, and so only when somebody wants it.
	May        *EffectiveRights `json:"may,omitempty" doc:"What the account may do at the first location that is open; absent unless rights were asked for"`
	MayTrouble string           `json:"mayTrouble,omitempty" doc:"Why that cannot be told now"`
	Names      []string         `json:"names,omitempty" doc:"Names in the folder, when the path is one"`
}
