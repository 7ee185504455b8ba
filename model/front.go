package model

import (
	"time"

	"bridgespan/core/finding"
	"bridgespan/core/front"
)

// Front is a namespace as a share of an SMB server, kept by a mover beside it.
type Front struct {
	ID        int64  `json:"-"`
	Server    string `json:"server" doc:"Server in Bridge Span that is the host with the mover"`
	Share     string `json:"share" doc:"Name of the share"`
	Namespace string `json:"namespace" doc:"Namespace that it shows"`
	Branch    string `json:"branch,omitempty" doc:"Folder of the namespace that is its top; absent for all of it"`
	Site      string `json:"site" doc:"Site whose people come through it: that of the server"`
	Host      string `json:"host" doc:"Name by which people's machines reach it"`
	Comment   string `json:"comment,omitempty" doc:"Text that people see beside the share"`
	// LeaveOutFailing: else they stand last.
	LeaveOutFailing bool   `json:"leaveOutFailing" doc:"Leave failing locations out while another one is open; else they stand last"`
	CheckDomain     string `json:"checkDomain,omitempty" doc:"Domain of the account that checks it"`
	CheckAccount    string `json:"checkAccount,omitempty" doc:"Account that checks it; absent: it is not checked as a person"`

	State    string          `json:"state" enum:"new,current,writing,away,failing,leaving" doc:"current: it holds what the namespace says; away: its mover does not answer, and clients find it as last written; failing: some of it cannot be written; leaving: it is being removed"`
	Trouble  string          `json:"trouble,omitempty" doc:"Why it is away or fails"`
	Since    *time.Time      `json:"since,omitempty" doc:"Since when it is so"`
	Folders  int64           `json:"folders" doc:"Folders that it holds"`
	Links    int64           `json:"links" doc:"Signposts that it holds, as links"`
	LeftOut  []front.LeftOut `json:"leftOut,omitempty" doc:"Signposts that it does not show, and why; the first 50"`
	Foreign  []string        `json:"foreign,omitempty" doc:"Names in its folder that Bridge Span did not make; they are left alone"`
	Written  *time.Time      `json:"written,omitempty" doc:"When something in it was last changed"`
	CaughtUp *time.Time      `json:"caughtUp,omitempty" doc:"When it was last compared as a whole"`
	// CaughtUpChanges is what that found.
	CaughtUpChanges int64  `json:"caughtUpChanges" doc:"How many changes it had missed then"`
	Check           *Check `json:"check,omitempty" doc:"The last check, as a client meets it"`
	// LetGo: it is leaving, and no instance writes it any more.
	LetGo   bool  `json:"-"`
	Version int64 `json:"version" doc:"Goes up with every change of its settings; the ETag"`
}

// States of a front.
const (
	FrontNew     = "new"
	FrontCurrent = "current"
	FrontWriting = "writing"
	FrontAway    = "away"
	FrontFailing = "failing"
	FrontLeaving = "leaving"
)

// UNC is how people's machines name it.
func (f Front) UNC() string { return `\\` + f.Host + `\` + f.Share }

// Settings are how the front shows its namespace.
func (f Front) Settings() front.Settings {
	return front.Settings{Branch: f.Branch, Site: f.Site, LeaveOutFailing: f.LeaveOutFailing}
}

// Fronts are fronts.
type Fronts struct {
	Fronts []Front `json:"fronts" doc:"By server and share"`
	// Keeping is shown by every client where something changes.
	Keeping string `json:"keeping" doc:"How long clients keep a referral"`
}

// FrontKeeping says how long clients keep a referral.
const FrontKeeping = "Clients keep a referral for as long as the file service says (Samba: 10 minutes). Open files stay where they are. Restarting a client drops its referrals."

// FrontConnection is somebody who has a front open.
type FrontConnection struct {
	Person  string    `json:"person,omitempty" doc:"Account; absent when the host cannot name it"`
	Machine string    `json:"machine" doc:"Machine that the person is at"`
	Since   time.Time `json:"since" doc:"Since when"`
}

// FrontConnections are those who have a front open.
type FrontConnections struct {
	Connected []FrontConnection `json:"connected" doc:"The latest first; at most 500"`
}

// FrontCheckAs is an account that checks a front.
type FrontCheckAs struct {
	Domain   string `json:"domain,omitempty" maxLength:"255" doc:"Domain of the account"`
	Account  string `json:"account" maxLength:"255" doc:"Account of a person"`
	Password string `json:"password" maxLength:"255" format:"password" doc:"Its password"`
}

// NewFront adds a front.
type NewFront struct {
	Server          string        `json:"server" maxLength:"255" doc:"Server in Bridge Span that is the host with the mover"`
	Share           string        `json:"share" maxLength:"80" doc:"Name of the share that people see"`
	Namespace       string        `json:"namespace" maxLength:"255" doc:"Namespace to show"`
	Branch          string        `json:"branch,omitempty" maxLength:"1000" doc:"Folder of the namespace that is its top"`
	Comment         string        `json:"comment,omitempty" maxLength:"200" doc:"Text that people see beside the share"`
	LeaveOutFailing bool          `json:"leaveOutFailing,omitempty" doc:"Leave failing locations out while another one is open"`
	CheckAs         *FrontCheckAs `json:"checkAs,omitempty" doc:"Account of a person that checks it again and again; kept sealed"`
	Rehearse        bool          `json:"rehearse,omitempty" doc:"Only tell what would be made, and what is in the way"`
}

// EditFront changes a front; what is absent stays.
type EditFront struct {
	Branch          *string       `json:"branch,omitempty" maxLength:"1000" doc:"Folder of the namespace that is its top; empty: all of it"`
	Comment         *string       `json:"comment,omitempty" maxLength:"200" doc:"Text that people see beside the share"`
	LeaveOutFailing *bool         `json:"leaveOutFailing,omitempty" doc:"Leave failing locations out while another one is open"`
	CheckAs         *FrontCheckAs `json:"checkAs,omitempty" doc:"Account of a person that checks it; with an empty name, nobody does"`
}

// RemoveFront is how a front is removed.
type RemoveFront struct {
	Forget   bool // from Bridge Span only: its host is lost
	Rehearse bool // nothing is done
}

// FrontPlan is what making or removing a front does.
type FrontPlan struct {
	Front     Front             `json:"front"`
	Folder    string            `json:"folder,omitempty" doc:"Its folder on the host"`
	Checks    []finding.Finding `json:"checks" doc:"What was looked at, in order"`
	Lines     []string          `json:"lines,omitempty" doc:"Lines that the configuration of the file service lacks; its mover writes those in a file of its own"`
	Steps     []Step            `json:"steps" doc:"What is done, in order"`
	Rehearsed bool              `json:"rehearsed" doc:"Whether this only tells what would be done"`
	Run       int64             `json:"run,omitempty" doc:"Number of the run that does it"`
}

// AskFrontCheck asks for a check.
type AskFrontCheck struct {
	As    *FrontCheckAs `json:"as,omitempty" doc:"Account of a person; absent: the one that checks it as a rule"`
	Below string        `json:"below,omitempty" maxLength:"1000" doc:"Only what is at or below this path of the front"`
}
