package planning

import (
	"context"
	"fmt"

	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/tree"
)

// mayRemove tells when the account may not remove what others own: files that do not name
// it could not be brought there then, nor replaced. What cannot be found out is not told.
func (p *planner) mayRemove(ctx context.Context, s *planSite, top tree.Tree, folder string) {
	admin := s.reach.Admin()
	if admin == nil || p.set.Permissions == model.PermissionsLeave {
		return
	}
	at, err := p.People.At(ctx, s.server, admin)
	if err != nil {
		return
	}
	defer at.Close()
	_, sid, err := p.People.Find(ctx, at, "account", s.server.Account)
	if err != nil {
		return
	}
	token, err := p.People.TokenFor(ctx, at, sid)
	if err != nil || token.Missing != "" {
		return
	}
	share, err := admin.Share(ctx, s.replica.Share)
	if err != nil || !share.Known {
		return
	}
	d, err := top.Descriptor(ctx, folder)
	if err != nil {
		return
	}
	o := acl.Object{Permissions: d.Parts()}
	if !share.Permissions.IsZero() {
		through := share.Permissions.Parts()
		o.Share = &through
	}
	if line, ok := removes(o.Explain(token.Token), s); !ok {
		p.lines = append(p.lines, line)
	}
}

// removes judges whether somebody may remove whatever is in a folder.
func removes(d acl.Decision, s *planSite) (line finding.Finding, ok bool) {
	if d.Granted&acl.DeleteChild != 0 {
		return line, true
	}
	where, remedy, does := s.replica.Target().String(), "give it full rights there", finding.To(finding.Grant, s.replica.Target().String(), s.server.Account)
	if d.File&acl.DeleteChild != 0 {
		where, remedy, does = "through the share "+s.replica.Share, "let it through the share with full control, beside all whom it lets through now", finding.To(finding.EditShare, s.replica.Server, s.replica.Share)
	}
	return finding.New(finding.Warn, "rights", "", fmt.Sprintf("%s: %s may not remove %s what others own", s.replica.Name, s.server.Account, where),
		"files whose permissions do not name it cannot be brought there, nor replaced", remedy).With(does), false
}
