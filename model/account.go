package model

import (
	"time"

	"bridgespan/core/account"
)

// Directory is a domain whose accounts are asked for.
type Directory struct {
	Name    string `json:"name" doc:"Short name of the domain, as it says itself"`
	SID     string `json:"sid" doc:"Number of the domain"`
	Address string `json:"address" doc:"Host name or address of its directory"`
	Port    int    `json:"port" doc:"TCP port of LDAP over TLS, 636 as a rule"`
	Account string `json:"account" doc:"Account that reads it: name@realm"`
	Private bool   `json:"private" doc:"Whether a certificate of its own vouches for it, instead of those that the system trusts"`
	Note    string `json:"note,omitempty" doc:"For administrators"`
	Version int64  `json:"version" doc:"Goes up with every change; the ETag"`
}

// NewDirectory adds a domain.
type NewDirectory struct {
	Address  string `json:"address" doc:"Host name or address of its directory"`
	Port     int    `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"TCP port of LDAP over TLS; 636 when absent"`
	Account  string `json:"account" doc:"Account that reads it: name@realm. It needs no rights but to read"`
	Password string `json:"password" format:"password" doc:"Its password; kept sealed and never shown again"`
	CA       string `json:"ca,omitempty" doc:"Certificate that vouches for the directory, in PEM; absent for those that the system trusts"`
	Note     string `json:"note,omitempty" doc:"For administrators"`
}

// Account is a user or group.
type Account struct {
	SID      string         `json:"sid" doc:"Its number"`
	Name     string         `json:"name" doc:"Its name with domain or server in front, or the number where nobody can name it"`
	FullName string         `json:"fullName,omitempty"`
	Note     string         `json:"note,omitempty"`
	Kind     account.Kind   `json:"kind" enum:"user,group,local-group,special,place,unresolved" doc:"What it is"`
	Origin   account.Origin `json:"origin" enum:"anywhere,domain,server,unix-host,unknown,authority,label,session,capability,unidentified" doc:"Where its number means something"`
	Says     string         `json:"says" doc:"What its number says, in words"`
	Disabled bool           `json:"disabled,omitempty"`
}

// AccountList is accounts that were found.
type AccountList struct {
	Accounts []Account `json:"accounts" doc:"The accounts, by name"`
	More     bool      `json:"more" doc:"Whether there are more than shown: ask for a part of the name"`
}

// Belonging is a group that an account belongs to.
type Belonging struct {
	Group Account  `json:"group"`
	Path  []string `json:"path" doc:"The groups that lead there, nearest to the account first, the group itself last"`
}

// AccountDetail is an account with all that it belongs to.
type AccountDetail struct {
	Account
	Groups   []Belonging `json:"groups" doc:"Every group that it belongs to, however they are nested"`
	Members  []Account   `json:"members" doc:"Direct members, of a group"`
	Complete bool        `json:"complete" doc:"Whether all groups could be found"`
	Missing  string      `json:"missing,omitempty" doc:"What could not be asked, and what to do"`
}

// NewLocalUser makes a user of a server itself.
type NewLocalUser struct {
	Name     string `json:"name" doc:"Name of the user, at most 20 characters"`
	Password string `json:"password" format:"password" doc:"Password of the user; the server's rules apply"`
}

// NewLocalGroup makes a group of a server itself.
type NewLocalGroup struct {
	Name string `json:"name" doc:"Name of the group"`
}

// NewMember makes an account a member of a group.
type NewMember struct {
	Account string `json:"account" doc:"Name or SID of the account"`
}

// ServerUse is who uses a server now.
type ServerUse struct {
	Sessions []ServerSession `json:"sessions" doc:"Who is connected"`
	Files    []OpenFile      `json:"files" doc:"What is open"`
}

// ServerSession is somebody's connection to a server.
type ServerSession struct {
	Person string    `json:"person" doc:"Account that is signed in"`
	Client string    `json:"client" doc:"Machine that it comes from"`
	Files  int       `json:"files" doc:"How many files it has open"`
	Since  time.Time `json:"since" doc:"When it connected"`
	IdleS  int64     `json:"idleS" doc:"For how many seconds it did nothing"`
}

// OpenFile is a file or folder that somebody has open.
type OpenFile struct {
	Path   string `json:"path" doc:"Share and path; the server's own path where no share holds it"`
	Person string `json:"person" doc:"Who has it open"`
	Write  bool   `json:"write" doc:"Whether it is open for changing"`
	Locks  int    `json:"locks" doc:"How many parts are locked"`
}

// AccountMap says which accounts of different servers are those of the same people.
type AccountMap struct {
	Name    string   `json:"name" doc:"Name of the map"`
	Note    string   `json:"note,omitempty" doc:"For administrators"`
	Rules   []string `json:"rules" doc:"Each such as fern\\curators = heather\\keepers, or fern\\* = heather\\* for all that are called the same; read both ways"`
	Sets    int      `json:"sets" doc:"How many replica sets use it"`
	Version int64    `json:"version" doc:"Goes up with every change; the ETag"`
}

// NewAccountMap is what an account map is made of.
type NewAccountMap struct {
	Name  string   `json:"name" maxLength:"200" doc:"Name of the map"`
	Note  string   `json:"note,omitempty" doc:"For administrators"`
	Rules []string `json:"rules" minItems:"1" maxItems:"10000" doc:"Each such as fern\\curators = heather\\keepers, or fern\\* = heather\\* for all that are called the same; read both ways"`
}

// EditAccountMap changes an account map; what is absent stays.
type EditAccountMap struct {
	Name  *string   `json:"name,omitempty" maxLength:"200" doc:"New name"`
	Note  *string   `json:"note,omitempty" doc:"New note"`
	Rules *[]string `json:"rules,omitempty" minItems:"1" maxItems:"10000" doc:"New rules, all of them"`
}

// AccountPairs are the accounts of two servers that an account map takes for
// those of the same people.
type AccountPairs struct {
	One      string        `json:"one" doc:"Name of one server"`
	Other    string        `json:"other" doc:"Name of the other"`
	Pairs    []AccountPair `json:"pairs" doc:"Each account of one with that of the other"`
	Without  []Account     `json:"without" doc:"Accounts of one that no rule gives one of the other"`
	Lacking  []string      `json:"lacking" doc:"Accounts that rules name, and that are not there"`
	Clashing []string      `json:"clashing" doc:"Rules that say of an account what an earlier one denies"`
	Wider    []string      `json:"wider" doc:"Who belongs to a group of the other, and not to its pair: who gains by the map what the pair may"`
}

// AccountPair is an account of one server, and who it is at another.
type AccountPair struct {
	One   Account `json:"one"`
	Other Account `json:"other"`
}
