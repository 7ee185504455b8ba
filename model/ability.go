package model

import (
	"cmp"
	"slices"
)

// Ability is something that not every server can do. Who needs it asks for it, and never for
// the kind of a server: other kinds will come.
type Ability uint8

const (
	// HasAccounts: accounts sign in there, permissions name them, and shares, sessions and open
	// files can be administered.
	HasAccounts Ability = iota
	// SpeaksSMB: it is reached by SMB 3, so that people's clients can be led there and names
	// follow the rules of SMB.
	SpeaksSMB
	// ShowsCertificate: it is known by a certificate, and is shown a secret.
	ShowsCertificate
	// MayKeepFronts: a mover runs there, which may keep fronts for a file service beside it.
	MayKeepFronts
	// HoldsBuckets: it is an account at an object service. Its shares are buckets, and the provider
	// charges for requests.
	HoldsBuckets
	// OpensBuckets: a mover runs there, which reads from buckets and writes to them by itself.
	OpensBuckets
)

var abilities = map[string][]Ability{
	ServerSMB:   {HasAccounts, SpeaksSMB},
	ServerMover: {ShowsCertificate, MayKeepFronts, OpensBuckets},
	ServerCloud: {HoldsBuckets},
}

// Can reports whether the server has an ability.
func (v *Server) Can(a Ability) bool { return slices.Contains(abilities[v.KindOf()], a) }

// KindOf is the kind of the server, by what it is known by.
func (v *Server) KindOf() string {
	switch {
	case v.Certificate != "":
		return ServerMover
	case v.Cloud != nil:
		return ServerCloud
	}
	return ServerSMB
}

// UsualPort is the TCP port at which servers of this kind listen as a rule.
func (v *Server) UsualPort() int {
	switch {
	case v.KindOf() == ServerMover:
		return 8620
	case v.Cloud != nil && v.Cloud.Plain:
		return 80
	case v.Cloud != nil:
		return 443
	}
	return 445
}

// PeopleHost is the name by which people's machines reach it.
func (v *Server) PeopleHost() string { return cmp.Or(v.PeopleName, v.Address) }
