package model

import (
	"bridgespan/core/account"
	"bridgespan/core/finding"
	"bridgespan/core/survey"
)

// SurveyPlace is what one survey is about.
type SurveyPlace struct {
	Server string `json:"server" doc:"Server that holds the share"`
	Share  string `json:"share,omitempty" doc:"Share to survey; absent for every share that the server shows in lists"`
	Sub    string `json:"sub,omitempty" doc:"Folder below the share; absent for all of it"`
}

// NewSurveys asks for surveys: all of them are begun, or none.
type NewSurveys struct {
	Places []SurveyPlace `json:"places" minItems:"1" maxItems:"200" doc:"Each share gets a survey of its own, so that it can be compared with later ones"`
}

// Begun are the runs that a request began.
type Begun struct {
	Runs []Run `json:"runs"`
}

// Survey is what is in a share, and what should be known about it.
type Survey struct {
	Run      Run               `json:"run"`
	Server   string            `json:"server"`
	Share    string            `json:"share"`
	Sub      string            `json:"sub,omitempty"`
	Figures  survey.Figures    `json:"figures" doc:"What was counted; so far, while it runs"`
	Open     []OpenFile        `json:"open" doc:"Files that were open when it ended"`
	Findings []finding.Finding `json:"findings" doc:"What should be known about permissions"`
	Distinct int64             `json:"distinct" doc:"How many different sets of permissions there are"`
	KeptOut  *KeptOut          `json:"keptOut,omitempty" doc:"Files that the account of the server cannot read; absent until it was tried"`
	Settings *SurveyedShare    `json:"settings,omitempty" doc:"How the share was set; absent where a mover runs, and until the survey is done"`
	Accounts []SurveyedAccount `json:"accounts" doc:"Accounts in the permissions of the files and of the share, those in most of them first; at most 2,000"`
}

// SurveyedShare is how a share was set when it was surveyed.
type SurveyedShare struct {
	Note           string       `json:"note,omitempty"`
	Path           string       `json:"path" doc:"Folder on the server, as the server writes paths"`
	HideUnreadable bool         `json:"hideUnreadable" doc:"Whether entries that a person cannot open are not listed"`
	Encrypt        bool         `json:"encrypt" doc:"Whether only encrypted connections are let in"`
	Offline        string       `json:"offline,omitempty" doc:"Whether clients may keep copies for when the server is away"`
	MaxUses        int64        `json:"maxUses,omitempty" doc:"How many connections it may have; absent for any number"`
	Access         []ShareGrant `json:"access" doc:"Share permissions; none let everybody through"`
	Total          int64        `json:"totalBytes" doc:"Capacity of the volume under it"`
	Free           int64        `json:"freeBytes" doc:"Free space on that volume"`
}

// SurveyedAccount is an account in permissions.
type SurveyedAccount struct {
	Account
	Reach   account.Reach `json:"reach" enum:"everywhere,local,unresolved" doc:"everywhere: other servers know it too; local: another server takes it for a bare SID; unresolved: nobody knows it"`
	BuiltIn bool          `json:"builtIn,omitempty" doc:"Whether it is a group that every server has, with members of its own"`
	Files   int64         `json:"files" doc:"Files whose permissions name it"`
	Folders int64         `json:"folders" doc:"Folders whose permissions name it"`
	OnShare bool          `json:"onShare" doc:"Whether share permissions name it"`
	Sample  string        `json:"sample,omitempty" doc:"One of the files or folders"`
	Members []string      `json:"members,omitempty" doc:"Direct members of a local group, by name"`
}

// KeptOut counts the files that an account cannot read.
type KeptOut struct {
	Files   int64    `json:"files" doc:"Files whose content it cannot read"`
	Tried   int64    `json:"tried" doc:"How many different sets of permissions were tried, by reading a file of each"`
	Samples []string `json:"samples,omitempty" doc:"Some of the files"`
}

// SurveyComparison is how a share changed between two surveys.
type SurveyComparison struct {
	Before  Run               `json:"before"`
	After   Run               `json:"after"`
	Figures survey.Comparison `json:"figures"`
}
