package model

import (
	"time"

	"bridgespan/core/finding"
	"bridgespan/core/plan"
)

// ReplicaPlan is what will come of a replica set, before it is made.
type ReplicaPlan struct {
	Run       Run               `json:"run"`
	Asked     NewReplicaSet     `json:"asked" doc:"What the set is to be made of"`
	Summary   string            `json:"summary,omitempty" doc:"The plan in a few sentences; absent until it is done"`
	Outcome   finding.Severity  `json:"outcome,omitempty" enum:"pass,warn,fail" doc:"The worst of its checks; absent until it is done"`
	Checks    []finding.Finding `json:"checks" doc:"What was looked at"`
	Places    []PlanPlace       `json:"places" doc:"What the replicas hold now"`
	Layouts   []PlanLayout      `json:"layouts" doc:"How each layout will do, the one that was asked for first"`
	Intake    int64             `json:"intake,omitempty" doc:"Bytes of intake that the largest files need side by side"`
	Steps     []string          `json:"steps" doc:"What making the set will do, in order"`
	Costs     *CloudCosts       `json:"costs,omitempty" doc:"What the bucket of a cloud set will cost; absent of other sets"`
	CanCreate bool              `json:"canCreate" doc:"Whether nothing stands in its way"`
}

// CloudCosts is what the provider of a bucket will charge for.
type CloudCosts struct {
	Currency     string  `json:"currency,omitempty" doc:"Currency; absent: the prices of the account are not known, and amounts of money are 0"`
	StoredBytes  int64   `json:"storedBytes" doc:"Bytes in the bucket once it is filled"`
	Stored       float64 `json:"stored" doc:"Price of storing them, per month"`
	FillBytes    int64   `json:"fillBytes" doc:"Bytes that the first fill reads from the bucket"`
	Fill         float64 `json:"fill" doc:"Price of reading them, once"`
	MonthlyBytes int64   `json:"monthlyBytes" doc:"Bytes of changes that edges read from the bucket per month, without contents fetched on first use"`
	Monthly      float64 `json:"monthly" doc:"Price of reading them, per month"`
}

// PlanPlace is what a replica holds now, and what the first fill means for it.
type PlanPlace struct {
	Replica string       `json:"replica" doc:"Name of the replica"`
	Seed    bool         `json:"seed" doc:"Whether its content wins"`
	There   bool         `json:"there" doc:"Whether its folder is there already"`
	Content plan.Content `json:"content" doc:"What it holds now"`
	Equal   plan.Count   `json:"equal" doc:"Files that the seed holds with the same size and time: they are read and adopted without being carried"`
	Differ  plan.Count   `json:"differ" doc:"Files that the seed holds otherwise, with the seed's bytes: its own go to the attic"`
	Extra   plan.Count   `json:"extra" doc:"Files that the seed does not hold: they go to the attic"`
	Missing plan.Count   `json:"missing" doc:"Files that only the seed holds"`
	Free    int64        `json:"free" doc:"Bytes free on its volume"`
}

// PlanLayout is how a layout will do.
type PlanLayout struct {
	Layout  string     `json:"layout" enum:"mesh,hub,chain,custom" doc:"The layout"`
	Asked   bool       `json:"asked" doc:"Whether it is the one that was asked for"`
	Filled  *time.Time `json:"filled,omitempty" doc:"When the last replica has had its first fill; absent when one never has"`
	Endless bool       `json:"endless" doc:"Whether more changes in a week than a lane carries: its backlog grows without end"`
	Fills   []PlanFill `json:"fills" doc:"Each replica but the seed"`
	Lanes   []PlanLane `json:"lanes" doc:"Each lane"`
	Legs    []PlanLeg  `json:"legs" doc:"Each leg that lanes cross"`
}

// PlanLeg is what crosses a leg between two sites, both ways together.
type PlanLeg struct {
	From   string `json:"from" doc:"Name of a site"`
	To     string `json:"to" doc:"Name of the other site"`
	First  int64  `json:"first" doc:"Bytes of the first fill"`
	Weekly int64  `json:"weekly" doc:"Bytes that change in a week"`
}

// PlanFill is how a replica will be filled, and how far behind it will be then.
type PlanFill struct {
	Replica string     `json:"replica" doc:"Name of the replica"`
	From    string     `json:"from,omitempty" doc:"The replica that fills it"`
	Bytes   int64      `json:"bytes" doc:"Bytes that are carried to it"`
	Start   *time.Time `json:"start,omitempty" doc:"When its first fill begins"`
	End     *time.Time `json:"end,omitempty" doc:"When it ends; absent when it never does"`
	MedianS int64      `json:"medianS" doc:"Seconds that half of the changes take to get there, at most"`
	P95S    int64      `json:"p95S" doc:"Seconds that 95 of 100 changes take at most"`
}

// PlanLane is what a lane has to carry, and what fits.
type PlanLane struct {
	From   string  `json:"from" doc:"Name of the replica that sends"`
	To     string  `json:"to" doc:"Name of the replica that receives"`
	Mbit   float64 `json:"mbit" doc:"Mbit/s of the leg"`
	First  int64   `json:"first" doc:"Bytes of the first fill"`
	Weekly int64   `json:"weekly" doc:"Bytes that change in a week and go this way"`
	Fits   int64   `json:"fits" doc:"Bytes that its week lets through"`
}

// ReplicaCreation is how far the making of a set is.
type ReplicaCreation struct {
	Run   Run    `json:"run"`
	Set   string `json:"set" doc:"Name of the set"`
	Steps []Step `json:"steps" doc:"What making it does, one after the other"`
}
