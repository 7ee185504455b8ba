package model

import (
	"cmp"
	"time"

	"bridgespan/core/account"
)

// How an edge is filled, and what of new files comes to it.
const (
	FillNames = "names" // names first, then contents, those changed last first, up to the free-space line
	FillStubs = "stubs" // names; contents on first use
	FillWhole = "whole" // whole files: each name appears when its content is there
)

// EdgePolicy says what a replica of a cloud set keeps whole. A replica without one keeps everything whole.
type EdgePolicy struct {
	Fill string `json:"fill" enum:"names,stubs,whole" doc:"names: names first, then contents, those changed last first, up to the free-space line; stubs: names, and contents on first use; whole: whole files"`
	// FreePercent is the free-space line.
	FreePercent int           `json:"freePercent,omitempty" minimum:"0" maximum:"90" doc:"Percent of the volume that stay free: below that, files become stubs, the longest unused first; absent for no line"`
	UnusedDays  int           `json:"unusedDays,omitempty" minimum:"0" maximum:"3650" doc:"Files that nobody has used for so many days become stubs; absent for none"`
	KeepNewest  int64         `json:"keepNewest,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes of the files changed last that never become stubs; absent for none"`
	Never       []string      `json:"never,omitempty" maxItems:"100" doc:"Patterns of files and folders that never become stubs, such as *.accdb or ledgers/"`
	Prefetch    *EdgePrefetch `json:"prefetch,omitempty" doc:"Which changes made at other edges come with their contents at once; absent for none"`
	Refused     []string      `json:"refused,omitempty" maxItems:"100" doc:"Names of programs on the edge's host that are given no content of stubs, such as that of a backup"`
	WaitS       int           `json:"waitS,omitempty" minimum:"0" maximum:"3600" doc:"Seconds that a program waits for content that does not come before it gets an error; absent for 60"`
}

// EdgePrefetch says which changes come to an edge with their contents, before anybody there asks for them.
type EdgePrefetch struct {
	Folders []string `json:"folders" minItems:"1" maxItems:"100" doc:"Patterns of files and folders, such as drawings/ or *.dwg; * for all"`
	Hours   string   `json:"hours,omitempty" maxLength:"1000" doc:"When, as rules such as \"off; mon-fri 7-19 full\"; always when absent"`
}

// HasStubs reports whether an edge holds stubs.
func (p *EdgePolicy) HasStubs() bool { return p != nil && p.Fill != FillWhole }

// EdgeFigures are what an edge holds, as it was last counted.
type EdgeFigures struct {
	At         time.Time `json:"at" doc:"When it was counted"`
	Whole      int64     `json:"whole" doc:"Files whose content is there"`
	WholeBytes int64     `json:"wholeBytes" doc:"Bytes that they occupy"`
	Stubs      int64     `json:"stubs" doc:"Files whose content is in the bucket alone"`
	StubBytes  int64     `json:"stubBytes" doc:"Bytes that these would occupy if they were whole"`
	Kept       int64     `json:"kept" doc:"Whole files that never become stubs"`
	KeptBytes  int64     `json:"keptBytes" doc:"Bytes that these occupy"`
	Total      int64     `json:"total" doc:"Bytes of the volume"`
	Free       int64     `json:"free" doc:"Bytes of it that are free"`
	Line       int64     `json:"line" doc:"Bytes of it that are to stay free"`
	Short      int64     `json:"short,omitempty" doc:"Bytes that are lacking to the line although everything became a stub that may"`
	// Offloaded and Fetched are what was done since the policy was set.
	Offloaded      int64  `json:"offloaded" doc:"Files that became stubs so far"`
	OffloadedBytes int64  `json:"offloadedBytes" doc:"Bytes that this has freed"`
	Fetched        int64  `json:"fetched" doc:"Stubs that were filled in advance so far"`
	FillsOn        string `json:"fillsOn,omitempty" enum:"read,open" doc:"Access that fills stubs: read fills the range that a program reads, open the whole file before a program has it open; absent while unknown"`
	Trouble        string `json:"trouble,omitempty" doc:"Why files could not become stubs or be filled at the last try"`
}

// Where content is.
const (
	ContentWhole   = "whole"
	ContentStub    = "stub"
	ContentFolder  = "folder"
	ContentNowhere = "nowhere"
	ContentUnknown = "unknown"
)

// Whereabouts say where the content of a path of a cloud set is.
type Whereabouts struct {
	Path   string           `json:"path" doc:"Path within the set"`
	Places []PlaceOfContent `json:"places" doc:"The bucket, and each edge"`
}

// PlaceOfContent is what one replica of a cloud set has at a path.
type PlaceOfContent struct {
	Replica   string     `json:"replica" doc:"Name of the replica"`
	Server    string     `json:"server" doc:"Name of its server"`
	Bucket    bool       `json:"bucket,omitempty" doc:"Whether it is the bucket"`
	Content   string     `json:"content" enum:"whole,stub,folder,nowhere,unknown" doc:"whole: its content is there; stub: it is in the bucket alone; nowhere: there is no such path; unknown: the replica could not be asked"`
	Current   bool       `json:"current" doc:"Whether it is the version that the bucket has, as far as both were scanned"`
	Size      int64      `json:"size" doc:"Bytes of its content"`
	Allocated int64      `json:"allocated" doc:"Bytes that it occupies"`
	Modified  *time.Time `json:"modified,omitempty" doc:"When it was last changed"`
	Problem   string     `json:"problem,omitempty" doc:"Why the replica could not be asked"`
}

// MoveContents asks for contents to be fetched, or for stubs to be made.
type MoveContents struct {
	Edge     string `json:"edge" doc:"Name of the edge"`
	Path     string `json:"path,omitempty" doc:"File or folder within the set; all of it when absent"`
	Offload  bool   `json:"offload,omitempty" doc:"Make stubs, rather than fill them"`
	Rehearse bool   `json:"rehearse,omitempty" doc:"Count what it would be about, and start nothing"`
}

// ContentsMove is a run that moves contents, or what it would be about.
type ContentsMove struct {
	Run        *Run             `json:"run,omitempty" doc:"The run; absent of a rehearsal"`
	Set        string           `json:"set" doc:"Name of the cloud set"`
	Edge       string           `json:"edge" doc:"Name of the edge"`
	Path       string           `json:"path" doc:"File or folder within the set"`
	Offload    bool             `json:"offload" doc:"Whether stubs are made, rather than filled"`
	Files      int64            `json:"files" doc:"Files that it is about"`
	Bytes      int64            `json:"bytes" doc:"Their bytes"`
	Moved      int64            `json:"moved" doc:"Files that are done"`
	MovedBytes int64            `json:"movedBytes" doc:"Bytes that were fetched, or freed"`
	Failed     int64            `json:"failed" doc:"Files that could not be done now"`
	Problems   []ContentProblem `json:"problems,omitempty" doc:"Why, of the first 100"`
}

// ContentProblem is a file whose content could not be moved.
type ContentProblem struct {
	Path    string `json:"path" doc:"Path within the set"`
	Problem string `json:"problem" doc:"Why"`
}

// AskArrival requests a forecast for a path, or for a change at a replica.
type AskArrival struct {
	Path   string    `query:"path" maxLength:"4096" doc:"Path within the set; the forecast is for its newest version"`
	MadeAt string    `query:"madeAt" maxLength:"255" doc:"Name of the replica at which a change is made, instead of a path"`
	At     time.Time `query:"at" doc:"Time of the change; now when absent"`
	Size   int64     `query:"size" minimum:"0" maximum:"1125899906842624" doc:"Size of the change in bytes"`
}

// ArrivalForecast is when a change arrives in the bucket and at the edges.
type ArrivalForecast struct {
	Set    string         `json:"set" doc:"Name of the cloud set"`
	Path   string         `json:"path,omitempty" doc:"Path within the set that was asked for"`
	MadeAt string         `json:"madeAt,omitempty" doc:"Replica at which the change is; absent where several have it"`
	At     time.Time      `json:"at" doc:"Start of the forecast: the time of the change, or now"`
	Size   int64          `json:"size" doc:"Bytes of its content"`
	Places []PlaceArrival `json:"places" doc:"The bucket, and each edge"`
}

// PlaceArrival is when a change arrives at one replica.
type PlaceArrival struct {
	Replica    string       `json:"replica" doc:"Name of the replica"`
	Server     string       `json:"server" doc:"Name of its server"`
	Bucket     bool         `json:"bucket,omitempty" doc:"Whether it is the bucket"`
	Present    bool         `json:"present" doc:"Whether the replica has the change already"`
	Name       *ArrivalSpan `json:"name,omitempty" doc:"When its name appears; absent when it is present, or never arrives"`
	Content    *ArrivalSpan `json:"content,omitempty" doc:"When its content is complete; absent when it is present, is fetched on first use, or never arrives"`
	OnFirstUse bool         `json:"onFirstUse,omitempty" doc:"Whether the content is fetched when somebody reads it"`
	Reasons    []string     `json:"reasons" doc:"What the times depend on"`
	// The next three are of the latest probes from the same replica.
	Probes     int    `json:"probes,omitempty" doc:"Number of probes from the same replica that have arrived"`
	MeasuredMs *int64 `json:"measuredMs,omitempty" doc:"Median of their measured times, in milliseconds"`
	ForetoldMs *int64 `json:"foretoldMs,omitempty" doc:"Median of their forecast times, in milliseconds"`
}

// ArrivalSpan is the range of times at which something happens.
type ArrivalSpan struct {
	Earliest time.Time `json:"earliest" doc:"Earliest time"`
	Expected time.Time `json:"expected" doc:"Most likely time"`
	Latest   time.Time `json:"latest" doc:"Latest time when nothing fails"`
}

// AccountUses is a run that lists the accounts in the permissions of a set, and how each server resolves them.
type AccountUses struct {
	Run      Run          `json:"run" doc:"The run"`
	Set      string       `json:"set" doc:"Name of the set"`
	Read     string       `json:"read,omitempty" doc:"Replica whose permissions were read"`
	Looked   int64        `json:"looked" doc:"Files and folders whose permissions were read"`
	Unread   int64        `json:"unread,omitempty" doc:"Files and folders whose permissions could not be read"`
	More     bool         `json:"more,omitempty" doc:"Whether more accounts are in use than are listed"`
	Accounts []AccountUse `json:"accounts" doc:"The accounts, those that a server cannot resolve first"`
	Missing  []string     `json:"missing,omitempty" doc:"Servers that could not be asked, and why"`
}

// AccountUse is an account in the permissions of a set.
type AccountUse struct {
	SID     string          `json:"sid" doc:"Its security identifier in the set"`
	Name    string          `json:"name" doc:"Its name at the replica whose permissions were read, or its SID"`
	Reach   account.Reach   `json:"reach" enum:"everywhere,mapped,local,unresolved" doc:"everywhere: the same account at all servers; mapped: another account at some, through the account map; local: a bare SID at some; unresolved: a bare SID at all"`
	Uses    int64           `json:"uses" doc:"Files and folders whose permissions name it"`
	Example string          `json:"example" doc:"One of them"`
	There   []AccountSeenAt `json:"there" doc:"How the server of each replica resolves it"`
	Effect  string          `json:"effect,omitempty" doc:"What follows for people"`
	Remedy  string          `json:"remedy,omitempty" doc:"What to do about it"`
}

// AccountSeenAt is an account as the server of one replica sees it.
type AccountSeenAt struct {
	Replica string `json:"replica" doc:"Name of the replica"`
	Server  string `json:"server" doc:"Server whose accounts count there"`
	Name    string `json:"name" doc:"Its name there, or the number"`
	Known   bool   `json:"known" doc:"Whether the server can resolve it"`
	Paired  bool   `json:"paired,omitempty" doc:"Whether it is another account there, through the account map"`
}

// CloudUsage is what a cloud set stores in its bucket, what its edges have read from it, and what both cost.
type CloudUsage struct {
	Set          string      `json:"set" doc:"Name of the cloud set"`
	Bucket       string      `json:"bucket" doc:"Name of the replica that is the bucket"`
	Since        time.Time   `json:"since" doc:"When the set was created"`
	Files        int64       `json:"files" doc:"Files in the bucket"`
	Bytes        int64       `json:"bytes" doc:"Their bytes"`
	Earlier      int64       `json:"earlier" doc:"Earlier versions and removed files that it keeps"`
	EarlierBytes int64       `json:"earlierBytes" doc:"Their bytes"`
	Currency     string      `json:"currency,omitempty" doc:"Currency; absent: the prices of the account are not known, and amounts of money are 0"`
	Stored       float64     `json:"stored" doc:"Price of storing files and earlier versions, per month"`
	ReadAll      float64     `json:"readAll" doc:"Price of reading every file once"`
	FullReads    int         `json:"fullReads" doc:"How many times a full verification reads every file: once for each replica that is compared with the bucket"`
	Edges        []EdgeUsage `json:"edges" doc:"What each edge has read from it"`
}

// Verified is how many bytes a verification of a level reads from the bucket, and what that costs. sample is the number of files of a
// sample, 0 for the usual one; of those the mean size is assumed. It is an upper bound: a sample reads no objects of stubs whose hashes
// the bucket keeps.
func (u *CloudUsage) Verified(level string, sample int) (bytes int64, cost float64) {
	switch level {
	case "full":
		return int64(u.FullReads) * u.Bytes, float64(u.FullReads) * u.ReadAll
	case "sample":
		share := min(1, float64(cmp.Or(sample, UsualSample))/float64(max(u.Files, 1)))
		share *= float64(u.FullReads)
		return int64(share * float64(u.Bytes)), share * u.ReadAll
	}
	return 0, 0
}

// MonthlyReads is what an edge has read from its bucket within a month.
type MonthlyReads struct {
	Month string  `json:"month" doc:"Year and month, such as 2026-03"`
	Bytes int64   `json:"bytes" doc:"Bytes that were read"`
	Cost  float64 `json:"cost" doc:"Price of reading them"`
}

// EdgeUsage is what an edge has read from its bucket.
type EdgeUsage struct {
	Replica      string         `json:"replica" doc:"Name of the edge"`
	Carried      int64          `json:"carried" doc:"Bytes of files that were transferred to it since the set was created"`
	Fetched      int64          `json:"fetched" doc:"Stubs that its mover has filled since the mover was started"`
	FetchedBytes int64          `json:"fetchedBytes" doc:"Bytes that it read for them"`
	Cost         float64        `json:"cost" doc:"Price of reading both"`
	Months       []MonthlyReads `json:"months" doc:"Both by calendar months (UTC), the newest first, up to 12"`
	Prefetched   *PrefetchUsage `json:"prefetched,omitempty" doc:"What was prefetched within 30 days; absent when nothing was"`
	Problem      string         `json:"problem,omitempty" doc:"Why its mover could not be asked"`
}

// PrefetchUsage is what an edge was prefetched, and how much of that people used.
type PrefetchUsage struct {
	Files  int64   `json:"files" doc:"Files that were prefetched"`
	Bytes  int64   `json:"bytes" doc:"Their bytes; they are part of what was transferred"`
	Used   int64   `json:"used" doc:"Files that were used afterwards, as the file system tells"`
	Cost   float64 `json:"cost" doc:"Price of reading them"`
	Advice string  `json:"advice,omitempty" doc:"What to do when few of them were used"`
}

// EventPath is the path for event notifications.
const EventPath = "/api/v1/bucket-events"

// EventToken is what an object service needs for event notifications of the buckets of an account.
type EventToken struct {
	Server string `json:"server" doc:"Name of the cloud account"`
	Path   string `json:"path" doc:"Path of this service for notifications, by POST"`
	Token  string `json:"token" doc:"Bearer token (RFC 6750); it is not shown again"`
}
