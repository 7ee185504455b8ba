// Package demo is the scenario of the demo, Larkfield Botanic Trust: three
// gardens, four real file servers, a dozen people and their files, all made up
// from a fixed seed. Up brings it to life on this machine.
package demo

import (
	"fmt"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/standin/domain"
	"bridgespan/standin/fileserver"
)

var sites = []model.NewSite{
	{Name: "Larkfield", Note: "Head garden"},
	{Name: "Highmoor", Note: "Upland arboretum"},
	{Name: "Tern Island", Note: "Field station behind a radio link"},
}

var legs = []namespace.Leg{
	{From: "Larkfield", To: "Highmoor", Mbit: 100, RTT: 14, Cost: 40},
	{From: "Larkfield", To: "Tern Island", Mbit: 20, RTT: 55, Cost: 120},
}

// The domain of the trust. Its file servers belong to it, except sedge, which
// stands alone so that it can be used while the radio link is down.
const (
	realm         = "LARKFIELD.TEST"
	domainName    = "LARKFIELD"
	domainSID     = "S-1-5-21-1911-1100-7300"
	domainAddress = "127.0.0.20"
)

// server is a file server of the scenario.
type server struct {
	name, site, address string
	behind              string // address of the leg that leads to it from Larkfield; "" when it stands there
	sid, note           string
	shares              []fileserver.Share
	signing             bool
	alone               bool // has accounts of its own, and no domain
}

// whole is the share of everything on a server's volume, for administrators.
var whole = fileserver.Share{Name: "volume$", Note: "Everything on the volume, for administrators", Path: "."}

var servers = []server{
	{"fern", "Larkfield", "127.0.0.11", "", "S-1-5-21-1911-1101-7301", "Old; to be retired", []fileserver.Share{
		{Name: "herbarium", Note: "Specimen scans"}, {Name: "seedbank", Note: "Accession ledgers"}, {Name: "glasshouse", Note: "Climate logs"},
		{Name: "fieldnotes", Note: "Notes from the field, copied from Tern Island"}, {Name: "education", Note: "School visits and courses"}, {Name: "council", Note: "Council papers, restricted"}, whole}, false, false},
	{"yarrow", "Larkfield", "127.0.0.12", "", "S-1-5-21-1911-1102-7302", "Successor of fern, empty", []fileserver.Share{{Name: "arrivals", Note: "Empty, for shares to come"}, whole}, true, false},
	{"heather", "Highmoor", "127.0.0.13", "127.0.0.23", "S-1-5-21-1911-1103-7303", "", []fileserver.Share{
		{Name: "herbarium", Note: "Specimen scans, copied from Larkfield"}, {Name: "education", Note: "School visits and courses"}, whole}, true, false},
	{"sedge", "Tern Island", "127.0.0.14", "127.0.0.24", "S-1-5-21-1911-1104-7304", "Battery-backed, small disk; stands alone", []fileserver.Share{
		{Name: "fieldnotes", Note: "Notes from the field"}, {Name: "education", Note: "An old copy"}, {Name: island.share, Note: "Specimen scans, from the cloud"}, whole}, true, true},
}

const administrator = "warden"

// groups of the trust; members are people and other groups.
var groups = []domain.Group{
	{Name: "curators", Note: "Keep the collections", Members: []string{"wren.hale", "ash.pryor", "ivy.marsh", "heath.mallow"}},
	{Name: "seedbank-staff", Note: "Keep the seed bank", Members: []string{"rowan.teal", "linnet.crane"}},
	{Name: "field-team", Note: "Work on Tern Island", Members: []string{"sorrel.finch", "bryony.vale", "heath.mallow"}},
	{Name: "educators", Note: "School visits and courses", Members: []string{"ivy.marsh", "tansy.reed", "alder.quill"}},
	{Name: "council-members", Note: "Sit on the council", Members: []string{"wren.hale", "linnet.crane", "willow.stone"}},
	{Name: "garden-staff", Note: "Everybody who is employed", Members: []string{"curators", "seedbank-staff", "field-team", "educators"}},
}

// person is somebody at the trust.
type person struct{ name, fullName string }

// people of the trust; the administrator comes first.
var people = []person{
	{administrator, "Warden of the servers"}, {"wren.hale", "Wren Hale"}, {"ash.pryor", "Ash Pryor"}, {"ivy.marsh", "Ivy Marsh"}, {"rowan.teal", "Rowan Teal"},
	{"linnet.crane", "Linnet Crane"}, {"sorrel.finch", "Sorrel Finch"}, {"bryony.vale", "Bryony Vale"}, {"heath.mallow", "Heath Mallow"},
	{"tansy.reed", "Tansy Reed"}, {"alder.quill", "Alder Quill"}, {"willow.stone", "Willow Stone"}, {"reed.harper", "Reed Harper"},
}

// departed had an account of the domain, and is gone; the entries stay.
const departed = "moss.oldroyd"

// scanners is a group of fern itself: its entries mean nothing elsewhere.
const scanners = "scanners"

// Accounts of a server that stands alone begin at these numbers.
const (
	firstLocalPerson = 5001
	firstLocalGroup  = 2001
)

// groupsOf are the groups that a person belongs to directly.
func groupsOf(name string) []string {
	list := []string{}
	for _, g := range groups {
		if slices.Contains(g.Members, name) {
			list = append(list, g.Name)
		}
	}
	return list
}

// allGroupsOf are the groups that a person belongs to, however they are nested.
func allGroupsOf(name string) []string {
	list := groupsOf(name)
	for i := 0; i < len(list); i++ {
		for _, above := range groupsOf(list[i]) {
			if !slices.Contains(list, above) {
				list = append(list, above)
			}
		}
	}
	return list
}

// may is an entry of a descriptor; account is "" for everybody who signed in.
type may struct{ verb, account, mask string }

const (
	change  = "0x1301bf"
	read    = "0x1200a9"
	writing = "0x116"
)

func let(account, mask string) may  { return may{"A", account, mask} }
func deny(account, mask string) may { return may{"D", account, mask} }

// shareRights say who may do what in each share.
var shareRights = map[string][]may{
	"herbarium":  {let("curators", change), let("garden-staff", read)},
	"seedbank":   {let("seedbank-staff", change), let("curators", read), let(departed, change)},
	"glasshouse": {let("curators", change), let("seedbank-staff", change), let("", read)},
	"fieldnotes": {let("field-team", change), let("curators", read)},
	"education":  {let("educators", change), let("", read)},
	"council":    {let("council-members", change)},
	"arrivals":   {},
	"volume$":    {},
}

// sids are the numbers of accounts, by name.
type sids map[string]account.SID

// move is the migration of the server that is to be retired.
var move = model.NewMigration{Name: "fern-to-yarrow", MigrationDraft: model.MigrationDraft{Sources: []string{"fern"}, Target: "yarrow/" + whole.Name, Note: "fern is to be retired"}}

// descriptor makes the descriptor of a share's top folder on a server.
func (s server) descriptor(share string, known sids) (acl.Descriptor, error) {
	return protected(shareRights[share], known)
}

// protected makes a descriptor that inherits nothing and hands everything
// down. Entries for accounts that a server does not know are left out.
func protected(rights []may, known sids) (acl.Descriptor, error) {
	text := "O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)"
	for _, r := range rights {
		who := "AU"
		if r.account != "" {
			sid, ok := known[r.account]
			if !ok {
				continue
			}
			who = sid.String()
		}
		text += fmt.Sprintf("(%s;OICI;%s;;;%s)", r.verb, r.mask, who)
	}
	return acl.Parse(text)
}

// restricted are folders with permissions of their own, by share; some show
// what should not be: everybody may change them, or a denial comes too late.
var restricted = map[string]map[string][]may{
	"herbarium":  {"Loans/Private collections": {let("curators", change)}, "Retouched": {let("curators", change), let(scanners, change), let("garden-staff", read)}},
	"education":  {"Staff only": {let("educators", change)}},
	"seedbank":   {"Agreements": {let("seedbank-staff", change), let("council-members", read)}},
	"glasshouse": {"Logger uploads": {let("", change)}},
	"council":    {"Papers for visitors": {let("council-members", change), let("garden-staff", read), deny("reed.harper", writing)}},
}

// entry is a signpost of the namespace; further locations are opened at once
// when they were filled with the same, else they stay held.
type entry struct {
	path, note string
	locations  []model.NewLocation
}

const space = "trust"

func at(server, share string) model.NewLocation {
	return model.NewLocation{Server: server, Share: share}
}

func same(server, share string) model.NewLocation {
	return model.NewLocation{Server: server, Share: share, OpenNow: true}
}

var entries = []entry{
	{"collections/herbarium", "Specimen scans", []model.NewLocation{at("fern", "herbarium"), same("heather", "herbarium")}},
	{"collections/seedbank", "Accession ledgers", []model.NewLocation{at("fern", "seedbank")}},
	{"collections/glasshouse", "Climate logs", []model.NewLocation{at("fern", "glasshouse")}},
	{"fieldnotes", "Written at Tern Island", []model.NewLocation{at("sedge", "fieldnotes"), same("fern", "fieldnotes")}},
	{"education", "School visits and courses", []model.NewLocation{at("fern", "education"), same("heather", "education"), at("sedge", "education")}},
	{"council", "Restricted", []model.NewLocation{at("fern", "council")}},
}
