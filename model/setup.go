package model

import (
	"cmp"
	"time"

	"bridgespan/core/filter"
	"bridgespan/core/finding"
)

// Steps of the set-up of a cloud set, in the order in which they are done.
const (
	SetupAccount  = "account"
	SetupBucket   = "bucket"
	SetupMovers   = "movers"
	SetupSettings = "settings"
	SetupEdges    = "edges"
	SetupPolicies = "policies"
	SetupFill     = "fill"
	SetupPlan     = "plan"
	SetupStart    = "start"
)

// SetupSteps are the steps in their order.
var SetupSteps = []string{SetupAccount, SetupBucket, SetupMovers, SetupSettings, SetupEdges, SetupPolicies, SetupFill, SetupPlan, SetupStart}

// States of a step of a set-up.
const (
	SetupLocked = "locked" // an earlier step is not passed
	SetupOpen   = "open"   // something is to be entered or done
	SetupPassed = "passed"
	SetupFailed = "failed" // a check failed
)

// SetupStep is a step of a set-up.
type SetupStep struct {
	Step   string            `json:"step" enum:"account,bucket,movers,settings,edges,policies,fill,plan,start" doc:"Which step it is"`
	State  string            `json:"state" enum:"locked,open,passed,failed" doc:"locked: an earlier step is not passed; open: something is to be entered or done; failed: a check failed"`
	Checks []finding.Finding `json:"checks" doc:"What was checked"`
}

// CloudDraft is what a cloud set is to be made of, as far as it was entered.
type CloudDraft struct {
	Account      string       `json:"account,omitempty" maxLength:"200" doc:"Name of the cloud account"`
	Bucket       string       `json:"bucket,omitempty" maxLength:"63" doc:"Name of the bucket"`
	Folder       string       `json:"folder,omitempty" maxLength:"1024" doc:"Folder in the bucket; all of it when absent"`
	Sealing      *Sealing     `json:"sealing,omitempty" doc:"Seal files: encrypt them before they are sent; plain files when absent"`
	Quota        int64        `json:"quota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that the provider lets the account store; object services do not report it; absent for no limit"`
	Edges        []DraftEdge  `json:"edges,omitempty" maxItems:"31" doc:"Folders on servers"`
	Note         string       `json:"note,omitempty" maxLength:"1000" doc:"For administrators"`
	Calendar     string       `json:"calendar,omitempty" maxLength:"1000" doc:"When lanes are open and how fast, as rules such as \"full; mon-fri 8-18 off\"; always when absent"`
	Filter       filter.Rules `json:"filter,omitempty" doc:"What is kept the same; everything when absent"`
	Permissions  string       `json:"permissions,omitempty" enum:"carry,map,leave" doc:"carry (when absent): permissions are the same everywhere; map: they are carried through an account map; leave: each replica has its own"`
	AccountMap   string       `json:"accountMap,omitempty" maxLength:"200" doc:"Name of the account map that permissions are carried through"`
	AtticDays    int          `json:"atticDays,omitempty" minimum:"0" maximum:"3650" doc:"For how many days attics keep things; 60 when absent"`
	RemovalLimit *int         `json:"removalLimit,omitempty" minimum:"0" maximum:"100" doc:"Percent of the files and folders of a replica: when more are removed there within an hour, the removals are pending until somebody decides; 25 when absent"`
}

// DraftEdge is a folder that is to become an edge.
type DraftEdge struct {
	Server       string      `json:"server" minLength:"1" maxLength:"200" doc:"Name of the server"`
	Share        string      `json:"share,omitempty" maxLength:"200" doc:"Name of the share"`
	Sub          string      `json:"sub,omitempty" maxLength:"4096" doc:"Folder within the share; all of it when absent"`
	Seed         bool        `json:"seed,omitempty" doc:"Whether its content wins the first fill; the bucket's when no edge does"`
	SystemVolume bool        `json:"systemVolume,omitempty" doc:"Accept a folder on the volume of the operating system"`
	IntakeQuota  int64       `json:"intakeQuota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that may be on their way in at a time; worked out by the plan when absent"`
	Policy       *EdgePolicy `json:"policy,omitempty" doc:"What it keeps whole; everything when absent"`
}

// CloudSetup is a cloud set that is being set up.
type CloudSetup struct {
	Name string `json:"name" doc:"Name of the cloud set"`
	CloudDraft
	Steps   []SetupStep `json:"steps" doc:"The steps, in their order"`
	Next    string      `json:"next" doc:"The first step that is not passed; empty while the set is being created"`
	Checked *time.Time  `json:"checked,omitempty" doc:"When the steps before the plan were checked; absent after a change"`
	Plan    int64       `json:"plan,omitempty" doc:"Number of the latest plan of these settings"`
	Start   int64       `json:"start,omitempty" doc:"Number of the run that creates the set"`
	Changed time.Time   `json:"changed" doc:"When it was last changed"`
	By      string      `json:"by" doc:"Who changed it last"`
	Version int64       `json:"version" doc:"Goes up with every change; the ETag"`
}

// NewCloudSetup begins the set-up of a cloud set.
type NewCloudSetup struct {
	Name string `json:"name" minLength:"1" maxLength:"200" doc:"Name of the cloud set"`
	CloudDraft
}

// EditCloudSetup changes a set-up; what is absent stays.
type EditCloudSetup struct {
	Account      *string       `json:"account,omitempty" maxLength:"200" doc:"Name of the cloud account"`
	Bucket       *string       `json:"bucket,omitempty" maxLength:"63" doc:"Name of the bucket"`
	Folder       *string       `json:"folder,omitempty" maxLength:"1024" doc:"Folder in the bucket; empty for all of it"`
	Sealing      *DraftSealing `json:"sealing,omitempty" doc:"How files are sealed"`
	Quota        *int64        `json:"quota,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Bytes that the provider lets the account store; 0 for no limit"`
	Edges        *[]DraftEdge  `json:"edges,omitempty" maxItems:"31" doc:"All folders on servers"`
	Note         *string       `json:"note,omitempty" maxLength:"1000" doc:"For administrators"`
	Calendar     *string       `json:"calendar,omitempty" maxLength:"1000" doc:"When lanes are open and how fast"`
	Filter       *filter.Rules `json:"filter,omitempty" doc:"What is kept the same"`
	Permissions  *string       `json:"permissions,omitempty" enum:"carry,map,leave" doc:"How permissions are carried"`
	AccountMap   *string       `json:"accountMap,omitempty" maxLength:"200" doc:"Name of the account map; empty for none"`
	AtticDays    *int          `json:"atticDays,omitempty" minimum:"0" maximum:"3650" doc:"For how many days attics keep things; 0 for 60"`
	RemovalLimit *int          `json:"removalLimit,omitempty" minimum:"0" maximum:"100" doc:"Removal limit in percent; 0 for no limit"`
}

// DraftSealing changes how files are sealed.
type DraftSealing struct {
	What         string   `json:"what" enum:"nothing,contents,names" doc:"What is sealed: names means contents and names"`
	RecoveryKeys []string `json:"recoveryKeys,omitempty" maxItems:"8" doc:"Public keys of age: with the private key of any of them, the files can be opened without Bridge Span"`
}

// Sealing is how files are sealed; nil when nothing is.
func (d *DraftSealing) Sealing() *Sealing {
	if d.What == SealNothing {
		return nil
	}
	return &Sealing{Names: d.What == SealNames, RecoveryKeys: d.RecoveryKeys}
}

// What a set seals.
const (
	SealNothing  = "nothing"
	SealContents = "contents"
	SealNames    = "names"
)

// Asked is the replica set that the draft describes, with the bucket first.
func (d *CloudDraft) Asked(name string) NewReplicaSet {
	n := NewReplicaSet{Name: name, Note: d.Note, Layout: LayoutHub, Calendar: cmp.Or(d.Calendar, "full"), Filter: d.Filter,
		Permissions: cmp.Or(d.Permissions, PermissionsCarry), AccountMap: d.AccountMap, AtticDays: d.AtticDays, RemovalLimit: d.RemovalLimit,
		Replicas: []NewReplica{{Server: d.Account, Share: d.Bucket, Sub: d.Folder, Sealing: d.Sealing}}}
	for _, e := range d.Edges {
		n.Replicas = append(n.Replicas, NewReplica{Server: e.Server, Share: e.Share, Sub: e.Sub, Seed: e.Seed, IntakeQuota: e.IntakeQuota, Edge: e.Policy})
	}
	return n
}

// Take changes a draft; what is absent stays.
func (e *EditCloudSetup) Take(d *CloudDraft) {
	Take(&d.Account, e.Account)
	Take(&d.Bucket, e.Bucket)
	Take(&d.Folder, e.Folder)
	if e.Sealing != nil {
		d.Sealing = e.Sealing.Sealing()
	}
	Take(&d.Quota, e.Quota)
	Take(&d.Edges, e.Edges)
	Take(&d.Note, e.Note)
	Take(&d.Calendar, e.Calendar)
	Take(&d.Filter, e.Filter)
	Take(&d.Permissions, e.Permissions)
	Take(&d.AccountMap, e.AccountMap)
	Take(&d.AtticDays, e.AtticDays)
	if e.RemovalLimit != nil {
		d.RemovalLimit = e.RemovalLimit
	}
}
