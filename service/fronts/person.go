package fronts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"sync"
	"time"

	"bridgespan/core/finding"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// guest is the person's session at one host.
type guest struct {
	once    sync.Once
	session endpoint.Endpoint
	err     error
}

func (k *check) close() {
	for _, g := range k.sessions {
		if g.session != nil {
			g.session.Close()
		}
	}
}

// asPerson checks the front with the person's account.
func (k *check) asPerson(ctx context.Context, below string, want []front.Entry) error {
	t, err := k.open(ctx)
	if err != nil || t == nil {
		return err
	}
	defer t.Close()
	k.add(finding.Pass, "sign-in", k.who()+" opens "+k.UNC(), "", "")
	signposts := signpostsAt(want, func(path string) bool {
		_, covered := namespace.Below(below, path)
		return covered
	})
	found, err := k.meetAll(ctx, t, signposts)
	k.list = append(k.list, found...)
	k.add(finding.Pass, "signposts", fmt.Sprintf("%s met %d signposts, and opened the first location of %d", k.who(), len(signposts), len(signposts)-len(found)), "", "")
	return err
}

// who returns the person's account as DOMAIN\NAME.
func (k *check) who() string { return strings.TrimPrefix(k.as.Domain+`\`+k.as.Account, `\`) }

// open opens the front. It returns nil when that fails, and adds a finding.
func (k *check) open(ctx context.Context) (tree.Tree, error) {
	session, err := k.at(ctx, k.Host)
	if err != nil {
		k.add(finding.Fail, "sign-in", fmt.Sprintf("%s refuses the sign-in of %s: %v", k.Host, k.who(), err), "people cannot open the front", "check account and password, and that the file service knows the domain")
		return nil, ctx.Err()
	}
	t, err := session.Tree(ctx, k.Share, "")
	if err != nil {
		k.add(finding.Fail, "share", fmt.Sprintf("%s cannot open %s: %v", k.who(), k.UNC(), err), "people cannot open the front", "see the finding about the configuration, and the permissions of the share")
		return nil, ctx.Err()
	}
	return t, nil
}

// signpostsAt selects signposts by path, mostChecked at most.
func signpostsAt(want []front.Entry, at func(path string) bool) (list []front.Entry) {
	for _, e := range want {
		if e.Link() && at(e.Path) && len(list) < mostChecked {
			list = append(list, e)
		}
	}
	return list
}

// sideBySide is the number of signposts that are checked concurrently.
const sideBySide = 4

// meetAll checks signposts, and returns a finding for each that has a problem.
func (k *check) meetAll(ctx context.Context, t tree.Tree, signposts []front.Entry) (found []finding.Finding, err error) {
	var mu sync.Mutex
	var group guard.Group
	group.SetLimit(sideBySide)
	for _, e := range signposts {
		group.Go(func() error {
			if line := k.meet(ctx, t, e); line != nil {
				mu.Lock()
				defer mu.Unlock()
				found = append(found, *line)
			}
			return ctx.Err()
		})
	}
	err = group.Wait()
	return found, err
}

// meet resolves one signpost as a client does, and opens its first location; nil when all is well.
func (k *check) meet(ctx context.Context, t tree.Tree, e front.Entry) *finding.Finding {
	who := k.who()
	full := top(k.Front) + "/" + e.Path
	tell := func(severity finding.Severity, code, found, meaning, remedy string) *finding.Finding {
		f := finding.New(severity, code, full, found, meaning, remedy)
		return &f
	}
	switch _, err := t.Stat(ctx, e.Path); {
	case smb.LeadsAway(err):
	case err == nil:
		return tell(finding.Fail, "referral", "the file service shows a plain folder and sends no referral", "people see an empty folder", "see the finding about the configuration: an option prevents referrals")
	case errors.Is(err, fs.ErrNotExist):
		return tell(finding.Warn, "missing", "the signpost is missing in the front", "people do not see it", "wait a moment; if it stays missing, the state of the front gives the reason")
	default:
		return tell(finding.Fail, "referral", "the front sends no referral: "+err.Error(), "people cannot open it", "check the file service of the front")
	}
	host, rest, _ := strings.Cut(e.To[0], `\`)
	share, folder, _ := strings.Cut(rest, `\`)
	session, err := k.at(ctx, host)
	if err == nil {
		var first tree.Tree
		if first, err = session.Tree(ctx, share, strings.ReplaceAll(folder, `\`, "/")); err == nil {
			defer first.Close()
			err = lists(ctx, first)
		}
	}
	place := `\\` + e.To[0]
	var dns *net.DNSError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &dns):
		return tell(finding.Fail, "name", "the name "+host+" does not resolve on this host", "clients may fail to resolve it as well", "give that server a name for people that resolves")
	case errors.Is(err, smb.ErrSignIn), errors.Is(err, smb.ErrGuest):
		return tell(finding.Warn, "refused", fmt.Sprintf("%s refuses the sign-in of %s", host, who), "they have no access there", "join that server to the domain of the account, or use another location")
	case errors.Is(err, fs.ErrPermission):
		return tell(finding.Warn, "refused", fmt.Sprintf("%s has no permission to open %s", who, place), "they see the signpost and get an access error", "grant them access, if they need it")
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded):
		k.suspect(ctx, host)
		return tell(finding.Fail, "unreachable", host+" does not answer", "clients wait before they try the next location", "bring the server back; the front skips it meanwhile")
	case errors.Is(err, fs.ErrNotExist):
		return tell(finding.Fail, "share-missing", place+" does not exist", "the signpost leads to a missing folder", "restore the share or folder, or remove the location")
	}
	return tell(finding.Fail, "location", fmt.Sprintf("%s cannot be opened: %v", place, err), "people cannot open the signpost", "check that server")
}

// lists reads the first entry of a folder. Opening it is not enough: many shares let everybody open the top.
func lists(ctx context.Context, t tree.Tree) error {
	for _, err := range t.List(ctx, ".", tree.Plain) {
		return err
	}
	return ctx.Err()
}

// at returns the person's session at a host, on port 445: clients use no other.
func (k *check) at(ctx context.Context, host string) (endpoint.Endpoint, error) {
	k.mu.Lock()
	g := k.sessions[host]
	if g == nil {
		g = &guest{}
		k.sessions[host] = g
	}
	k.mu.Unlock()
	g.once.Do(func() {
		g.session, g.err = endpoint.SMB(ctx, smb.Target{Address: net.JoinHostPort(host, "445"), Domain: k.as.Domain, Account: k.as.Account, Password: k.as.Password, Timeout: 5 * time.Second})
	})
	return g.session, g.err
}

// suspect has the servers of a host probed, because the host did not answer.
func (k *check) suspect(ctx context.Context, host string) {
	for _, v := range k.service.serversAt(ctx, host) {
		k.service.estate.Suspect(ctx, v)
	}
}
