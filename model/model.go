// Package model holds the things that Bridge Span manages, in the form in which
// the API shows them. Records read and write them, the service returns them,
// the client decodes them, and the OpenAPI document is made from them, so that
// there is one definition of each. It holds no secret and no behaviour.
package model

import (
	"time"

	"bridgespan/core/finding"
	"bridgespan/core/plan"
)

// Role is what a user of Bridge Span may do.
type Role string

const (
	Viewer        Role = "viewer"        // reads everything
	Operator      Role = "operator"      // and changes namespaces, runs checks
	Administrator Role = "administrator" // and changes servers, sites and users
)

// User is somebody who signs in to Bridge Span itself.
type User struct {
	Name    string    `json:"name" doc:"Name to sign in with"`
	Role    Role      `json:"role" enum:"viewer,operator,administrator" doc:"viewer reads; operator also changes namespaces and runs checks; administrator also changes servers, sites and users"`
	Created time.Time `json:"created" doc:"When the user was added"`
	Version int64     `json:"version" doc:"Goes up with every change; the ETag"`
}

// Credential is a session of the console or a token of the command line.
type Credential struct {
	ID      int64     `json:"id" doc:"Its number"`
	User    string    `json:"user" doc:"Name of the user"`
	Kind    string    `json:"kind" enum:"session,token" doc:"A session of the console, or a token of the command line"`
	Label   string    `json:"label,omitempty" doc:"What the client calls it"`
	Created time.Time `json:"created" doc:"When the user signed in"`
	Expires time.Time `json:"expires" doc:"When it ends by itself"`
	Used    time.Time `json:"used" doc:"When it was used last, to the minute"`
	Address string    `json:"address,omitempty" doc:"Address that it was used from last"`
	Current bool      `json:"current" doc:"Whether this request was made with it"`
}

// GatewayLock is a write lock that somebody holds at the gateway.
type GatewayLock struct {
	ID      int64     `json:"id" doc:"Its number"`
	Path    string    `json:"path" doc:"What is locked"`
	Account string    `json:"account" doc:"Who holds it, as file servers know them"`
	Shared  bool      `json:"shared" doc:"Whether others may hold shared locks beside it"`
	Deep    bool      `json:"deep" doc:"Whether it covers everything below as well"`
	Since   time.Time `json:"since" doc:"When it was taken"`
	Until   time.Time `json:"until" doc:"When it ends, unless its holder refreshes it"`
}

// Site is a place with servers and people.
type Site struct {
	Name    string `json:"name" doc:"Name of the site"`
	Note    string `json:"note,omitempty" doc:"For administrators"`
	Servers int    `json:"servers" doc:"How many servers stand there"`
	Version int64  `json:"version" doc:"Goes up with every change; the ETag"`
}

// Server is a file server, reached by SMB 3.
type Server struct {
	Name    string `json:"name" doc:"Name in Bridge Span"`
	Kind    string `json:"kind" enum:"smb,mover,cloud" doc:"smb: a file server that is reached by SMB 3; mover: a host where a mover runs, which serves its folders; cloud: an account at an S3 object service, whose buckets are its shares"`
	Site    string `json:"site" doc:"Site where it stands"`
	Address string `json:"address" doc:"Host name or address"`
	Port    int    `json:"port" doc:"TCP port; as a rule 445, 8620 of a mover, and 443 of a cloud account"`
	Domain  string `json:"domain,omitempty" doc:"Domain of the account; absent for an account of the server itself"`
	Account string `json:"account" doc:"Account that Bridge Span administers it with; empty where a mover runs, the access key of a cloud account"`
	// Certificate is what a mover is known by.
	Certificate string `json:"certificate,omitempty" doc:"SHA-256 fingerprint that a mover is known by; absent for a file server"`
	// Cloud makes it an account at an object service.
	Cloud *CloudReach `json:"cloud,omitempty" doc:"Connection settings of the object service; absent for a file server"`
	Note  string      `json:"note,omitempty" doc:"For administrators"`
	// Reachable is nil before the first look.
	Reachable     *bool      `json:"reachable,omitempty" doc:"Whether it answered at the last look; absent before the first"`
	Since         *time.Time `json:"since,omitempty" doc:"Since when it has been so"`
	Trouble       string     `json:"trouble,omitempty" doc:"Why it does not answer"`
	Untrusted     *time.Time `json:"untrusted,omitempty" doc:"Since when it is left alone because it sent answers that cannot be trusted; it is tried again after an hour, or by a check"`
	Check         *Check     `json:"check,omitempty" doc:"The last check, whole"`
	Unsigned      bool       `json:"unsigned,omitempty" doc:"Messages to and from it may pass unsigned: whoever is between can change them"`
	ViewersBrowse bool       `json:"viewersBrowse,omitempty" doc:"Viewers may look into its folders, with the account that administers it"`
	PeopleName    string     `json:"nameForPeople,omitempty" doc:"Name by which people's machines reach it; absent: its address"`
	Beside        string     `json:"beside,omitempty" doc:"Of a mover, the file server on the same host and over the same folders: their permissions name its accounts"`
	Version       int64      `json:"version" doc:"Goes up with every change; the ETag"`
}

// Kinds of servers.
const (
	ServerSMB   = "smb"
	ServerMover = "mover"
	ServerCloud = "cloud"
)

// CloudReach are the connection settings of an S3 object service.
type CloudReach struct {
	Region    string `json:"region" minLength:"1" maxLength:"63" doc:"Region of the buckets, as the provider names it"`
	PathStyle bool   `json:"pathStyle,omitempty" doc:"Put bucket names in the path, not in the host name"`
	Plain     bool   `json:"plain,omitempty" doc:"Connect without TLS: traffic can be read on the network"`
	Authority string `json:"authority,omitempty" maxLength:"65536" doc:"CA certificate of the service, in PEM; absent: the authorities that the system trusts"`
	Proxy     string `json:"proxy,omitempty" maxLength:"1024" doc:"HTTP proxy to the service, such as http://proxy.example.org:3128, or http://USER@HOST:PORT where it asks for a password; a mover with a proxy of its own uses that; absent for none"`
	// ProxyPassword is that of the user in Proxy. It is kept sealed, apart from the settings.
	ProxyPassword Secret `json:"-"`
	// Prices are said by the administrator: services do not tell them.
	Currency    string  `json:"currency,omitempty" maxLength:"8" doc:"Currency of the prices, such as EUR; absent: they are not known"`
	StoredPrice float64 `json:"storedPrice,omitempty" minimum:"0" maximum:"1000000" doc:"Price of 1 GB (10^9 bytes) that is stored for a month"`
	OutPrice    float64 `json:"outPrice,omitempty" minimum:"0" maximum:"1000000" doc:"Price of 1 GB that is read out of the service"`
}

// Secret is a text that is neither printed nor logged.
type Secret string

func (Secret) String() string   { return "(secret)" }
func (Secret) GoString() string { return "(secret)" }

// Prices are what the account's provider charges.
func (c *CloudReach) Prices() plan.Prices {
	return plan.Prices{Currency: c.Currency, Stored: c.StoredPrice, Out: c.OutPrice}
}

// Check is one check of a server.
type Check struct {
	At      time.Time         `json:"at" doc:"When it was made"`
	TookMs  int64             `json:"tookMs" doc:"How long it took, in milliseconds"`
	Outcome finding.Severity  `json:"outcome" enum:"pass,warn,fail" doc:"The worst of its lines"`
	Lines   []finding.Finding `json:"lines" doc:"What was looked at, in order"`
}

// Share is a shared folder of a server, as last seen.
type Share struct {
	Server string `json:"server" doc:"Server that holds it"`
	Name   string `json:"name" doc:"Name of the share"`
	Note   string `json:"note,omitempty" doc:"The server's own remark"`
	Kind   string `json:"kind" doc:"disk, or what else it is"`
	Hidden bool   `json:"hidden" doc:"Whether the server keeps it out of people's lists"`
	Path   string `json:"path,omitempty" doc:"Folder on the server, as the server writes paths"`
	// Permissions are those of the share, not of the files.
	Permissions string    `json:"permissions,omitempty" doc:"Who may come through the share, in SDDL"`
	Seen        time.Time `json:"seen" doc:"When the server last listed it"`
}

// Volume is the storage under shares.
type Volume struct {
	Total  int64    `json:"totalBytes" doc:"Capacity"`
	Free   int64    `json:"freeBytes" doc:"Free space"`
	Shares []string `json:"shares" doc:"Shares that lie on it"`
}

// ShareDetail is a share as it is now.
type ShareDetail struct {
	Share
	Total      int64        `json:"totalBytes" doc:"Capacity of the volume under it"`
	Free       int64        `json:"freeBytes" doc:"Free space on that volume"`
	Descriptor string       `json:"descriptor,omitempty" doc:"Permissions of its top folder, in SDDL"`
	Entries    []ShareEntry `json:"entries" doc:"What lies at its top, at most 200 entries"`
	More       bool         `json:"more" doc:"Whether there are more entries than shown"`
	LedToFrom  []string     `json:"ledToFrom" doc:"Paths of namespaces that lead here"`
}

// ShareEntry is a file or folder at the top of a share.
type ShareEntry struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind" enum:"file,folder,link,other"`
	Size     int64     `json:"size" doc:"In bytes; 0 for folders"`
	Modified time.Time `json:"modified"`
}

// Namespace is one tree of names for people.
type Namespace struct {
	Name      string `json:"name" doc:"First part of every path in it"`
	Note      string `json:"note,omitempty" doc:"For administrators"`
	TTL       int    `json:"ttl" doc:"For how many seconds directions may be kept"`
	Returns   string `json:"returns" enum:"at-once,later" doc:"When people come back to a preferred location that is well again: at once, or when their directions run out"`
	Hiding    bool   `json:"hiding" doc:"Whether people see only the entries that they may open"`
	Folders   int    `json:"folders" doc:"How many folders it has"`
	Signposts int    `json:"signposts" doc:"How many signposts it has"`
	Version   int64  `json:"version" doc:"Goes up with every change; the ETag"`
}

// Change is a record of something that was changed.
type Change struct {
	ID      int64     `json:"id" doc:"Number of the record"`
	At      time.Time `json:"at" doc:"When"`
	Who     string    `json:"who" doc:"User who did it"`
	Action  string    `json:"action" doc:"What was done, such as server.add"`
	Subject string    `json:"subject" doc:"What it was done to"`
	Before  any       `json:"before,omitempty" doc:"As it was"`
	After   any       `json:"after,omitempty" doc:"As it is since"`
	Words   []string  `json:"words" doc:"What differs, field by field; empty when it was made or removed"`
}

// Rehearsed is what a change would have done.
type Rehearsed struct {
	Rehearsed bool     `json:"rehearsed" doc:"Always true: nothing was changed"`
	Changes   []Change `json:"changes" doc:"What would have been changed, in order"`
}

// Event tells that something changed, so that whoever shows it reads it again.
type Event struct {
	ID      int64  `json:"id" doc:"Grows; send it as Last-Event-ID to go on from there"`
	Topic   string `json:"topic" doc:"What kind of thing: site, server, share, namespace, health (of locations), run, progress (of a run), rights, volume, replica, directory, account-map, lock, user"`
	Subject string `json:"subject" doc:"Which one"`
	// Recorded is true when the list of changes is another one by now.
	Recorded bool `json:"recorded,omitempty" doc:"Whether it was recorded as somebody's change"`
}
