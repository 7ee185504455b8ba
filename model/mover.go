package model

// States of a mover's program.
const (
	MoverCurrent     = "current"
	MoverOutdated    = "outdated"
	MoverUnreachable = "unreachable"
)

// Mover is a host with a mover, and the program that runs there.
type Mover struct {
	Server  string   `json:"server" doc:"Name of the server"`
	Site    string   `json:"site" doc:"Site where it stands"`
	Version string   `json:"version,omitempty" doc:"Version of its mover; absent when it does not report one"`
	State   string   `json:"state" enum:"current,outdated,unreachable" doc:"current: it runs the build of this service; outdated: it runs another one"`
	Edges   []string `json:"edges" doc:"Cloud sets with an edge there"`
	Problem string   `json:"problem,omitempty" doc:"Why it does not answer, why it cannot be updated, or why its latest update was undone"`
	Unable  bool     `json:"unable,omitempty" doc:"Whether its program cannot be replaced"`
}

// UpdateMovers asks for movers to be updated to the build of the service, one after the other.
type UpdateMovers struct {
	Servers []string `json:"servers,omitempty" maxItems:"1000" doc:"Names of the servers; all with an outdated mover when absent"`
	ForMin  int      `json:"forMin,omitempty" minimum:"0" maximum:"1440" doc:"Minutes after which no further update begins; absent for no limit"`
}

// ScheduleMoverUpdates saves updates of movers that are made again and again.
type ScheduleMoverUpdates struct {
	UpdateMovers
	Rule string `json:"rule" doc:"When: \"sun 02:30\" or \"daily 04:00\""`
}

// States of the update of a mover.
const (
	UpdateWaiting  = "waiting"
	UpdateUnderWay = "under-way"
	UpdateDone     = "updated"
	UpdateNeedless = "current"
	UpdateFailed   = "failed"
	UpdateSkipped  = "skipped"
)

// MoverUpdates is a run that updates movers.
type MoverUpdates struct {
	Run    Run            `json:"run"`
	Movers []UpdatedMover `json:"movers" doc:"The movers, in the order in which they are updated"`
}

// UpdatedMover is what came of the update of a mover.
type UpdatedMover struct {
	Server  string `json:"server" doc:"Name of the server"`
	From    string `json:"from,omitempty" doc:"Version before"`
	State   string `json:"state" enum:"waiting,under-way,updated,current,failed,skipped" doc:"current: it ran the build of the service already; skipped: the window ended, or the update before it failed"`
	Problem string `json:"problem,omitempty" doc:"Why it failed or was skipped"`
	TookMs  int64  `json:"tookMs,omitempty" doc:"How long it took until its edges were ready again, in milliseconds"`
}
