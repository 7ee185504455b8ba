package account

// Accounts that mean the same everywhere ([MS-DTYP] 2.4.2.4).
var (
	Nobody             = MustSID("S-1-0-0")
	Everyone           = MustSID("S-1-1-0")
	CreatorOwner       = MustSID("S-1-3-0")
	CreatorGroup       = MustSID("S-1-3-1")
	OwnerRights        = MustSID("S-1-3-4")
	Network            = MustSID("S-1-5-2")
	Interactive        = MustSID("S-1-5-4")
	Anonymous          = MustSID("S-1-5-7")
	AuthenticatedUsers = MustSID("S-1-5-11")
	System             = MustSID("S-1-5-18")
	Builtin            = MustSID("S-1-5-32")
	Administrators     = MustSID("S-1-5-32-544")
	Users              = MustSID("S-1-5-32-545")
	Guests             = MustSID("S-1-5-32-546")
	BackupOperators    = MustSID("S-1-5-32-551")
)

// UnixUsers and UnixGroups hold the accounts of a Unix host that has no other
// number for them; they mean something on that host alone.
var (
	UnixUsers  = MustSID("S-1-22-1")
	UnixGroups = MustSID("S-1-22-2")
)

// wellKnown are the names that need no server.
var wellKnown = map[SID]string{
	Nobody: "Nobody", Everyone: "Everyone", MustSID("S-1-2-0"): "Local", CreatorOwner: "Creator Owner", CreatorGroup: "Creator Group",
	OwnerRights: "Owner Rights", Network: "Network", MustSID("S-1-5-3"): "Batch", Interactive: "Interactive", MustSID("S-1-5-6"): "Service",
	Anonymous: "Anonymous", MustSID("S-1-5-9"): "Domain Controllers of the Enterprise", MustSID("S-1-5-10"): "Self", AuthenticatedUsers: "Authenticated Users", MustSID("S-1-5-12"): "Restricted",
	MustSID("S-1-5-13"): "Terminal Users", MustSID("S-1-5-14"): "Remote Interactive", MustSID("S-1-5-15"): "This Organization",
	System: "System", MustSID("S-1-5-19"): "Local Service", MustSID("S-1-5-20"): "Network Service",
	Administrators: "Administrators", Users: "Users", Guests: "Guests", MustSID("S-1-5-32-547"): "Power Users",
	MustSID("S-1-5-32-548"): "Account Operators", MustSID("S-1-5-32-549"): "Server Operators", MustSID("S-1-5-32-550"): "Print Operators",
	BackupOperators: "Backup Operators", MustSID("S-1-5-32-552"): "Replicators", MustSID("S-1-5-32-554"): "Compatible Access",
	MustSID("S-1-5-32-555"): "Remote Desktop Users", MustSID("S-1-5-64-10"): "NTLM Authentication",
}

// WellKnown is the name of an account that means the same everywhere.
func WellKnown(s SID) (string, bool) {
	name, ok := wellKnown[s]
	return name, ok
}

// ByWellKnownName finds an account that means the same everywhere by its name, whatever its case.
func ByWellKnownName(name string) (SID, bool) {
	for s, known := range wellKnown {
		if EqualNames(known, name) {
			return s, true
		}
	}
	return SID{}, false
}
