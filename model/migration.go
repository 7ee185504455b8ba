package model

import (
	"time"

	"bridgespan/core/finding"
)

// MigrationDraft is what a migration is to move, as far as it was entered.
type MigrationDraft struct {
	Sources []string `json:"sources" minItems:"1" maxItems:"200" doc:"What is migrated: servers, with every share, and single shares as SERVER/SHARE"`
	Leave   []string `json:"leave,omitempty" maxItems:"1000" doc:"Shares that are left where they are, as SERVER/SHARE"`
	Target  string   `json:"target,omitempty" maxLength:"4096" doc:"Where a folder for each share goes, as SERVER/SHARE or SERVER/SHARE/FOLDER: a share that only administrators use, as a rule"`
	// Folders are those that differ from the names of their shares.
	Folders []MigrationFolder `json:"folders,omitempty" maxItems:"1000" doc:"Folders at the target of single shares; the others go to a folder of the name of the share"`
	Note    string            `json:"note,omitempty" maxLength:"1000" doc:"For administrators"`
}

// MigrationFolder is where one share goes.
type MigrationFolder struct {
	Share  string `json:"share" maxLength:"512" doc:"The share, as SERVER/SHARE"`
	Folder string `json:"folder" maxLength:"4096" doc:"Its folder, below the target"`
}

// NewMigration begins a migration.
type NewMigration struct {
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"Name of the migration"`
	MigrationDraft
}

// EditMigration changes what was entered; what is absent stays.
type EditMigration struct {
	Sources []string           `json:"sources,omitempty" maxItems:"200" doc:"What is migrated: servers, with every share, and single shares as SERVER/SHARE"`
	Leave   *[]string          `json:"leave,omitempty" maxItems:"1000" doc:"Shares that are left where they are, as SERVER/SHARE"`
	Target  *string            `json:"target,omitempty" maxLength:"4096" doc:"Where a folder for each share goes, as SERVER/SHARE or SERVER/SHARE/FOLDER; empty for none"`
	Folders *[]MigrationFolder `json:"folders,omitempty" maxItems:"1000" doc:"Folders at the target of single shares"`
	Note    *string            `json:"note,omitempty" maxLength:"1000" doc:"For administrators"`
}

// Take puts the changes into a draft.
func (e *EditMigration) Take(d *MigrationDraft) {
	if e.Sources != nil {
		d.Sources = e.Sources
	}
	Take(&d.Leave, e.Leave)
	Take(&d.Target, e.Target)
	Take(&d.Folders, e.Folders)
	Take(&d.Note, e.Note)
}

// Migration is a move of shares to another server, with what surveys found.
type Migration struct {
	Name string `json:"name" doc:"Name of the migration"`
	MigrationDraft
	Shares  []MigrationShare `json:"shares" doc:"Shares of the sources, by server and name"`
	Totals  MigrationTotals  `json:"totals" doc:"Sums over the surveyed shares that are migrated"`
	Missing []string         `json:"missing,omitempty" doc:"Sources whose shares are not known, and why"`
	// TargetChecks are those of the latest check.
	TargetChecks  []finding.Finding `json:"targetChecks" doc:"What the latest check of the target found"`
	TargetChecked *time.Time        `json:"targetChecked,omitempty" doc:"When the target was checked; absent since the migration was changed"`
	Changed       time.Time         `json:"changed" doc:"When the draft was last changed"`
	By            string            `json:"by" doc:"Who changed it"`
	Version       int64             `json:"version" doc:"Number of the change, for If-Match"`
}

// Why a share is left where it is.
const (
	LeftByChoice = "choice"
	LeftByKind   = "administrative" // administrative shares, printers and pipes are no data of people
)

// States of the latest survey of a share.
const (
	SurveyMissing  = "missing"
	SurveyRunning  = "running"
	SurveyStopped  = "stopped"
	SurveyFailed   = "failed"
	SurveyComplete = "done"
)

// MigrationShare is a share of a source.
type MigrationShare struct {
	Server string       `json:"server"`
	Share  string       `json:"share"`
	Left   string       `json:"left,omitempty" enum:"choice,administrative" doc:"Why it stays where it is; absent when it is migrated"`
	Folder string       `json:"folder" doc:"Folder at the target that it goes to"`
	Survey ShareSurvey  `json:"survey" doc:"Its latest survey"`
	Counts *ShareCounts `json:"counts,omitempty" doc:"What the latest finished survey found; absent without one"`
}

// ShareSurvey is how far the latest survey of a share is.
type ShareSurvey struct {
	State    string  `json:"state" enum:"missing,running,stopped,failed,done"`
	Run      int64   `json:"run,omitempty" doc:"Its run"`
	Fraction float64 `json:"fraction" doc:"How much of it is done, from 0 to 1"`
	Trouble  string  `json:"trouble,omitempty" doc:"Why it failed"`
}

// ShareCounts are what a survey of a share found, in short.
type ShareCounts struct {
	Run           int64     `json:"run" doc:"The survey"`
	At            time.Time `json:"at" doc:"When it counted"`
	Files         int64     `json:"files"`
	Folders       int64     `json:"folders"`
	Bytes         int64     `json:"bytes" doc:"Logical size of all files"`
	ChangedPerDay int64     `json:"changedBytesPerDay" doc:"Bytes of files that change in a day"`
	ChangedSince  time.Time `json:"changedSince" doc:"Since when changes were counted: the survey before, or a week before this one"`
	Compared      bool      `json:"compared" doc:"Whether two surveys were compared; else the times of the files tell"`
	KeptOut       int64     `json:"keptOut" doc:"Files and folders that the account of the server cannot read"`
	Open          int64     `json:"open" doc:"Files that were open"`
	Names         int64     `json:"names" doc:"Names that other systems refuse"`
	Findings      int64     `json:"findings" doc:"Findings about permissions"`
}

// MigrationTotals are sums over shares.
type MigrationTotals struct {
	Shares        int   `json:"shares" doc:"Shares that are migrated"`
	Surveyed      int   `json:"surveyed" doc:"Of these, shares with a finished survey"`
	Left          int   `json:"left" doc:"Shares that stay"`
	Files         int64 `json:"files"`
	Folders       int64 `json:"folders"`
	Bytes         int64 `json:"bytes"`
	ChangedPerDay int64 `json:"changedBytesPerDay"`
	KeptOut       int64 `json:"keptOut"`
	Open          int64 `json:"open"`
	Names         int64 `json:"names"`
}

// MigrationAccount is an account in the permissions of the shares of one source server.
type MigrationAccount struct {
	SurveyedAccount
	Server string   `json:"server" doc:"Server whose permissions name it"`
	Shares []string `json:"shares" doc:"Shares in which it is named"`
}
