package model

import (
	"cmp"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
)

// ReplicaSet is a folder that is kept the same in several places.
type ReplicaSet struct {
	ID           int64             `json:"-"`
	Name         string            `json:"name" doc:"Name of the set"`
	Note         string            `json:"note,omitempty" doc:"For administrators"`
	Layout       string            `json:"layout" enum:"mesh,hub,chain,custom" doc:"Between which replicas lanes lead"`
	Calendar     string            `json:"calendar" doc:"When lanes are open and how fast, for those without a calendar of their own, as rules such as \"full; mon-fri 8-18 off\""`
	Filter       filter.Rules      `json:"filter" doc:"What is kept the same"`
	Permissions  string            `json:"permissions" enum:"carry,map,leave" doc:"carry: permissions and attributes are the same everywhere; map: they are carried through an account map; leave: each replica has its own"`
	AccountMap   string            `json:"accountMap,omitempty" doc:"Name of the account map that permissions are carried through"`
	AccountsOf   string            `json:"accountsOf,omitempty" doc:"Server whose accounts the map turns into those of the others"`
	AtticDays    int               `json:"atticDays" doc:"For how many days attics keep things"`
	RemovalLimit int               `json:"removalLimit" doc:"Percent of the files and folders of a replica: when more are removed there within an hour, the removals are pending until somebody decides; 0 for no limit"`
	Retry        Retry             `json:"retry" doc:"How what could not be carried is tried again"`
	Alerts       []finding.Finding `json:"alerts" doc:"What needs somebody, the worst first"`
	Paused       bool              `json:"paused" doc:"Whether nothing is looked at or carried"`
	State        string            `json:"state" enum:"stalled,pausing,paused,failing,filling,behind,steady" doc:"How it is in one word"`
	Summary      string            `json:"summary" doc:"How it is in a sentence"`
	Replicas     []Replica         `json:"replicas" doc:"In the order in which they were named"`
	Lanes        []Lane            `json:"lanes" doc:"Each direction between two replicas"`
	PlanRun      int64             `json:"planRun,omitempty" doc:"Number of the plan that it was made of"`
	Verified     *LastVerified     `json:"verified,omitempty" doc:"What came of the last verification; absent when there was none"`
	Created      time.Time         `json:"created" doc:"When it was made"`
	Version      int64             `json:"version" doc:"Goes up with every change of its settings; the ETag"`
}

// Retry is how what could not be carried, since somebody holds it say, is tried
// again: after a while that doubles each time.
type Retry struct {
	FirstS     int `json:"firstS" minimum:"1" maximum:"3600" doc:"Seconds until it is tried a second time"`
	MostS      int `json:"mostS" minimum:"1" maximum:"86400" doc:"Most seconds between two tries"`
	AlertAfter int `json:"alertAfter" minimum:"1" maximum:"1000" doc:"After how many tries somebody is to look at it; it is tried on"`
}

// UsualRetry is how what could not be carried is tried again when nobody says otherwise.
var UsualRetry = Retry{FirstS: 5, MostS: 600, AlertAfter: 10}

// States of a set.
const (
	SetPausing = "pausing" // it is to be paused, and something may still be under way
	SetPaused  = "paused"
	SetFailing = "failing" // something cannot be worked at
	SetFilling = "filling" // the first fill is under way
	SetBehind  = "behind"  // something waits to be carried
	SetStalled = "stalled" // a lane works without progress
	SetSteady  = "steady"  // all replicas are the same, as far as is known
)

// States of a replica.
const (
	ReplicaNew     = "new"     // nobody has picked it up yet
	ReplicaLooking = "looking" // all of it is looked at for the first time
	ReplicaWaiting = "waiting" // it waits for its first fill, or is being filled
	ReplicaSteady  = "steady"  // it is filled
	ReplicaFailing = "failing" // it cannot be worked at
	ReplicaPaused  = "paused"  // its set is paused
)

// States of a lane.
const (
	LaneNew      = "new"      // nobody has picked it up yet
	LaneIdle     = "idle"     // there is nothing to carry
	LaneCarrying = "carrying" // it carries
	LaneClosed   = "closed"   // closed by its calendar or by hand
	LaneNotYet   = "not-yet"  // one end has to be looked at, or filled, first
	LaneFailing  = "failing"  // one end cannot be worked at
	LaneStalled  = "stalled"  // it works without progress
	LanePaused   = "paused"   // its set is paused
)

// Layouts.
const (
	LayoutMesh   = "mesh"
	LayoutHub    = "hub"
	LayoutChain  = "chain"
	LayoutCustom = "custom"
)

// What is done about permissions.
const (
	PermissionsCarry = "carry"
	PermissionsMap   = "map"
	PermissionsLeave = "leave"
)

// Replica is one place of a set.
type Replica struct {
	ID          int64      `json:"-"`
	Name        string     `json:"name" doc:"Name within the set: the server's, unless it was given another"`
	Server      string     `json:"server" doc:"Name of the server"`
	Site        string     `json:"site,omitempty" doc:"Where the server stands"`
	Share       string     `json:"share" doc:"Name of the share"`
	Sub         string     `json:"sub,omitempty" doc:"Folder within the share"`
	Seed        bool       `json:"seed" doc:"Whether its content wins the first fill"`
	IntakeQuota int64      `json:"intakeQuota" doc:"Bytes that may be on their way in at a time"`
	IntakeUsed  int64      `json:"intakeUsed" doc:"Bytes that are on their way in now"`
	IntakeFull  *time.Time `json:"intakeFull,omitempty" doc:"Since when something has waited for room in its intake; absent when nothing does"`
	AtticQuota  int64      `json:"atticQuota" doc:"Bytes that its attic may keep; 0 for no bound"`
	Swept       bool       `json:"swept,omitempty" doc:"Whether it is a bucket, which is scanned at set times"`
	SweepMin    int        `json:"sweepMin,omitempty" doc:"Minutes between two scans of a bucket; absent for 360"`
	Notified    *time.Time `json:"notified,omitempty" doc:"When an event notification last reported a change in the bucket, to the minute; absent when none did"`
	Sealing     *Sealing   `json:"sealing,omitempty" doc:"How its files are sealed, as a bucket; absent when they are plain"`
	// Edge is its policy where it holds stubs.
	Edge        *EdgePolicy  `json:"edge,omitempty" doc:"What it keeps whole, as an edge of a cloud set; absent where it keeps everything whole"`
	EdgeFigures *EdgeFigures `json:"edgeFigures,omitempty" doc:"What it holds, as an edge; absent until it was counted"`
	Scanned     bool         `json:"scanned" doc:"Whether all of it was looked at once"`
	Filled      bool         `json:"filled" doc:"Whether it has had all that the set had"`
	FilledAt    *time.Time   `json:"filledAt,omitempty" doc:"Since when; absent while it is not filled"`
	Foretold    *time.Time   `json:"foretold,omitempty" doc:"When it was to be filled by the plan that the set was made of; absent without a plan"`
	Entries     int64        `json:"entries" doc:"Files and folders seen at the last look"`
	Looked      *time.Time   `json:"looked,omitempty" doc:"When all of it was last looked at"`
	LookMs      int64        `json:"lookMs" doc:"How long that took, in milliseconds"`
	State       string       `json:"state" enum:"new,looking,waiting,steady,failing,paused" doc:"How it is in one word"`
	Words       string       `json:"words" doc:"How it is in a sentence"`
	Trouble     string       `json:"trouble,omitempty" doc:"Why it cannot be worked at"`
	Since       *time.Time   `json:"since,omitempty" doc:"Since when it is so"`
	PickedUp    *time.Time   `json:"pickedUp,omitempty" doc:"When the settings as they are now were picked up; absent while they are not"`
	Settings    int64        `json:"-"`
	// AccountsStale is kept by whoever works on the set.
	AccountsStale *time.Time `json:"accountsStale,omitempty" doc:"Since when its set's account map pairs accounts otherwise than they are paired at it"`
	Troubles      int64      `json:"troubles" doc:"How many paths could not be worked at, and are tried again"`
	Repairs       int64      `json:"repairs" doc:"How often a record contradicted what the replica showed, and was put right by looking again"`
	Attic         Attic      `json:"attic" doc:"What its attic keeps"`
	// Removals are nil while none wait.
	Removals *WaitingRemovals `json:"removals,omitempty" doc:"Pending removals there: more than the limit of the set; absent when there are none"`
	Decision replica.Decision `json:"decision,omitempty" enum:"apply,restore" doc:"What was decided about them, until that is done: apply carries them to the others, restore brings the files back"`
	// Accounts are what accounts in the permissions of the set are at a new replica.
	Accounts map[account.SID]account.SID `json:"-"`
	// Rights are the permissions that its folder is made with.
	Rights string `json:"-"`
	// Hub is where the bucket of an edge is.
	Hub namespace.Target `json:"-"`
}

// WaitingRemovals are files that are missing at a replica, and stay at the others until somebody has decided.
type WaitingRemovals struct {
	Since    time.Time `json:"since" doc:"Since when they wait"`
	Items    int64     `json:"items" doc:"Files that are missing, and folders that they were in"`
	Files    int64     `json:"files" doc:"Files that are missing"`
	Bytes    int64     `json:"bytes" doc:"Their bytes"`
	Of       int64     `json:"of" doc:"Files and folders that the replica had"`
	Examples []string  `json:"examples" doc:"Some of the files"`
}

// CloudRemovalLimit is the removal limit of cloud sets, unless set otherwise.
const CloudRemovalLimit = 25

// UsualSweep is how often a bucket is scanned, unless set otherwise: its provider charges for listings.
const UsualSweep = 6 * time.Hour

// Sweep is the time between two scans of a bucket; 0 for a file server, which is scanned as changes suggest.
func (r *Replica) Sweep() time.Duration {
	if !r.Swept {
		return 0
	}
	return cmp.Or(time.Duration(r.SweepMin)*time.Minute, UsualSweep)
}

// Notifies reports whether the object service of a bucket sends event notifications: it has reported the latest files that lanes
// of the set sent there.
func (s *ReplicaSet) Notifies(r *Replica) bool {
	if r.Notified == nil {
		return false
	}
	for _, l := range s.Lanes {
		if l.To == r.Name && l.LastCarried != nil && l.LastCarried.After(r.Notified.Add(NotifiedWithin+time.Minute)) {
			return false
		}
	}
	return true
}

// NotifiedWithin is how long an event notification is expected to take.
const NotifiedWithin = 5 * time.Second

// IsCloudSet reports whether a set is a cloud set: a hub whose middle is a bucket.
func (s *ReplicaSet) IsCloudSet() bool {
	return s.Layout == LayoutHub && len(s.Replicas) > 0 && s.Replicas[0].Swept
}

// Target is where the replica is.
func (r *Replica) Target() namespace.Target {
	return namespace.Target{Server: r.Server, Share: r.Share, Sub: r.Sub}
}

// Attic is what a replica keeps aside.
type Attic struct {
	Items     int64 `json:"items" doc:"How many files"`
	Conflicts int64 `json:"conflicts" doc:"Of which lost a conflict"`
	Bytes     int64 `json:"bytes" doc:"Their bytes"`
	// LastConflict is of those that the attic still keeps.
	LastConflict *time.Time `json:"lastConflict,omitempty" doc:"When the last of these lost"`
}

// Lane is one direction between two replicas.
type Lane struct {
	From        string     `json:"from" doc:"Name of the replica that sends"`
	To          string     `json:"to" doc:"Name of the replica that receives"`
	FromID      int64      `json:"-"`
	ToID        int64      `json:"-"`
	Unqueued    bool       `json:"-"` // it is new, and what it has to carry is not in its backlog yet
	Calendar    string     `json:"calendar,omitempty" doc:"Its own calendar; absent where that of the set counts"`
	Closed      bool       `json:"closed" doc:"Whether it is closed by hand"`
	OpenUntil   *time.Time `json:"openUntil,omitempty" doc:"Until when it is open regardless of its calendar"`
	State       string     `json:"state" enum:"new,idle,carrying,closed,not-yet,failing,stalled,paused" doc:"How it is in one word"`
	Words       string     `json:"words" doc:"How it is in a sentence"`
	Trouble     string     `json:"trouble,omitempty" doc:"Why it fails"`
	Until       *time.Time `json:"until,omitempty" doc:"When its calendar opens or closes it next"`
	Backlog     Backlog    `json:"backlog" doc:"What it still has to carry"`
	Carried     Carried    `json:"carried" doc:"What it has carried so far"`
	Rate        float64    `json:"rate" doc:"Bytes a second now"`
	Mbit        float64    `json:"mbit,omitempty" doc:"Mbit/s that its calendar and its leg allow now; absent when nothing bounds it"`
	EmptyAt     *time.Time `json:"emptyAt,omitempty" doc:"When the backlog will be empty, by its calendar and its leg; absent while the lane makes no progress"`
	Stalled     *time.Time `json:"stalled,omitempty" doc:"Since when the lane has been at work without progress; absent while it makes progress or has nothing to carry"`
	LastCarried *time.Time `json:"lastCarried,omitempty" doc:"When it last carried something"`
}

// Backlog is what a lane still has to look at and carry.
type Backlog struct {
	Files  int64      `json:"files" doc:"Files and folders"`
	Bytes  int64      `json:"bytes" doc:"Bytes of the files, if all have to be carried"`
	Oldest *time.Time `json:"oldest,omitempty" doc:"Since when the oldest waits"`
}

// What waits in a backlog.
const (
	WaitingFile   = "file"
	WaitingFolder = "folder"
	WaitingGone   = "gone"
)

// WaitingPath is a path that a lane has still to look at, and to carry if need be.
type WaitingPath struct {
	Path    string     `json:"path" doc:"Path within the replica, as the sender spells it"`
	Kind    string     `json:"kind" enum:"file,folder,gone" doc:"What it is at the sender: gone when it was removed or renamed there"`
	Bytes   int64      `json:"bytes" doc:"Bytes of a file"`
	Arrived int64      `json:"arrived,omitempty" doc:"Bytes of a large file that have come: when it is broken off, it goes on after them"`
	Within  int        `json:"within,omitempty" doc:"So many paths right in the folder wait with it"`
	Since   time.Time  `json:"since" doc:"Since when it waits"`
	Tried   int        `json:"tried,omitempty" doc:"How often it could not be carried"`
	NextTry *time.Time `json:"nextTry,omitempty" doc:"When it is tried again; absent when it is its turn"`
}

// Carried is what a lane has carried.
type Carried struct {
	Files     int64 `json:"files" doc:"Files"`
	Bytes     int64 `json:"bytes" doc:"Bytes that crossed"`
	Spared    int64 `json:"spared" doc:"Bytes of these files that did not have to cross: the receiver had them already"`
	Conflicts int64 `json:"conflicts" doc:"Files that were changed at both ends"`
}

// NewReplicaSet is what a set is made of.
type NewReplicaSet struct {
	Name         string       `json:"name" maxLength:"200" doc:"Name of the set"`
	Note         string       `json:"note,omitempty" doc:"For administrators"`
	Replicas     []NewReplica `json:"replicas" minItems:"2" maxItems:"32" doc:"Where the folder is to be kept"`
	Layout       string       `json:"layout,omitempty" enum:"mesh,hub,chain,custom" doc:"mesh (when absent): all with all; hub: the first one with each; chain: each with the next; custom: the lanes that are given"`
	Lanes        []NewLane    `json:"lanes,omitempty" maxItems:"1000" doc:"Lanes with a calendar of their own, and all lanes of a custom layout"`
	Calendar     string       `json:"calendar,omitempty" doc:"When lanes are open and how fast, as rules such as \"full; mon-fri 8-18 off\"; always when absent"`
	Filter       filter.Rules `json:"filter,omitempty" doc:"What is kept the same; everything when absent"`
	Permissions  string       `json:"permissions,omitempty" enum:"carry,map,leave" doc:"carry (when absent): permissions and attributes are the same everywhere; map: they are carried through an account map; leave: each replica has its own"`
	AccountMap   string       `json:"accountMap,omitempty" doc:"Name of the account map that permissions are carried through"`
	AtticDays    int          `json:"atticDays,omitempty" minimum:"1" maximum:"3650" doc:"For how many days attics keep things; 60 when absent"`
	RemovalLimit *int         `json:"removalLimit,omitempty" minimum:"0" maximum:"100" doc:"Percent of the files and folders of a replica: when more are removed there within an hour, the removals are pending until somebody decides; 0 for no limit; 25 for cloud sets, and 0 for others, when absent"`
	Retry        *Retry       `json:"retry,omitempty" doc:"How what could not be carried is tried again; after 5 seconds, then twice as long each time up to 10 minutes, when absent"`
	Anyway       bool         `json:"anyway,omitempty" doc:"Create the set even if its latest plan, or a check of it, failed"`
	Publish      string       `json:"publish,omitempty" doc:"Path of a signpost that is to lead to all replicas, such as /trust/herbarium: it is made, or led to them as well; those that were not verified are held"`
}

// NewReplica is where a set is to be kept.
type NewReplica struct {
	Name        string      `json:"name,omitempty" maxLength:"200" doc:"Name within the set; the server's when absent"`
	Server      string      `json:"server" doc:"Name of the server"`
	Share       string      `json:"share" doc:"Name of the share"`
	Sub         string      `json:"sub,omitempty" doc:"Folder within the share; it is made when it is missing"`
	Rights      string      `json:"rights,omitempty" doc:"Permissions of the folder when it is made: inherit (when absent), those that the folder above hands down; seed, those of the seed's folder; or a descriptor in its text form, such as O:BAG:BAD:P(A;OICI;FA;;;BA)"`
	Seed        bool        `json:"seed,omitempty" doc:"Whether its content wins the first fill; the first one's when none does"`
	IntakeQuota int64       `json:"intakeQuota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that may be on their way in at a time; when absent, as many as a plan of the same set has worked out from its largest files, as many as the others of its set may have, or 1 GiB"`
	AtticQuota  int64       `json:"atticQuota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that its attic may keep; absent for no bound"`
	SweepMin    int         `json:"sweepMin,omitempty" minimum:"0" maximum:"10080" doc:"Minutes between two scans of a bucket; absent for 360"`
	Sealing     *Sealing    `json:"sealing,omitempty" doc:"Seal its files, as a bucket: encrypt them before they are sent, so that they can be read with Bridge Span or a client of age alone; when absent, they are sealed if the folder is sealed already"`
	Edge        *EdgePolicy `json:"edge,omitempty" doc:"What it keeps whole, as an edge of a cloud set: of a hub whose first replica is a bucket; absent to keep everything whole"`
}

// NewLane is a lane that differs from the others.
type NewLane struct {
	From     string `json:"from" doc:"Name of the replica that sends"`
	To       string `json:"to" doc:"Name of the replica that receives"`
	Calendar string `json:"calendar,omitempty" doc:"Its own calendar"`
}

// EditReplicaSet changes a set; what is absent stays.
type EditReplicaSet struct {
	Note         *string       `json:"note,omitempty" doc:"New note"`
	Calendar     *string       `json:"calendar,omitempty" doc:"New calendar of all lanes without one of their own"`
	Layout       *string       `json:"layout,omitempty" enum:"mesh,hub,chain" doc:"New layout; lanes that are in both stay as they are"`
	Filter       *filter.Rules `json:"filter,omitempty" doc:"New filter; what it leaves out from now on stays where it is, and as it is"`
	Retry        *Retry        `json:"retry,omitempty" doc:"How what could not be carried is tried again"`
	AtticDays    *int          `json:"atticDays,omitempty" minimum:"1" maximum:"3650" doc:"New age limit of attics"`
	RemovalLimit *int          `json:"removalLimit,omitempty" minimum:"0" maximum:"100" doc:"New removal limit in percent; 0 for no limit"`
	Paused       *bool         `json:"paused,omitempty" doc:"Whether nothing is looked at or carried"`
}

// SettingsChange is a change of settings of a set that is to be told beforehand:
// of one of these.
type SettingsChange struct {
	Set     *EditReplicaSet `json:"set,omitempty" doc:"Other settings of the set"`
	Replica *ReplicaChange  `json:"replica,omitempty" doc:"Other quotas of a replica"`
	Lane    *LaneChange     `json:"lane,omitempty" doc:"Other times of a lane"`
}

// ReplicaChange is a change of a replica.
type ReplicaChange struct {
	Name   string      `json:"name" doc:"Name of the replica"`
	Change EditReplica `json:"change" doc:"What is changed"`
}

// LaneChange is a change of a lane.
type LaneChange struct {
	From   string   `json:"from" doc:"Name of the replica that sends"`
	To     string   `json:"to" doc:"Name of the replica that receives"`
	Change EditLane `json:"change" doc:"What is changed"`
}

// SettingsPreview is what follows from a change of settings.
type SettingsPreview struct {
	Outcome finding.Severity  `json:"outcome" enum:"pass,warn,fail" doc:"The worst of the checks"`
	Checks  []finding.Finding `json:"checks" doc:"What a plan with these settings would be checked for, as far as they change it"`
	Follows []string          `json:"follows" doc:"What follows, in sentences"`
}

// EditReplica changes a place of a set; what is absent stays.
type EditReplica struct {
	IntakeQuota *int64            `json:"intakeQuota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that may be on their way in at a time"`
	AtticQuota  *int64            `json:"atticQuota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that its attic may keep; 0 for no bound"`
	SweepMin    *int              `json:"sweepMin,omitempty" minimum:"0" maximum:"10080" doc:"Minutes between two scans of a bucket; 0 for 360"`
	Edge        *EdgePolicy       `json:"edge,omitempty" doc:"What it keeps whole from now on, as an edge of a cloud set"`
	Removals    *replica.Decision `json:"removals,omitempty" enum:"apply,restore" doc:"What to do with pending removals: apply removes the files at the other replicas as well, restore copies them back from there"`
	Home        *ReplicaHome      `json:"home,omitempty" doc:"Another place for it, since its server was replaced, say: it is looked at anew, and what it holds is adopted"`
	Seed        bool              `json:"seed,omitempty" doc:"Let it win the first fill, before anything was carried"`
}

// ReplicaHome is where a replica is.
type ReplicaHome struct {
	Server string `json:"server" doc:"Name of the server"`
	Share  string `json:"share" doc:"Name of the share"`
	Sub    string `json:"sub,omitempty" doc:"Folder within the share; it is made when it is missing"`
}

// ReplicaAccounts are the accounts that permissions of a set name, as they are
// at a replica.
type ReplicaAccounts struct {
	Replica string        `json:"replica" doc:"Name of the replica"`
	Server  string        `json:"server" doc:"Its server"`
	Pairs   []AccountPair `json:"pairs" doc:"Each account of the set with that of the replica; others are the same everywhere"`
	Stale   bool          `json:"stale" doc:"Whether the map would pair other accounts by now"`
}

// EditLane changes a lane; what is absent stays.
type EditLane struct {
	Calendar *string `json:"calendar,omitempty" doc:"New calendar; \"\" for that of the set"`
	Closed   *bool   `json:"closed,omitempty" doc:"Close it by hand, or let its calendar decide again"`
	// OpenMinutes opens it regardless of its calendar.
	OpenMinutes *int `json:"openMinutes,omitempty" minimum:"0" maximum:"10080" doc:"Open it for so many minutes regardless of its calendar; 0 ends that"`
}

// ReplicaTrouble is a path that could not be worked at.
type ReplicaTrouble struct {
	ID      string    `json:"-"`
	Replica string    `json:"replica" doc:"Name of the replica"`
	Path    string    `json:"path" doc:"Path within the replica"`
	Problem string    `json:"problem" doc:"What went wrong"`
	Since   time.Time `json:"since" doc:"When it first went wrong"`
	Last    time.Time `json:"last" doc:"When it was last tried"`
	Times   int       `json:"times" doc:"How often it was tried"`
	InUse   bool      `json:"inUse" doc:"Whether somebody holds it open"`
	Holder  string    `json:"holder,omitempty" doc:"Who, where the server tells"`
}

// AtticItem is a file that a replica keeps aside.
type AtticItem struct {
	ID      int64     `json:"id" doc:"Number of the item"`
	Replica string    `json:"replica" doc:"Name of the replica"`
	Path    string    `json:"path" doc:"Where it was"`
	Attic   string    `json:"attic" doc:"Where it is, within the replica"`
	Why     string    `json:"why" enum:"removed,conflict,replaced,first-fill" doc:"Why it is there"`
	At      time.Time `json:"at" doc:"Since when"`
	Size    int64     `json:"size" doc:"Bytes"`
}

// AtticFilter selects items of attics. Empty fields match all.
type AtticFilter struct {
	Replica string `query:"replica" doc:"Of this replica alone"`
	Why     string `query:"why" enum:"removed,conflict,replaced,first-fill" doc:"For this reason alone"`
	Path    string `query:"path" maxLength:"4096" doc:"What was at this path alone"`
}

// LaneSample is how a lane did in a minute.
type LaneSample struct {
	At           time.Time `json:"at" doc:"The minute"`
	From         string    `json:"from" doc:"Name of the replica that sends"`
	To           string    `json:"to" doc:"Name of the replica that receives"`
	BacklogFiles int64     `json:"backlogFiles" doc:"Files and folders that it had to carry"`
	BacklogBytes int64     `json:"backlogBytes" doc:"Their bytes"`
	CarriedBytes int64     `json:"carriedBytes" doc:"Bytes that it had carried, ever"`
}

// LaneHistory is how the lanes of a set did.
type LaneHistory struct {
	Samples []LaneSample `json:"samples" doc:"In the order of time"`
}

// Calendar is a week of hours in its two forms.
type Calendar struct {
	Text  string    `json:"text,omitempty" doc:"As rules, such as \"full; mon-fri 8-18 off\""`
	Hours []float64 `json:"hours,omitempty" maxItems:"168" minimum:"-1" maximum:"1000000" doc:"As 168 rates in Mbit/s, from Monday 0:00 on: 0 is off, -1 is full"`
}

// AtticComparison is what an attic keeps, beside what is at its path now.
type AtticComparison struct {
	Item   AtticItem    `json:"item"`
	Kept   FileVersion  `json:"kept" doc:"What the attic keeps"`
	Now    *FileVersion `json:"now,omitempty" doc:"What is at its path now; absent when nothing is"`
	Rights []string     `json:"rights,omitempty" doc:"Whose rights are others, in words"`
}

// FileVersion is one version of a file.
type FileVersion struct {
	Size     int64     `json:"size" doc:"Bytes"`
	Modified time.Time `json:"modified" doc:"When it was last changed"`
	Text     *string   `json:"text,omitempty" doc:"What is in it, when it is short and text"`
}
