package fronts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
	"bridgespan/records"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// mostChecked is how many signposts one check goes through.
const mostChecked = 500

// checkMost is how long one check may take.
const checkMost = 2 * time.Minute

// Check asks a front as a client does: it signs in as a person, meets each signpost, compares where
// its link leads with the directions, and opens the first location as that person.
func (s *Service) Check(ctx context.Context, server, share string, asked model.AskFrontCheck) (model.Check, error) {
	f, err := s.db.Front(ctx, server, share)
	if err != nil {
		return model.Check{}, err
	}
	as, err := s.checkAs(ctx, f, asked.As)
	if err != nil {
		return model.Check{}, err
	}
	if err := namespace.CheckPath("below", asked.Below); err != nil {
		return model.Check{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, checkMost)
	defer cancel()
	k := &check{checks: checks{Front: f}, service: s, as: as, sessions: map[string]*guest{}}
	defer k.close()
	began := time.Now()
	if err := k.run(ctx, strings.Trim(asked.Below, "/")); err != nil {
		return model.Check{}, err
	}
	finding.Sort(k.list)
	done := model.Check{At: began.UTC(), TookMs: time.Since(began).Milliseconds(), Outcome: finding.Worst(k.list), Lines: k.list}
	if asked.Below == "" {
		if err := s.db.StoreFrontCheck(ctx, f.ID, done); err != nil {
			return done, err
		}
		_ = s.db.Tell(ctx, "front-state", name(f), time.Now().UTC())
		s.changed()
	}
	return done, nil
}

// checkAs is the account that checks a front; nil when nobody does.
func (s *Service) checkAs(ctx context.Context, f model.Front, asked *model.FrontCheckAs) (*model.FrontCheckAs, error) {
	if asked != nil {
		if asked.Account == "" || asked.Password == "" {
			return nil, fault.Field("as", "give the account of a person and its password", "an account and a password are needed")
		}
		return asked, nil
	}
	if f.CheckAccount == "" {
		return nil, nil
	}
	sealed, err := s.db.FrontSecret(ctx, f.ID)
	if err != nil {
		return nil, err
	}
	password, err := s.vault.Unseal(secretLabel(f), sealed)
	if err != nil {
		return nil, fault.New(fault.Needed, "give it again: bspan front edit --check-as ACCOUNT --password-file FILE "+name(f), "the password of %s was given for another host name", f.CheckAccount)
	}
	return &model.FrontCheckAs{Domain: f.CheckDomain, Account: f.CheckAccount, Password: password}, nil
}

// check is a check that is under way.
type check struct {
	checks
	service *Service
	as      *model.FrontCheckAs

	mu       sync.Mutex
	sessions map[string]*guest // by host
}

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

func (k *check) run(ctx context.Context, below string) error {
	f := k.Front
	var found moverfront.Found
	err := k.service.at(ctx, f, func(at moverfront.Client) (err error) {
		if err := k.host(ctx, at); err != nil {
			return err
		}
		found, _, err = at.Look(ctx)
		return err
	})
	if err != nil {
		k.add(finding.Fail, "mover", "its mover cannot be asked: "+err.Error(), "the front stays as it was last written", "check the server", finding.To(finding.CheckServer, f.Server))
	}
	if err := k.name(ctx); err != nil {
		return err
	}
	want, left, _, err := k.service.naming.Front(ctx, f.Namespace, f.Settings())
	if err != nil {
		return err
	}
	k.compare(want, found)
	k.loop(want)
	if len(left) > 0 {
		k.add(finding.Warn, "left-out", fmt.Sprintf("%d signposts are not shown, such as %s: %s", len(left), left[0].Path, left[0].Why), "people do not find them here", "open one of their locations, or give their servers a name for people")
	}
	if k.as == nil {
		k.add(finding.Warn, "person", "nobody checks it as a person", "whether people get in is not known", "name an account that checks it", finding.To(finding.EditFront, f.Server, f.Share))
		return nil
	}
	return k.asPerson(ctx, below, want)
}

// compare compares what stands in the front with what it is to hold.
func (k *check) compare(want []front.Entry, found moverfront.Found) {
	if !found.There {
		return
	}
	if changes := front.Changes(found.Entries, want); len(changes) > 0 {
		k.add(finding.Warn, "written", fmt.Sprintf("%d entries are not as the namespace says, such as %s", len(changes), changes[0].Path), "people are led as it was before", "wait: they are written at once, unless its state says why not")
		return
	}
	k.add(finding.Pass, "written", fmt.Sprintf("its %d entries are as the namespace says", len(want)), "", "")
}

// asPerson goes through the front as a person.
func (k *check) asPerson(ctx context.Context, below string, want []front.Entry) error {
	who := strings.TrimPrefix(k.as.Domain+`\`+k.as.Account, `\`)
	session, err := k.at(ctx, k.Host)
	if err != nil {
		k.add(finding.Fail, "sign-in", fmt.Sprintf("%s does not let %s sign in: %v", k.Host, who, err), "people do not get in", "check account and password, and that the file service knows the domain")
		return ctx.Err()
	}
	t, err := session.Tree(ctx, k.Share, "")
	if err != nil {
		k.add(finding.Fail, "share", fmt.Sprintf("%s cannot open %s: %v", who, k.UNC(), err), "people do not get in", "see the line about its configuration, and who may open the share")
		return ctx.Err()
	}
	defer t.Close()
	k.add(finding.Pass, "sign-in", who+" opens "+k.UNC(), "", "")
	var signposts []front.Entry
	for _, e := range want {
		if _, covered := namespace.Below(below, e.Path); e.Link() && covered && len(signposts) < mostChecked {
			signposts = append(signposts, e)
		}
	}
	var met, opened int
	var mu sync.Mutex
	var group guard.Group
	group.SetLimit(4)
	for _, e := range signposts {
		group.Go(func() error {
			line := k.meet(ctx, t, e, who)
			mu.Lock()
			defer mu.Unlock()
			if met++; line == nil {
				opened++
			} else {
				k.list = append(k.list, *line)
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	k.add(finding.Pass, "signposts", fmt.Sprintf("%s met %d signposts, and opened the first location of %d", who, met, opened), "", "")
	return nil
}

// meet meets a signpost as a client does, and opens its first location; nil when all is well.
func (k *check) meet(ctx context.Context, t tree.Tree, e front.Entry, who string) *finding.Finding {
	full := strings.TrimSuffix("/"+k.Namespace+"/"+k.Branch, "/") + "/" + e.Path
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

// serversAt are the file servers that people reach by a name.
func (s *Service) serversAt(ctx context.Context, hosts ...string) (names []string) {
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		return nil
	}
	for _, v := range servers {
		if v.Can(model.SpeaksSMB) && slices.ContainsFunc(hosts, func(h string) bool { return namespace.Key(h) == namespace.Key(v.PeopleHost()) }) {
			names = append(names, v.Name)
		}
	}
	return names
}
