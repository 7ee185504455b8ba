package model

import (
	"time"

	"bridgespan/core/namespace"
)

// What clients send, and what they get back for it.

// Page is a part of a list.
type Page[T any] struct {
	Items []T    `json:"items" doc:"The items, in order"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next part; absent on the last"`
}

// SetupState tells whether the service still waits for its first administrator.
type SetupState struct {
	Needed bool `json:"needed" doc:"Whether the first administrator is still to be set up"`
}

// Setup makes the first administrator.
type Setup struct {
	Token    string `json:"token" maxLength:"256" doc:"The set-up token that the service printed at its first start"`
	Name     string `json:"name" maxLength:"256" doc:"Name of the first administrator"`
	Password string `json:"password" format:"password" maxLength:"1024" doc:"At least 10 characters"`
}

// SignIn starts a session of the console.
type SignIn struct {
	Name     string `json:"name" maxLength:"256" doc:"User name"`
	Password string `json:"password" format:"password" maxLength:"1024" doc:"Password"`
}

// Session is who is signed in.
type Session struct {
	User    User      `json:"user" doc:"Who is signed in"`
	CSRF    string    `json:"csrf,omitempty" doc:"To be sent as the header Bspan-Csrf with every change made under the session cookie"`
	Expires time.Time `json:"expires" doc:"When it ends"`
}

// NewToken asks for a token of the command line.
type NewToken struct {
	SignIn
	Label string `json:"label,omitempty" maxLength:"255" doc:"What it is for"`
}

// Token is a bearer token; it is shown once.
type Token struct {
	Token   string    `json:"token" doc:"To be sent as Authorization: Bearer"`
	User    User      `json:"user" doc:"Whose it is"`
	Expires time.Time `json:"expires" doc:"When it ends"`
}

// NewUser adds a user.
type NewUser struct {
	Name     string `json:"name" maxLength:"256" doc:"Name to sign in with"`
	Password string `json:"password" format:"password" maxLength:"1024" doc:"At least 10 characters"`
	Role     Role   `json:"role" enum:"viewer,operator,administrator" doc:"What the user may do"`
}

// EditUser changes a user; what is absent stays.
type EditUser struct {
	Password string `json:"password,omitempty" format:"password" doc:"New password; ends the user's sessions and tokens"`
	Role     Role   `json:"role,omitempty" enum:"viewer,operator,administrator" doc:"New role"`
}

// NewSite adds a site.
type NewSite struct {
	Name string `json:"name" doc:"Name of the site"`
	Note string `json:"note,omitempty" doc:"For administrators"`
}

// EditSite changes a site; what is absent stays.
type EditSite struct {
	Name *string `json:"name,omitempty" doc:"New name"`
	Note *string `json:"note,omitempty" doc:"New note"`
}

// SetLeg adds or changes the leg between two sites.
type SetLeg struct {
	Mbit float64 `json:"mbit" minimum:"0.001" maximum:"1000000" doc:"Speed in Mbit/s"`
	RTT  float64 `json:"rttMs" minimum:"0" maximum:"60000" doc:"Round trip in milliseconds"`
	Cost int     `json:"cost" minimum:"1" maximum:"1000000" doc:"What directions count for people at from who are led to to; lower is nearer"`

	BackMbit float64 `json:"backMbit,omitempty" minimum:"0" maximum:"1000000" doc:"Speed the other way; absent when it is the same"`
	BackCost int     `json:"backCost,omitempty" minimum:"0" maximum:"1000000" doc:"Cost the other way; absent when it is the same"`
}

// LegList is all legs.
type LegList struct {
	Legs []namespace.Leg `json:"legs" doc:"All legs"`
}

// NewServer adds a server.
type NewServer struct {
	Name     string `json:"name" doc:"Name in Bridge Span"`
	Site     string `json:"site" doc:"Site where it stands"`
	Address  string `json:"address" doc:"Host name or address"`
	Port     int    `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"TCP port; 445 when absent, 8620 of a mover, and 443 of a cloud account"`
	Domain   string `json:"domain,omitempty" doc:"Domain of the account; absent for an account of the server itself"`
	Account  string `json:"account,omitempty" doc:"Account to administer it with; absent for a mover, the access key of a cloud account"`
	Password string `json:"password" format:"password" doc:"Password of the account, the secret of the mover, or the secret key of a cloud account; kept sealed and never shown again"`
	// Certificate makes the server one where a mover runs.
	Certificate   string      `json:"certificate,omitempty" doc:"SHA-256 fingerprint that the mover said at its start; with it, the server is a host where a mover runs"`
	Cloud         *CloudReach `json:"cloud,omitempty" doc:"Connection settings of an object service; with them, the server is an account there"`
	ProxyPassword string      `json:"proxyPassword,omitempty" format:"password" maxLength:"255" doc:"Password of the user that cloud.proxy names; kept sealed and never shown again"`
	Note          string      `json:"note,omitempty" doc:"For administrators"`
	Unsigned      bool        `json:"unsigned,omitempty" doc:"Let messages pass that are not signed: whoever is between can change files and permissions then"`
	ViewersBrowse bool        `json:"viewersBrowse,omitempty" doc:"Let viewers look into its folders, hidden shares too, with the account that administers it"`
	PeopleName    string      `json:"nameForPeople,omitempty" maxLength:"255" doc:"Name by which people's machines reach it; its address when absent"`
	Beside        string      `json:"beside,omitempty" doc:"For a mover: the file server on the same host and over the same folders, whose accounts their permissions name"`
	Unchecked     bool        `json:"unchecked,omitempty" doc:"Add it without signing in to it first"`
}

// EditServer changes a server; what is absent stays.
type EditServer struct {
	Name          *string     `json:"name,omitempty"`
	Site          *string     `json:"site,omitempty"`
	Address       *string     `json:"address,omitempty"`
	Port          *int        `json:"port,omitempty" minimum:"0" maximum:"65535"`
	Domain        *string     `json:"domain,omitempty"`
	Account       *string     `json:"account,omitempty"`
	Certificate   *string     `json:"certificate,omitempty" doc:"Fingerprint of a mover that was made anew"`
	Cloud         *CloudReach `json:"cloud,omitempty" doc:"Connection settings of the object service"`
	Password      string      `json:"password,omitempty" format:"password" doc:"Needed again when address, account or certificate change"`
	ProxyPassword string      `json:"proxyPassword,omitempty" format:"password" maxLength:"255" doc:"Password of the user that cloud.proxy names; needed again when that changes"`
	Note          *string     `json:"note,omitempty"`
	Unsigned      *bool       `json:"unsigned,omitempty" doc:"Let messages pass that are not signed: whoever is between can change files and permissions then"`
	ViewersBrowse *bool       `json:"viewersBrowse,omitempty" doc:"Let viewers look into its folders, hidden shares too, with the account that administers it"`
	PeopleName    *string     `json:"nameForPeople,omitempty" maxLength:"255" doc:"Name by which people's machines reach it; empty: its address"`
	Beside        *string     `json:"beside,omitempty" doc:"For a mover: the file server on the same host and over the same folders, whose accounts their permissions name; empty: there is none"`
	Unchecked     bool        `json:"unchecked,omitempty" doc:"Change it without signing in to it first"`
}

// NewNamespace adds a namespace.
type NewNamespace struct {
	Name string `json:"name" doc:"First part of every path in it: lower-case letters, digits and hyphens"`
	Note string `json:"note,omitempty" doc:"For administrators"`
	TTL  int    `json:"ttl,omitempty" minimum:"0" maximum:"86400" doc:"For how many seconds directions may be kept; 300 when absent"`
	NamespaceManner
}

// NamespaceManner is how a namespace treats people.
type NamespaceManner struct {
	Returns string `json:"returns,omitempty" enum:"at-once,later" doc:"When people come back to a preferred location that is well again: at once, or when their directions run out; at-once when absent"`
	Hiding  bool   `json:"hiding,omitempty" doc:"Let people see only the entries that they may open"`
}

// EditNamespace changes a namespace; what is absent stays.
type EditNamespace struct {
	Note    *string `json:"note,omitempty"`
	TTL     *int    `json:"ttl,omitempty" minimum:"0" maximum:"86400"`
	Returns *string `json:"returns,omitempty" enum:"at-once,later"`
	Hiding  *bool   `json:"hiding,omitempty"`
}

// NewLocation adds a location to a signpost.
type NewLocation struct {
	Server  string         `json:"server" doc:"Server that holds it"`
	Share   string         `json:"share" doc:"Share of the server"`
	Sub     string         `json:"sub,omitempty" doc:"Folder below the share"`
	Rank    namespace.Rank `json:"rank,omitempty" enum:"first,normal,last" doc:"Order among locations that are equally near; normal when absent"`
	Weight  int            `json:"weight,omitempty" minimum:"1" maximum:"1000" doc:"Share of the people among locations that stand equal; 1 when absent"`
	OnlyFor []string       `json:"onlyFor,omitempty" doc:"Sites whose people are led here; absent for those of every site"`
	OpenNow bool           `json:"openNow,omitempty" doc:"Lead people there at once, although nothing verified that it holds what the others hold"`
}

// NewEntry adds an entry to a namespace, and the folders above it that are missing.
type NewEntry struct {
	Path      string              `json:"path" doc:"Path inside the namespace, without a leading slash"`
	Kind      namespace.EntryKind `json:"kind" enum:"folder,signpost" doc:"folder: holds names; signpost: leads to locations"`
	Note      string              `json:"note,omitempty" doc:"For administrators"`
	TTL       int                 `json:"ttl,omitempty" minimum:"0" maximum:"86400" doc:"For how many seconds directions of a signpost may be kept; absent: as the namespace says"`
	Locations []NewLocation       `json:"locations,omitempty" doc:"Where a signpost leads; the first is open, further ones are held until verified"`
}

// EditEntry changes an entry; what is absent stays.
type EditEntry struct {
	Note   *string `json:"note,omitempty" doc:"New note"`
	TTL    *int    `json:"ttl,omitempty" minimum:"0" maximum:"86400" doc:"For how many seconds directions of a signpost may be kept; 0: as the namespace says"`
	Letter *string `json:"letter,omitempty" maxLength:"1" doc:"Drive letter of a signpost; empty to take it back"`
	Path   string  `json:"path,omitempty" maxLength:"1000" doc:"New path inside the namespace: the entry moves there, with everything below it"`
}

// EditLocation changes a location; what is absent stays.
type EditLocation struct {
	State   namespace.State `json:"state,omitempty" enum:"open,held" doc:"open: people are led here; held: kept from people"`
	Why     string          `json:"why,omitempty" doc:"Why it is held"`
	Rank    namespace.Rank  `json:"rank,omitempty" enum:"first,normal,last" doc:"Order among locations that are equally near"`
	Weight  *int            `json:"weight,omitempty" minimum:"1" maximum:"1000" doc:"Share of the people among locations that stand equal"`
	OnlyFor *[]string       `json:"onlyFor,omitempty" doc:"Sites whose people are led here; an empty list for those of every site"`
}

// Problem is an error (RFC 9457).
type Problem struct {
	Type   string         `json:"type" doc:"Names the kind of problem" example:"about:blank"`
	Title  string         `json:"title" doc:"The kind of problem in words"`
	Status int            `json:"status" doc:"The HTTP status"`
	Detail string         `json:"detail" doc:"What is wrong"`
	Remedy string         `json:"remedy,omitempty" doc:"What to do about it"`
	Errors []FieldProblem `json:"errors,omitempty" doc:"What is wrong, field by field"`
}

// FieldProblem is what is wrong with one field of the input.
type FieldProblem struct {
	Field  string `json:"field" doc:"Name of the field"`
	Detail string `json:"detail" doc:"What is wrong with it"`
}

// Take writes a value that was given into a field; what is absent stays.
func Take[T any](to *T, given *T) {
	if given != nil {
		*to = *given
	}
}
