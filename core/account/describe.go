package account

import (
	"fmt"
	"strings"

	"golang.org/x/text/cases"
)

// EqualNames reports whether servers would take two account names for the same.
func EqualNames(a, b string) bool {
	if strings.EqualFold(a, b) {
		return true
	}
	fold := cases.Fold()
	return fold.String(a) == fold.String(b)
}

// Kind says what an account is.
type Kind string

const (
	User       Kind = "user"
	Group      Kind = "group"       // of a domain
	LocalGroup Kind = "local-group" // of one machine
	Special    Kind = "special"     // means the same everywhere
	Place      Kind = "place"       // a domain or machine itself
	Unresolved Kind = "unresolved"  // nobody could name it
)

// Origin says where an account lives, and so where its number means something.
type Origin string

const (
	Anywhere     Origin = "anywhere"     // the same on every server
	OfDomain     Origin = "domain"       // the same on every member of the domain
	OfServer     Origin = "server"       // on one server alone
	OfUnixHost   Origin = "unix-host"    // a Unix account without another number, on one host alone
	OfUnknown    Origin = "unknown"      // of a domain or machine that is not known here
	OfAuthority  Origin = "authority"    // issued by an authority that has no accounts
	OfMandatory  Origin = "label"        // an integrity label, not an account
	OfSession    Origin = "session"      // of one signed-in session, gone with it
	OfCapability Origin = "capability"   // of a program, not of a person
	OfNothing    Origin = "unidentified" // the zero value
)

// Realm is a domain or machine, as far as it is known.
type Realm struct {
	Name   string
	SID    SID
	Domain bool // a domain; otherwise one machine
}

// Saying is what a SID tells by itself, and together with the realms that are known.
type Saying struct {
	SID       SID    `json:"sid"`
	Name      string `json:"name,omitempty"` // of well-known ones
	Origin    Origin `json:"origin"`
	Realm     string `json:"realm,omitempty"` // name of its domain or machine, when known
	Authority uint64 `json:"authority"`
	Part      string `json:"part,omitempty"` // SID of its domain or machine
	Relative  uint32 `json:"relative,omitempty"`
}

// relativeNames are accounts that every domain has, by their last part ([MS-DTYP] 2.4.2.4).
var relativeNames = map[uint32]string{
	500: "Administrator", 501: "Guest", 512: "Domain Admins", 513: "Domain Users", 514: "Domain Guests", 515: "Domain Computers",
	516: "Domain Controllers", 518: "Schema Admins", 519: "Enterprise Admins", 520: "Group Policy Creator Owners",
}

// Describe says what a SID tells.
func Describe(s SID, realms []Realm) Saying {
	says := Saying{SID: s, Authority: s.Authority()}
	says.Name, _ = WellKnown(s)
	if relative, ok := s.Relative(); ok {
		says.Relative, says.Part = relative, s.Parent().String()
	}
	subs := s.Subs()
	switch {
	case s.IsZero():
		says.Origin = OfNothing
	case says.Name != "", s.In(Builtin):
		says.Origin = Anywhere
	case s.In(UnixUsers), s.In(UnixGroups):
		says.Origin = OfUnixHost
	case s.Authority() == 5 && len(subs) == 5 && subs[0] == 21:
		says.place(s, realms)
	case s.Authority() == 5 && len(subs) > 0 && subs[0] == 5:
		says.Origin = OfSession
	case s.Authority() == 15:
		says.Origin = OfCapability
	case s.Authority() == 16:
		says.Origin = OfMandatory
	default:
		says.Origin = OfAuthority
	}
	return says
}

func (says *Saying) place(s SID, realms []Realm) {
	says.Origin = OfUnknown
	for _, r := range realms {
		if !s.In(r.SID) {
			continue
		}
		says.Realm, says.Origin = r.Name, OfServer
		if r.Domain {
			says.Origin = OfDomain
			says.Name = relativeNames[says.Relative]
		}
		return
	}
}

// Sentence says it in words.
func (says Saying) Sentence() string {
	switch says.Origin {
	case Anywhere:
		return "well known: means the same on every server"
	case OfDomain:
		return fmt.Sprintf("number %d of the domain %s: means the same on every member", says.Relative, says.Realm)
	case OfServer:
		return fmt.Sprintf("number %d of the server %s: means nothing on another server", says.Relative, says.Realm)
	case OfUnixHost:
		return fmt.Sprintf("Unix id %d of one host: means nothing on another server", says.Relative)
	case OfUnknown:
		return fmt.Sprintf("number %d of a domain or server that is not known here (%s)", says.Relative, says.Part)
	case OfMandatory:
		return "an integrity label, not an account"
	case OfSession:
		return "one signed-in session, gone with it"
	case OfCapability:
		return "a capability of a program, not a person"
	case OfNothing:
		return "nobody"
	}
	return fmt.Sprintf("issued by authority %d, which has no accounts of its own", says.Authority)
}
