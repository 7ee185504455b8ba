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

// guest is a session of the person at a host.
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

// asPerson goes through the front as a person.
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

// who is the person, as DOMAIN\NAME.
func (k *check) who() string { return strings.TrimPrefix(k.as.Domain+`\`+k.as.Account, `\`) }

// open opens the front; nil when the person does not get in, which is a finding.
func (k *check) open(ctx context.Context) (tree.Tree, error) {
	session, err := k.at(ctx, k.Host)
	if err != nil {
		k.add(finding.Fail, "sign-in", fmt.Sprintf("%s does not let %s sign in: %v", k.Host, k.who(), err), "people do not get in", "check account and password, and that the file service knows the domain")
		return nil, ctx.Err()
	}
	t, err := session.Tree(ctx, k.Share, "")
	if err != nil {
		k.add(finding.Fail, "share", fmt.Sprintf("%s cannot open %s: %v", k.who(), k.UNC(), err), "people do not get in", "see the line about its configuration, and who may open the share")
		return nil, ctx.Err()
	}
	return t, nil
}

// signpostsAt are the signposts at some paths, at most as many as a check goes through.
func signpostsAt(want []front.Entry, at func(path string) bool) (list []front.Entry) {
	for _, e := range want {
		if e.Link() && at(e.Path) && len(list) < mostChecked {
			list = append(list, e)
		}
	}
	return list
}

// sideBySide is how many signposts are met at a time.
const sideBySide = 4

// meetAll meets signposts, and returns what is wrong with some of them.
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

// meet meets a signpost as a client does, and opens its first location; nil when all is well.
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
		return tell(finding.Fail, "referral", "the file service shows a plain folder and leads nowhere", "people find it empty", "see the line about its configuration: an option stands against it")
	case errors.Is(err, fs.ErrNotExist):
		return tell(finding.Warn, "missing", "the front does not show it yet", "people do not find it", "wait: it is written at once, unless the state of the front says why not")
	default:
		return tell(finding.Fail, "referral", "the front does not lead there: "+err.Error(), "people do not get there", "check the file service of the front")
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
		return tell(finding.Fail, "name", "the name "+host+" is not known here", "people's machines may not find it either", "give that server a name for people that is known")
	case errors.Is(err, smb.ErrSignIn), errors.Is(err, smb.ErrGuest):
		return tell(finding.Warn, "refused", fmt.Sprintf("%s does not let %s sign in", host, who), "they are refused there", "join it to the domain of its people, or lead them elsewhere")
	case errors.Is(err, fs.ErrPermission):
		return tell(finding.Warn, "refused", fmt.Sprintf("%s may not open %s", who, place), "they see the name here, and are refused there", "grant them something, if they are to use it")
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded):
		k.suspect(ctx, host)
		return tell(finding.Fail, "unreachable", host+" does not answer", "people wait there before they are led on", "bring it back; the front leads past it at once")
	case errors.Is(err, fs.ErrNotExist):
		return tell(finding.Fail, "share-missing", place+" is not there", "people are led to nothing", "offer the share again, or remove the location")
	}
	return tell(finding.Fail, "location", fmt.Sprintf("%s cannot be opened: %v", place, err), "people do not get in", "check that server")
}

// lists lists a folder as far as its first entry: whether it is there can often be seen by everybody.
func lists(ctx context.Context, t tree.Tree) error {
	for _, err := range t.List(ctx, ".", tree.Plain) {
		return err
	}
	return ctx.Err()
}

// at is the session of the person at a host, at its usual port: there clients go.
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

// suspect has the server of a host looked at, because it did not answer.
func (k *check) suspect(ctx context.Context, host string) {
	for _, v := range k.service.serversAt(ctx, host) {
		k.service.estate.Suspect(ctx, v)
	}
}
