package model

import (
	"bridgespan/core/acl"
	"bridgespan/core/finding"
)

// ShareGrant is who may come through a share, and how far.
type ShareGrant struct {
	Account string    `json:"account" doc:"Name or SID"`
	Level   acl.Level `json:"level" enum:"full,change,read,none" doc:"How much comes through; none denies"`
}

// ShareSettings is what can be set on a share; what is absent stays, or is the server's own choice for a new one.
type ShareSettings struct {
	Note           *string      `json:"note,omitempty" doc:"Remark that people see"`
	Access         []ShareGrant `json:"access,omitempty" doc:"Who may come through; for a new share everybody when absent"`
	HideUnreadable *bool        `json:"hideUnreadable,omitempty" doc:"Whether entries that a person cannot open are not listed"`
	Encrypt        *bool        `json:"encrypt,omitempty" doc:"Whether only encrypted connections are let in"`
	Offline        string       `json:"offline,omitempty" enum:"by-hand,documents,programs,never" doc:"Whether clients may keep copies for when the server is away"`
	ReadOnly       bool         `json:"readOnly,omitempty" doc:"Let nobody more than read through"`
}

// NewShare makes a share.
type NewShare struct {
	Name string `json:"name" doc:"Name of the share"`
	Path string `json:"path" doc:"Folder on the server, as the server writes paths; or SHARE:FOLDER for a folder of an existing share"`
	ShareSettings
	Rehearse bool `json:"rehearse,omitempty" doc:"Only tell what would be made"`
}

// EditShare changes a share.
type EditShare struct {
	ShareSettings
	Rehearse bool `json:"rehearse,omitempty" doc:"Only tell what would change"`
}

// SharePlan is what making, changing or removing a share does.
type SharePlan struct {
	Server     string            `json:"server"`
	Name       string            `json:"name"`
	Path       string            `json:"path"`
	Advice     []finding.Finding `json:"advice"`
	Steps      []Step            `json:"steps"`
	NewFolder  bool              `json:"newFolder" doc:"Whether its folder will be made"`
	Folder     *Permissions      `json:"folder,omitempty" doc:"Permissions that the folder has, or will get"`
	Share      *Permissions      `json:"share,omitempty" doc:"Permissions that the share will get"`
	Effective  []EffectiveRights `json:"effective" doc:"What people may do through the share in the end"`
	Connected  []string          `json:"connected" doc:"Who has files of it open now"`
	Signposts  []string          `json:"signposts" doc:"Paths of namespaces that lead there"`
	Rehearsed  bool              `json:"rehearsed"`
	Run        int64             `json:"run,omitempty" doc:"The run that does it, unless it was only rehearsed"`
	Unfinished bool              `json:"unfinished" doc:"Whether something could not be done; see the steps"`
}

// ShareNow is how a share is set, as its server tells now.
type ShareNow struct {
	Server         string       `json:"server"`
	Name           string       `json:"name"`
	Note           string       `json:"note,omitempty"`
	Path           string       `json:"path" doc:"Folder on the server"`
	Uses           int          `json:"uses" doc:"How many connections it has"`
	Access         []ShareGrant `json:"access" doc:"Who may come through"`
	HideUnreadable bool         `json:"hideUnreadable"`
	Encrypt        bool         `json:"encrypt"`
	Offline        string       `json:"offline" enum:"by-hand,documents,programs,never"`
	Connected      []string     `json:"connected" doc:"Who has something of it open"`
}
