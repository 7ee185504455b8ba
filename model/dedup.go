package model

import (
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/dedup"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
)

// DedupVolume is a volume whose deduplication is estimated: shares, or folders of
// them, that are looked at together.
type DedupVolume struct {
	ID          int64        `json:"-"`
	Name        string       `json:"name"`
	Places      []DedupPlace `json:"places"`
	Profile     string       `json:"profile" enum:"documents,disk-images,backups" doc:"How it was read"`
	Compression int          `json:"-"`
	Counted     int64        `json:"-"` // run of the estimate that was counted from the records as they are; 0 for none
	Proof       *ProofPoint  `json:"proof,omitempty" doc:"What the last proof came to"`
	Created     time.Time    `json:"created"`
}

// DedupPlace is a share, or a folder of one.
type DedupPlace struct {
	Server string `json:"server" minLength:"1" maxLength:"255"`
	Share  string `json:"share" minLength:"1" maxLength:"255"`
	Sub    string `json:"sub,omitempty" maxLength:"4000" doc:"Folder of the share; absent for all of it"`
}

// Counting says what is counted of what was read, and how.
type Counting struct {
	Policy filter.Rules `json:"policy,omitzero" doc:"What would be deduplicated"`
	Budget int64        `json:"budgetBytes,omitempty" minimum:"0" maximum:"1099511627776" doc:"Memory to count in; absent for 512 MB"`
	Exact  bool         `json:"exact,omitempty" doc:"Count every chunk, however many there are, with sorted files in the work folder; else, where memory does not do, a sample of them"`
	Anyway bool         `json:"anyway,omitempty" doc:"Also when the work folder seems to lie on the volume itself"`
}

// NewEstimate asks for an estimate.
type NewEstimate struct {
	Counting
	Name     string         `json:"name,omitempty" maxLength:"255" doc:"Name of the volume; absent for the name of its first place"`
	Places   []DedupPlace   `json:"places,omitempty" maxItems:"100" doc:"What makes up the volume; absent for a volume that was estimated before"`
	Profile  string         `json:"profile,omitempty" enum:"documents,disk-images,backups" doc:"What is in it; absent for what it was before, or documents"`
	Compress string         `json:"compress,omitempty" enum:"sample,all" doc:"Of which chunks it is measured how far they compress: of one in 16, or of all; absent for all on volumes with up to 256 GiB"`
	Priority string         `json:"priority,omitempty" enum:"low,normal,high" doc:"How many files are read side by side: 1, 2 or 4"`
	Calendar *calendar.Week `json:"calendar,omitempty" doc:"When it may read, and how fast, as rules: \"off; mon-fri 20-6 full\"; absent for always"`
	Pace     float64        `json:"paceMbit,omitempty" minimum:"0" maximum:"1000000" doc:"Mbit/s to read at most; absent for no bound"`
}

// DedupLook is what is known of a volume before it is estimated.
type DedupLook struct {
	Volume   DedupVolume       `json:"volume"`
	Why      string            `json:"profileWhy" doc:"What the profile changes, and why"`
	Places   []DedupGround     `json:"grounds" doc:"What each place lies on"`
	Warnings []finding.Finding `json:"warnings" doc:"What speaks against an estimate, or against deduplicating it at all"`
}

// DedupGround is what a place of a volume lies on.
type DedupGround struct {
	DedupPlace
	Capacity   int64  `json:"capacityBytes"`
	Free       int64  `json:"freeBytes"`
	FileSystem string `json:"fileSystem,omitempty" doc:"Where a mover tells"`
	Storage    string `json:"storage,omitempty" enum:"fixed,removable,read-only" doc:"Absent where nobody tells: SMB does not, and few servers keep it in a registry"`
}

// Estimate is an estimate as far as it is.
type Estimate struct {
	Run      Run               `json:"run"`
	Volume   DedupVolume       `json:"volume"`
	Asked    NewEstimate       `json:"asked"`
	Progress DedupProgress     `json:"progress"`
	Warnings []finding.Finding `json:"warnings" doc:"What should be known before the number is used"`
	Found    *dedup.Found      `json:"found,omitempty" doc:"What was found, once it is done"`
	Why      string            `json:"profileWhy" doc:"What the profile changes, and why"`
}

// DedupProgress is how far an estimate is.
type DedupProgress struct {
	Found      int64    `json:"files" doc:"Files that were listed"`
	FoundBytes int64    `json:"bytes"`
	ToRead     int64    `json:"toReadBytes" doc:"Of those that are new or have changed"`
	Read       int64    `json:"read" doc:"Files that were read"`
	ReadBytes  int64    `json:"readBytes"`
	ReadMs     int64    `json:"readMs" doc:"For how long it read, in milliseconds"`
	BusyMs     int64    `json:"busyMs" doc:"For how long the processors of the service were busy meanwhile, each counted by itself, in milliseconds"`
	Saved      int64    `json:"savedBytes" doc:"Of what was read now, bytes that were there already, about; before compression"`
	Trouble    int64    `json:"trouble" doc:"Files that could not be read"`
	Unlisted   int64    `json:"unlisted" doc:"Folders that could not be listed"`
	Troubles   []string `json:"troubles" doc:"Some of them, and why"`
}

// EstimateComparison is what changed between two estimates.
type EstimateComparison struct {
	Before Estimate `json:"before"`
	After  Estimate `json:"after"`
}

// WhatIf asks what another policy would save.
type WhatIf struct {
	Counting
}

// WhatIfAnswer is what another policy would save, once that is counted.
type WhatIfAnswer struct {
	Run      Run               `json:"run"`
	Volume   string            `json:"volume"`
	Asked    WhatIf            `json:"asked"`
	Found    *dedup.Found      `json:"found,omitempty" doc:"What was found, once it is done"`
	Warnings []finding.Finding `json:"warnings"`
}

// NewProof asks for a proof: a folder is packed into a chunk store and taken out again.
type NewProof struct {
	Folder string `json:"folder" minLength:"1" maxLength:"5000" doc:"SERVER/SHARE[/FOLDER], within the volume"`
	Keep   bool   `json:"keep,omitempty" doc:"Keep the store in the work folder, to be inspected"`
	Anyway bool   `json:"anyway,omitempty" doc:"Also when the work folder seems to lie on the volume itself"`
}

// ProofPoint is what a proof came to.
type ProofPoint struct {
	Run       int64     `json:"run"`
	At        time.Time `json:"at"`
	Folder    string    `json:"folder"`
	Predicted int64     `json:"predictedBytes" doc:"What a store of it takes, as the estimate says"`
	Real      int64     `json:"realBytes" doc:"What the store took"`
	Off       float64   `json:"offPercent" doc:"How far the prediction was off"`
	Files     int64     `json:"files" doc:"Files that came out as they went in"`
	Bytes     int64     `json:"bytes" doc:"What they hold"`
}

// Proof is a proof as far as it is.
type Proof struct {
	Run       Run              `json:"run"`
	Volume    string           `json:"volume"`
	Asked     NewProof         `json:"asked"`
	Came      *ProofPoint      `json:"cameTo,omitempty" doc:"What it came to, once it is done"`
	Skipped   int64            `json:"skipped" doc:"Files that have changed since they were read, or cannot be read now"`
	Different []string         `json:"different" doc:"Files that came out otherwise than they are"`
	Store     *dedup.Inspected `json:"store,omitempty" doc:"What was in the store"`
	Kept      string           `json:"kept,omitempty" doc:"Where the store is kept, on the machine of the service"`
	Verdict   string           `json:"verdict"`
}

// KeptStore is the chunk store of a proof, kept on the machine of the service.
type KeptStore struct {
	Run     int64     `json:"run" doc:"Number of the proof"`
	Volume  string    `json:"volume,omitempty" doc:"Whose estimate was proved; absent when that run is forgotten"`
	Folder  string    `json:"folder,omitempty" doc:"What is in it"`
	Path    string    `json:"path" doc:"Where it is"`
	Bytes   int64     `json:"bytes" doc:"What it takes"`
	Made    time.Time `json:"made"`
	Version int64     `json:"version" doc:"The ETag"`
}

// ScheduleEstimate saves an estimate that is done again and again.
type ScheduleEstimate struct {
	NewEstimate
	Rule string `json:"rule" doc:"When: \"sat 02:30\", \"daily 04:00\" or \"every 6h\""`
}

// NewPool asks what volumes would save together.
type NewPool struct {
	Counting
	Volumes []string `json:"volumes" minItems:"1" maxItems:"16" doc:"Names of volumes that were estimated; one alone compares its shares"`
}

// DedupPool tells what volumes would save together, once that is counted.
type DedupPool struct {
	Run     Run           `json:"run"`
	Asked   NewPool       `json:"asked"`
	Pooled  *dedup.Pooled `json:"pooled,omitempty" doc:"What was found, once it is done"`
	Summary string        `json:"summary"`
}

// EstimatePoint is what an estimate came to.
type EstimatePoint struct {
	Run      int64        `json:"run" doc:"Number of its run"`
	At       time.Time    `json:"at"`
	Totals   dedup.Totals `json:"totals"`
	Capacity int64        `json:"capacityBytes" doc:"Of the storage under the volume"`
	Free     int64        `json:"freeBytes"`
	// What was read for it, and for how long.
	ReadBytes int64 `json:"readBytes"`
	ReadMs    int64 `json:"readMs" doc:"Without what pace and calendar made it wait"`
	// BusyMs is for how long processors were busy with that, each counted by itself.
	BusyMs int64 `json:"busyMs"`
}

// NewDedupPlan asks when the work could be done.
type NewDedupPlan struct {
	Week    calendar.Week  `json:"week" doc:"When it may work, as rules: \"full\", \"off; mon-fri 20-6 full\""`
	Backups *calendar.Week `json:"backups,omitempty" doc:"When backups work, as rules of the same form: whatever is not off"`
	Begins  *time.Time     `json:"begins,omitempty" doc:"When it begins; absent for now"`
}

// DedupPlan tells when the work could be done.
type DedupPlan struct {
	Volume   DedupVolume       `json:"volume"`
	Nights   dedup.Nights      `json:"nights"`
	Memory   int64             `json:"memoryBytes" doc:"For the index of all chunks, while it works"`
	Busy     float64           `json:"busyProcessors" doc:"How many processors it keeps busy at full speed, as measured when it was read: an upper bound, with whatever else the service did"`
	Of       int               `json:"ofProcessors" doc:"How many the service has"`
	Warnings []finding.Finding `json:"warnings"`
	Summary  string            `json:"summary"`
	// ICalendar is for calendars of people and machines.
	ICalendar string `json:"iCalendar" doc:"The windows as an iCalendar object (RFC 5545), repeated every week"`
}

// EstimatedVolume is a volume with what is known of it.
type EstimatedVolume struct {
	DedupVolume
	Latest  *EstimatePoint  `json:"latest,omitempty" doc:"What the latest estimate came to"`
	Trend   []EstimatePoint `json:"trend" doc:"What estimates came to, the oldest first; at most 60"`
	Runway  *dedup.Runway   `json:"runway,omitempty" doc:"When its free space is gone, once estimates are a day apart"`
	Version int64           `json:"version" doc:"Number of the latest estimate; the ETag"`
	Busy    *Run            `json:"busy,omitempty" doc:"The estimate that is under way, or the last one if it did not come to its end"`
}
