package finding

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
)

// Action is a remedy as each client offers it: the console as a button, the command line as a
// command, the API as a link.
type Action struct {
	Do   Do       `json:"do" enum:"check-server,edit-server,create-bucket,update-mover,add-leg,set-intake,set-attic,show-accounts,show-troubles,open-lane,decide-removals,show-verification,grant,edit-share,edit-front,edit-account-map,show-rights,inherit,revoke,verify-location,open-location,move-entry,remove-entry,remove-location" doc:"What is done"`
	Args []string `json:"args,omitempty" maxItems:"4" doc:"To what, in the order that do needs"`
	Href string   `json:"href,omitempty" doc:"Where the API does it, or shows what it is about"`
}

// Do is a kind of action; its arguments follow.
type Do string

const (
	CheckServer      Do = "check-server"      // server
	EditServer       Do = "edit-server"       // server
	CreateBucket     Do = "create-bucket"     // cloud account, bucket
	UpdateMover      Do = "update-mover"      // server
	AddLeg           Do = "add-leg"           // site, other site
	SetIntake        Do = "set-intake"        // replica set, replica: how much its intake holds
	SetAttic         Do = "set-attic"         // replica set, replica: how much its attic keeps
	ShowAccounts     Do = "show-accounts"     // replica set
	ShowTroubles     Do = "show-troubles"     // replica set
	OpenLane         Do = "open-lane"         // replica set, from, to
	DecideRemovals   Do = "decide-removals"   // replica set, replica: apply pending removals, or restore the files
	ShowVerification Do = "show-verification" // replica set, run
	Grant            Do = "grant"             // place, account
	EditShare        Do = "edit-share"        // server, share
	EditFront        Do = "edit-front"        // server, share: which account checks it
	EditAccountMap   Do = "edit-account-map"  // account map
	ShowRights       Do = "show-rights"       // place
	Inherit          Do = "inherit"           // place: take over what the folder above grants
	Revoke           Do = "revoke"            // place, account
	VerifyLocation   Do = "verify-location"   // namespace, full path, location
	OpenLocation     Do = "open-location"     // namespace, full path, location
	MoveEntry        Do = "move-entry"        // namespace, full path, new full path
	RemoveEntry      Do = "remove-entry"      // namespace, full path
	RemoveLocation   Do = "remove-location"   // namespace, full path, location
)

// links are where the API does what an action says, or shows what it is about. Arguments are
// filled in by their numbers.
var links = map[Do]string{
	CheckServer:      "/servers/%[1]s/check",
	EditServer:       "/servers/%[1]s",
	CreateBucket:     "/servers/%[1]s/shares",
	UpdateMover:      "/servers/%[1]s",
	AddLeg:           "/legs/%[1]s/%[2]s",
	SetIntake:        "/replica-sets/%[1]s/replicas/%[2]s",
	SetAttic:         "/replica-sets/%[1]s/replicas/%[2]s",
	ShowAccounts:     "/replica-sets/%[1]s/accounts",
	ShowTroubles:     "/replica-sets/%[1]s/troubles",
	OpenLane:         "/replica-sets/%[1]s/lanes/%[2]s/%[3]s",
	DecideRemovals:   "/replica-sets/%[1]s/replicas/%[2]s",
	ShowVerification: "/replica-verifications/%[2]s",
	Grant:            "/rights?path=%[1]s",
	EditShare:        "/servers/%[1]s/shares/%[2]s",
	EditFront:        "/fronts/%[1]s/%[2]s",
	EditAccountMap:   "/account-maps/%[1]s",
	ShowRights:       "/rights?path=%[1]s",
	Inherit:          "/rights?path=%[1]s",
	Revoke:           "/rights?path=%[1]s",
	VerifyLocation:   "/namespaces/%[1]s/lint/fix",
	OpenLocation:     "/namespaces/%[1]s/lint/fix",
	MoveEntry:        "/namespaces/%[1]s/lint/fix",
	RemoveEntry:      "/namespaces/%[1]s/lint/fix",
	RemoveLocation:   "/namespaces/%[1]s/lint/fix",
}

// Dos are all kinds of actions.
func Dos() []Do { return slices.Sorted(maps.Keys(links)) }

// Prefix is before the paths of links.
const Prefix = "/api/v1"

// To makes an action.
func To(do Do, args ...string) *Action {
	a := &Action{Do: do, Args: args}
	escaped := make([]any, len(args))
	for i, arg := range args {
		escaped[i] = strings.ReplaceAll(url.QueryEscape(arg), "+", "%20") // right in paths and in queries
	}
	if link, known := links[do]; known {
		a.Href = Prefix + fmt.Sprintf(link, escaped...)
	}
	return a
}

// OfNamespace reports whether it mends a flaw of a namespace, as the API does at its link.
func (d Do) OfNamespace() bool {
	switch d {
	case VerifyLocation, OpenLocation, MoveEntry, RemoveEntry, RemoveLocation:
		return true
	}
	return false
}
