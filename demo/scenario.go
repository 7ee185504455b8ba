// Package demo is the scenario of the demo, Larkfield Botanic Trust: three
// gardens, four real file servers, a dozen people and their files, all made up
// from a fixed seed. Up brings it to life on this machine.
package demo

import (
	"fmt"

	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/model"
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

// server is a file server of the scenario.
type server struct {
	name, site, address, sid, note string
	shares                         []fileserver.Share
	signing                        bool
}

var servers = []server{
	{"fern", "Larkfield", "127.0.0.11", "S-1-5-21-1911-1101-7301", "Old; to be retired", []fileserver.Share{
		{Name: "herbarium", Note: "Specimen scans"}, {Name: "seedbank", Note: "Accession ledgers"}, {Name: "glasshouse", Note: "Climate logs"},
		{Name: "fieldnotes", Note: "Notes from the field, copied from Tern Island"}, {Name: "education", Note: "School visits and courses"}, {Name: "council", Note: "Council papers, restricted"}}, false},
	{"yarrow", "Larkfield", "127.0.0.12", "S-1-5-21-1911-1102-7302", "Successor of fern, empty", []fileserver.Share{{Name: "arrivals", Note: "Empty, for shares to come"}}, true},
	{"heather", "Highmoor", "127.0.0.13", "S-1-5-21-1911-1103-7303", "", []fileserver.Share{
		{Name: "herbarium", Note: "Specimen scans, copied from Larkfield"}, {Name: "education", Note: "School visits and courses"}}, true},
	{"sedge", "Tern Island", "127.0.0.14", "S-1-5-21-1911-1104-7304", "Battery-backed, small disk", []fileserver.Share{
		{Name: "fieldnotes", Note: "Notes from the field"}, {Name: "education", Note: "An old copy"}}, true},
}

const administrator = "warden"

var groups = []fileserver.Group{
	{Name: "curators", RID: 2001}, {Name: "seedbank-staff", RID: 2002}, {Name: "field-team", RID: 2003},
	{Name: "educators", RID: 2004}, {Name: "council-members", RID: 2005},
}

// people of the trust; the administrator comes first.
var people = []fileserver.Account{
	{Name: administrator, RID: 5001, Administrator: true},
	{Name: "wren.hale", RID: 5101, Groups: []string{"curators", "council-members"}},
	{Name: "ash.pryor", RID: 5102, Groups: []string{"curators"}},
	{Name: "ivy.marsh", RID: 5103, Groups: []string{"curators", "educators"}},
	{Name: "rowan.teal", RID: 5104, Groups: []string{"seedbank-staff"}},
	{Name: "linnet.crane", RID: 5105, Groups: []string{"seedbank-staff", "council-members"}},
	{Name: "sorrel.finch", RID: 5106, Groups: []string{"field-team"}},
	{Name: "bryony.vale", RID: 5107, Groups: []string{"field-team"}},
	{Name: "heath.mallow", RID: 5108, Groups: []string{"field-team", "curators"}},
	{Name: "tansy.reed", RID: 5109, Groups: []string{"educators"}},
	{Name: "alder.quill", RID: 5110, Groups: []string{"educators"}},
	{Name: "willow.stone", RID: 5111, Groups: []string{"council-members"}},
	{Name: "reed.harper", RID: 5112},
}

// departed is the last part of the SID of somebody whose account is gone.
const departed = 5190

// may are the rights of a group in a share's descriptor.
type may struct {
	group int // RID; 0 for everybody who signed in
	mask  string
}

const (
	change = "0x1301bf"
	read   = "0x1200a9"
)

// shareRights say who may do what in each share.
var shareRights = map[string][]may{
	"herbarium":  {{2001, change}, {0, read}},
	"seedbank":   {{2002, change}, {2001, read}, {departed, change}},
	"glasshouse": {{2001, change}, {2002, change}, {0, read}},
	"fieldnotes": {{2003, change}, {2001, read}},
	"education":  {{2004, change}, {0, read}},
	"council":    {{2005, change}},
	"arrivals":   {},
}

// descriptor makes the descriptor of a share's top folder on a server.
func (s server) descriptor(share string) (acl.Descriptor, error) {
	return s.protected(shareRights[share])
}

// protected makes a descriptor that inherits nothing and hands everything down.
func (s server) protected(rights []may) (acl.Descriptor, error) {
	text := "O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)"
	for _, r := range rights {
		account := "AU"
		if r.group != 0 {
			account = fmt.Sprintf("%s-%d", s.sid, r.group)
		}
		text += fmt.Sprintf("(A;OICI;%s;;;%s)", r.mask, account)
	}
	return acl.Parse(text)
}

// restricted are folders with permissions of their own, by share.
var restricted = map[string]map[string][]may{
	"herbarium": {"Loans/Private collections": {{2001, change}}},
	"education": {"Staff only": {{2004, change}}},
	"seedbank":  {"Agreements": {{2002, change}, {2005, read}}},
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
