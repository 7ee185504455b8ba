package model

import (
	"time"

	"bridgespan/core/verify"
)

// UsualSample is how many files a sample has: when none of them differs, less than 1% of all do, with a confidence of 95%.
const UsualSample = 300

// VerifySet asks whether the replicas of a set hold the same.
type VerifySet struct {
	Level  string `json:"level,omitempty" enum:"names,sample,full" doc:"names (when absent): names, sizes, times, attributes and permissions; sample: the contents of files chosen at random as well; full: every byte as well"`
	Sample int    `json:"sample,omitempty" minimum:"1" maximum:"100000" doc:"How many files a sample has; 300 when absent"`
	// WithinCalendar spares legs in business hours.
	WithinCalendar bool `json:"withinCalendar,omitempty" doc:"Whether contents are read only while the lane between both is open, and no faster than it may carry; a file that is being read when it closes is read to its end"`
}

// ReplicaVerification is whether the replicas of a set hold the same.
type ReplicaVerification struct {
	Run      Run               `json:"run"`
	Set      string            `json:"set" doc:"Name of the set"`
	Level    string            `json:"level" enum:"names,sample,full" doc:"What was compared"`
	Sample   int               `json:"sample,omitempty" doc:"How many files were to be read, of a sample"`
	Against  string            `json:"against" doc:"The replica that the others are compared with: the seed"`
	Replicas []VerifiedReplica `json:"replicas" doc:"Each of the others, as far as they are compared"`
	Verdict  string            `json:"verdict,omitempty" doc:"What came of it, in words; absent until it is done"`
}

// VerifiedReplica is whether a replica holds what the seed holds.
type VerifiedReplica struct {
	Replica     string              `json:"replica" doc:"Name of the replica"`
	Counts      verify.Counts       `json:"counts" doc:"What was found"`
	Read        int64               `json:"read" doc:"Bytes that were read at each of both"`
	Sampled     int64               `json:"sampled,omitempty" doc:"Files that were read, of a sample"`
	AtMost      float64             `json:"atMost,omitempty" doc:"Share of all files whose contents differ at most, with a confidence of 95%, of a sample"`
	Differences []verify.Difference `json:"differences" doc:"The first 50, those that are explained after the others; all are listed as findings"`
	Opened      []string            `json:"opened,omitempty" doc:"Paths of namespaces whose location here was held, and was opened by this"`
}

// VerifyFinding is one difference that a verification found.
type VerifyFinding struct {
	Replica string `json:"replica" doc:"Name of the replica"`
	verify.Difference
}

// LastVerified is what came of the last verification.
type LastVerified struct {
	Run         int64     `json:"run" doc:"Its number"`
	At          time.Time `json:"at" doc:"When it ended"`
	Level       string    `json:"level" enum:"names,sample,full" doc:"What was compared"`
	Differences int64     `json:"differences" doc:"How many were found that nothing explains"`
	Verdict     string    `json:"verdict" doc:"What came of it, in words"`
}

// ScheduleVerification saves a verification that is done again and again.
type ScheduleVerification struct {
	VerifySet
	Rule string `json:"rule" doc:"When: \"mon-fri 02:30\", \"daily 04:00\" or \"every 6h\""`
}

// DropProbe asks how long changes are on their way.
type DropProbe struct {
	From  string `json:"from,omitempty" doc:"Replica at which it is dropped; the seed when absent"`
	WaitS int    `json:"waitS,omitempty" minimum:"1" maximum:"86400" doc:"Seconds to wait for it; 3600 when absent"`
}

// ScheduleProbe saves a probe that is dropped again and again.
type ScheduleProbe struct {
	DropProbe
	Rule string `json:"rule" doc:"When: \"mon-fri 02:30\", \"daily 04:00\" or \"every 6h\""`
}

// ReplicaProbe is a marker file that was dropped at one replica and timed at the
// others.
type ReplicaProbe struct {
	Run      Run       `json:"run"`
	Set      string    `json:"set" doc:"Name of the set"`
	From     string    `json:"from" doc:"Replica at which it was dropped"`
	Arrivals []Arrival `json:"arrivals" doc:"Each of the others"`
	Left     bool      `json:"left,omitempty" doc:"Whether it could not be removed everywhere"`
}

// Arrival is when a probe arrived at a replica.
type Arrival struct {
	Replica       string `json:"replica" doc:"Name of the replica"`
	ContentMs     *int64 `json:"contentMs,omitempty" doc:"Milliseconds until it was there; absent when it did not come"`
	PermissionsMs *int64 `json:"permissionsMs,omitempty" doc:"Milliseconds until other permissions were there, since they were set"`
	ForetoldMs    *int64 `json:"foretoldMs,omitempty" doc:"Milliseconds that were to be expected: until it is seen, in the mean, until lanes are open, and for the way"`
}
