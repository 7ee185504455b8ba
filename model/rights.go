package model

import (
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/finding"
)

// RightsEntry is one entry of a list of permissions.
type RightsEntry struct {
	Account   Account   `json:"account"`
	Allow     bool      `json:"allow" doc:"Whether it grants; otherwise it denies"`
	Heeded    bool      `json:"heeded" doc:"Whether file servers heed entries of this kind"`
	Level     acl.Level `json:"level" enum:"full,change,write,read,list,none,special"`
	Mask      string    `json:"mask" doc:"The rights as a number in hexadecimal"`
	Words     []string  `json:"words" doc:"The rights one by one"`
	Scope     acl.Scope `json:"scope" doc:"To what it applies: everything, this, folders, files, below, one-level; empty for another mixture"`
	Inherited bool      `json:"inherited" doc:"Whether it came from above"`
	From      string    `json:"from,omitempty" doc:"The folder that it came from, when inherited"`
}

// Permissions is a security descriptor in words.
type Permissions struct {
	Descriptor string        `json:"descriptor" doc:"As SDDL"`
	Owner      *Account      `json:"owner,omitempty"`
	Group      *Account      `json:"group,omitempty"`
	Protected  bool          `json:"protected" doc:"Whether nothing is inherited"`
	NoList     bool          `json:"noList" doc:"Whether there is no list, so that everybody may do everything"`
	Sentence   string        `json:"sentence" doc:"All of it in one sentence"`
	Entries    []RightsEntry `json:"entries"`
}

// RightsReason is one step of a decision.
type RightsReason struct {
	Source  acl.Source `json:"source" enum:"entry,share,owner,parent,privilege,no-list,protocol,not-granted" doc:"Which rule decided"`
	Granted bool       `json:"granted"`
	Words   []string   `json:"words" doc:"The rights that it decided"`
	Mask    string     `json:"mask"`
	Entry   int        `json:"entry" doc:"Number of the deciding entry, from 1; 0 when none"`
	Account *Account   `json:"account,omitempty" doc:"Whom that entry names"`
	Path    []string   `json:"path,omitempty" doc:"The groups that lead from the person to that account"`
	Text    string     `json:"text" doc:"All of it in one sentence"`
}

// EffectiveRights is what one account may do at one place.
type EffectiveRights struct {
	Account  Account        `json:"account"`
	Level    acl.Level      `json:"level" enum:"full,change,write,read,list,none,special" doc:"What share and file permissions grant together"`
	Mask     string         `json:"mask"`
	Words    []string       `json:"words"`
	File     acl.Level      `json:"file" doc:"What the file permissions grant alone"`
	Share    acl.Level      `json:"share" doc:"What the share permissions let through"`
	Reasons  []RightsReason `json:"reasons,omitempty"`
	Complete bool           `json:"complete" doc:"Whether all groups of the account could be found"`
	Missing  string         `json:"missing,omitempty" doc:"What could not be asked, and what to do"`
}

// Place is a file or folder of a server.
type Place struct {
	Server string `json:"server"`
	Share  string `json:"share"`
	Path   string `json:"path" doc:"Path inside the share, without a leading slash; empty for its top"`
	Folder bool   `json:"folder"`
	// Asked is the path of a namespace through which it was reached.
	Asked string `json:"asked,omitempty" doc:"The path of the namespace that leads there, when one was asked for"`
}

// Rights is who may do what at one place.
type Rights struct {
	Place    Place             `json:"place"`
	File     Permissions       `json:"file" doc:"Permissions of the file or folder"`
	Share    Permissions       `json:"share" doc:"Permissions of the share"`
	People   []EffectiveRights `json:"people" doc:"What everybody whom an entry names may do in the end"`
	Findings []finding.Finding `json:"findings" doc:"What should be known about the permissions"`
}

// AskWhoCan asks for everybody who may do at least something.
type AskWhoCan struct {
	Path   string    `json:"path" maxLength:"8192" doc:"SERVER/SHARE/PATH, or a path of a namespace with a leading slash"`
	Level  acl.Level `json:"level" enum:"full,change,write,read,list"`
	Filter string    `json:"filter,omitempty" maxLength:"256" doc:"Only users with this in their name"`
}

// WhoCan is everybody who may do at least something.
type WhoCan struct {
	Run      Run               `json:"run"`
	Place    Place             `json:"place"`
	Level    acl.Level         `json:"level"`
	Filter   string            `json:"filter,omitempty" doc:"Part of the names of the users who were judged"`
	People   []EffectiveRights `json:"people" doc:"Users of the domain and of the server, with why, by name; at most 500"`
	Able     int               `json:"able" doc:"How many users have the level"`
	Looked   int               `json:"looked" doc:"How many users were judged"`
	Complete bool              `json:"complete" doc:"Whether all users and groups could be found"`
	Missing  string            `json:"missing,omitempty"`
}

// RightsShift is what one account gains or loses.
type RightsShift struct {
	Account Account   `json:"account"`
	Before  acl.Level `json:"before"`
	After   acl.Level `json:"after"`
	Gains   []string  `json:"gains,omitempty" doc:"Rights that it has only afterwards, where the levels do not say it"`
	Loses   []string  `json:"loses,omitempty" doc:"Rights that it has only before, where the levels do not say it"`
}

// RightsDifference is what differs at one path.
type RightsDifference struct {
	Path   string        `json:"path" doc:"Path below both places"`
	Folder bool          `json:"folder"`
	Unread string        `json:"unread,omitempty" doc:"Why it could not be read at one of the two places; nothing below it was compared"`
	Only   string        `json:"only,omitempty" enum:"first,second" doc:"Where it is, when the other place does not have it"`
	First  string        `json:"first,omitempty" doc:"SDDL at the first place"`
	Second string        `json:"second,omitempty" doc:"SDDL at the second place"`
	Shifts []RightsShift `json:"shifts,omitempty" doc:"Who may do something else at the second place"`
}

// CompareRights asks for a comparison of two places and everything below them.
type CompareRights struct {
	First  string `json:"first" maxLength:"8192" doc:"SERVER/SHARE/PATH, or a path of a namespace with a leading slash"`
	Second string `json:"second" maxLength:"8192" doc:"As first"`
}

// RightsComparison is how permissions of two places differ.
type RightsComparison struct {
	Run         *Run               `json:"run,omitempty" doc:"The run that compares everything below; absent when the two places alone were compared"`
	First       Place              `json:"first"`
	Second      Place              `json:"second"`
	Share       []RightsShift      `json:"share" doc:"Who comes through the share of the second place differently"`
	Looked      int64              `json:"looked" doc:"How many files and folders were compared"`
	Differ      int64              `json:"differ" doc:"How many are in both places and differ"`
	OnlyFirst   int64              `json:"onlyFirst" doc:"How many are at the first place alone"`
	OnlySecond  int64              `json:"onlySecond" doc:"How many are at the second place alone"`
	Unreadable  int64              `json:"unreadable" doc:"How many could not be read at one of the two places"`
	Accounts    []RightsTotal      `json:"accounts" doc:"Who gains and who loses, on how many; those most concerned first, at most 200"`
	Differences []RightsDifference `json:"differences" doc:"The first 50 in the order of the paths; those of a run can all be listed"`
}

// RightsTotal is on how many files and folders an account gains and loses.
type RightsTotal struct {
	Account Account `json:"account"`
	Gains   int64   `json:"gains" doc:"Files and folders where it may do more at the second place"`
	Loses   int64   `json:"loses" doc:"Files and folders where it may do less at the second place"`
}

// RightsAction is what is done to permissions.
type RightsAction string

const (
	RightsGrant   RightsAction = "grant"
	RightsRevoke  RightsAction = "revoke"
	RightsOwn     RightsAction = "own"
	RightsProtect RightsAction = "protect"
	RightsInherit RightsAction = "inherit"
	RightsReplace RightsAction = "replace-below"
)

// ChangeRights asks for a change of permissions.
type ChangeRights struct {
	Path     string       `json:"path" doc:"SERVER/SHARE/PATH, or a path of a namespace with a leading slash"`
	Action   RightsAction `json:"action" enum:"grant,revoke,own,protect,inherit,replace-below"`
	Account  string       `json:"account,omitempty" doc:"Name or SID: whom to grant or revoke, or who becomes the owner"`
	Level    acl.Level    `json:"level,omitempty" enum:"full,change,write,read,list" doc:"What to grant or deny"`
	Deny     bool         `json:"deny,omitempty" doc:"Deny instead of granting"`
	Scope    acl.Scope    `json:"scope,omitempty" enum:"everything,this,folders,files,below,one-level" doc:"To what it applies; everything when absent"`
	Drop     bool         `json:"drop,omitempty" doc:"When protecting: drop what was inherited instead of keeping it"`
	Below    bool         `json:"below,omitempty" doc:"When setting an owner: of everything below too"`
	Rehearse bool         `json:"rehearse,omitempty" doc:"Only tell what would change"`
}

// RightsObject is one file or folder that a change of permissions is about.
type RightsObject struct {
	Path    string        `json:"path" doc:"Path inside the share"`
	Folder  bool          `json:"folder"`
	State   string        `json:"state" enum:"planned,done,failed,undone"`
	Trouble string        `json:"trouble,omitempty"`
	Before  string        `json:"before" doc:"SDDL before"`
	After   string        `json:"after" doc:"SDDL after"`
	Shifts  []RightsShift `json:"shifts" doc:"Who gains or loses what"`
}

// RightsChange is a change of permissions: rehearsed, under way, done or undone.
type RightsChange struct {
	Run       Run            `json:"run"`
	Asked     ChangeRights   `json:"asked"`
	Place     Place          `json:"place"`
	Counts    RightsCounts   `json:"counts"`
	Shifts    []RightsShift  `json:"shifts" doc:"Who gains or loses what: at the place itself, and who else does below it"`
	Objects   []RightsObject `json:"objects" doc:"The first files and folders that it changes"`
	CanFinish bool           `json:"canFinish" doc:"Whether it stopped half-way and can be finished"`
	CanUndo   bool           `json:"canUndo" doc:"Whether what it did can be undone"`
}

// RightsCounts is how many objects of a change are in which state.
type RightsCounts struct {
	Planned int64 `json:"planned"`
	Done    int64 `json:"done"`
	Failed  int64 `json:"failed"`
	Undone  int64 `json:"undone"`
	Looked  int64 `json:"looked" doc:"How many files and folders were looked at"`
}

// RunState is how far work has come.
type RunState string

const (
	RunWaiting RunState = "waiting"
	RunRunning RunState = "running"
	RunStopped RunState = "stopped"
	RunDone    RunState = "done"
	RunFailed  RunState = "failed"
)

// Ended reports whether nothing more happens by itself.
func (s RunState) Ended() bool { return s == RunStopped || s == RunDone || s == RunFailed }

// Run is work that takes a while.
type Run struct {
	ID       int64      `json:"id" doc:"Number of the run"`
	Kind     string     `json:"kind" enum:"survey,share,front,rights,compare,verify,who-can,plan,create-set,verify-set,probe,contents,account-uses,estimate,what-if,pool,prove,update-movers" doc:"What kind of work"`
	Subject  string     `json:"subject" doc:"What it is about"`
	State    RunState   `json:"state" enum:"waiting,running,stopped,done,failed"`
	Who      string     `json:"who" doc:"User who started it"`
	Created  time.Time  `json:"created"`
	Started  *time.Time `json:"started,omitempty"`
	Ended    *time.Time `json:"ended,omitempty"`
	WorkedMs int64      `json:"workedMs" doc:"For how long it worked, in milliseconds, over all its parts"`
	Done     int64      `json:"done" doc:"How many files and folders are done"`
	Bytes    int64      `json:"bytes" doc:"How many bytes they have"`
	Fraction float64    `json:"fraction" doc:"How much of the work is done, 0 to 1, as far as can be told"`
	Rate     float64    `json:"rate" doc:"Files and folders per second"`
	LeftS    *int64     `json:"leftS,omitempty" doc:"Seconds that it will still take, as far as can be told"`
	Trouble  string     `json:"trouble,omitempty" doc:"Why it failed or stopped"`
	Waits    string     `json:"waits,omitempty" doc:"What it waits for now, when it does nothing else"`
}

// Folder is what lies in a folder, with permissions.
type Folder struct {
	Place   Place         `json:"place"`
	As      *Account      `json:"as,omitempty" doc:"Whose rights are told"`
	Entries []FolderEntry `json:"entries" doc:"Folders first, then files, by name"`
	More    bool          `json:"more" doc:"Whether there are more entries than shown: ask for a part of the name"`
}

// FolderEntry is a file or folder with a summary of its permissions.
type FolderEntry struct {
	Name      string    `json:"name"`
	Kind      string    `json:"kind" enum:"file,folder,link,other"`
	Size      int64     `json:"size" doc:"In bytes; 0 for folders"`
	Modified  time.Time `json:"modified"`
	Own       int       `json:"own" doc:"Entries of its own"`
	Inherited int       `json:"inherited" doc:"Entries from above"`
	Protected bool      `json:"protected" doc:"Whether nothing is inherited"`
	Stale     bool      `json:"stale" doc:"Whether what it inherited is not what the folder hands down"`
	Level     acl.Level `json:"level,omitempty" doc:"What the account asked for may do with it"`
	Trouble   string    `json:"trouble,omitempty"`
}

// ExplainDescriptor asks for a security descriptor in words.
type ExplainDescriptor struct {
	Descriptor string    `json:"descriptor" maxLength:"65536" doc:"As SDDL"`
	On         acl.Thing `json:"on,omitempty" enum:"file,folder,share" default:"folder" doc:"What it is on"`
}

// AccessAcross is what a person may do with a path of a set at each of its replicas.
type AccessAcross struct {
	Set    string     `json:"set" doc:"Name of the set"`
	Path   string     `json:"path" doc:"Path within the set; empty for its top"`
	As     string     `json:"as" doc:"The person, as asked for"`
	Same   bool       `json:"same" doc:"Whether the person may do the same at all replicas that could be asked"`
	Places []AccessAt `json:"places" doc:"The replicas, without buckets: nobody signs in there"`
}

// AccessAt is what a person may do at one replica.
type AccessAt struct {
	Replica string           `json:"replica" doc:"Name of the replica"`
	Place   string           `json:"place" doc:"Where the path is there, as SERVER/SHARE/PATH"`
	Rights  *EffectiveRights `json:"rights,omitempty" doc:"What the person may do there, and why; absent when that could not be asked"`
	Problem string           `json:"problem,omitempty" doc:"Why it could not be asked"`
}
