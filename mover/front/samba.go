package front

import "strings"

// What follows is Samba's own: how a link says that it is a referral (smb.conf(5), "msdfs root"),
// and which options a share of such links needs. Nothing else knows of it.
const (
	linkPrefix = "msdfs:"
	mostLink   = 4000 // bytes of a link that every file system takes
)

// options are what the section of a front's share says, beside its folder and its note. Nothing in
// a front has attributes of its own, or permissions that people change: nobody looks for them.
var options = [][2]string{{"msdfs root", "yes"}, {"read only", "yes"}, {"guest ok", "no"}, {"browseable", "yes"}, {"wide links", "no"}, {"store dos attributes", "no"}, {"ea support", "no"}, {"nt acl support", "no"}}

// generalOptions must be so for the whole file service.
var generalOptions = [][2]string{{"host msdfs", "yes"}}

// linkText is what a link to some places says.
func linkText(to []string) string { return linkPrefix + strings.Join(to, ",") }

// readLink reads the places of a link; ours is false when it is none.
func readLink(text string) (to []string, ours bool) {
	places, ours := strings.CutPrefix(text, linkPrefix)
	if !ours {
		return nil, false
	}
	return strings.Split(places, ","), true
}
