package estate

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// Check tries a server for real, line by line, and keeps the result.
func (s *Service) Check(ctx context.Context, name string) (model.Check, error) {
	v, err := s.db.Server(ctx, name)
	if err != nil {
		return model.Check{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, 45*time.Second)
	defer cancel()
	start := time.Now()
	if err := s.trustAgain(ctx, v); err != nil {
		return model.Check{}, err
	}
	v.Untrusted = nil
	c := &checker{service: s, server: v}
	c.run(ctx)
	c.peopleName(ctx)
	c.answers(ctx)
	check := model.Check{At: start.UTC().Truncate(time.Millisecond), TookMs: time.Since(start).Milliseconds(), Lines: c.lines, Outcome: finding.Worst(c.lines)}
	if err := s.db.StoreCheck(ctx, v.Name, check); err != nil {
		return check, err
	}
	if _, err := s.db.StoreReach(ctx, v.Name, c.reached, c.trouble, start.UTC()); err != nil {
		return check, err
	}
	if err := s.db.Tell(ctx, "server", v.Name, start.UTC()); err != nil {
		return check, err
	}
	s.changed()
	return check, nil
}

// checker gathers the lines of one check.
type checker struct {
	service *Service
	server  model.Server
	lines   []finding.Finding
	reached bool
	trouble string
}

func (c *checker) add(code string, severity finding.Severity, found, meaning, remedy string) {
	c.lines = append(c.lines, finding.New(severity, code, "", found, meaning, remedy))
}

func (c *checker) run(ctx context.Context) {
	greets := c.server.Can(model.SpeaksSMB)
	if !c.address(ctx) || greets && !c.greeting(ctx) {
		return
	}
	r := c.signIn(ctx)
	if r == nil {
		return
	}
	defer r.Close()
	if !greets {
		d, _ := r.Clock(ctx) // it was told with the rest
		c.clock(d)
	}
	c.shares(ctx, r)
}

func (c *checker) address(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, tryTimeout)
	defer cancel()
	start := time.Now()
	at := hostPort(c.server)
	if c.server.Can(model.HoldsBuckets) {
		if t, err := cloudTarget(c.server, ""); err == nil {
			at = t.Address()
		}
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		c.trouble = blame(c.server, fmt.Errorf("%w: %w", tree.ErrUnreachable, err)).Error()
		c.add("address", finding.Fail, fmt.Sprintf("nothing answers at %s: %v", at, cause(err)),
			"people are not led to this server, and nothing else can be tried", "check address and port, that the server runs and that no firewall is between")
		return false
	}
	conn.Close()
	c.reached = true
	c.add("address", finding.Pass, fmt.Sprintf("%s answers in %s", at, milliseconds(time.Since(start))), "", "")
	return true
}

// peopleName looks for the server by the name that people's machines use.
func (c *checker) peopleName(ctx context.Context) {
	name := c.server.PeopleName
	if name == "" || !c.reached {
		return
	}
	switch err := smbadmin.Find(ctx, name); {
	case err == nil:
		c.add("name", finding.Pass, "people's machines find it at "+name, "", "")
	case errors.Is(err, smbadmin.ErrUnknownName):
		c.add("name", finding.Warn, "the name for people, "+name+", is not known here", "people's machines may not find it either, and fronts lead nowhere", "check the name, or the name service")
	default:
		c.add("name", finding.Warn, fmt.Sprintf("nothing answers at the name for people, %s, port 445: %v", name, cause(err)), "fronts lead people to nothing", "check the name, and that no firewall is between")
	}
}

// cause is the innermost error, in a few words.
func cause(err error) error {
	for errors.Unwrap(err) != nil {
		err = errors.Unwrap(err)
	}
	return err
}

func milliseconds(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
}

// Limits on the clock. Kerberos refuses tickets beyond five minutes (RFC 4120, 5.5.2).
const (
	clockWarn = 2 * time.Second
	clockFail = 5 * time.Minute
)

func (c *checker) greeting(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, tryTimeout)
	defer cancel()
	g, err := smbadmin.Negotiate(ctx, hostPort(c.server))
	if err != nil {
		c.reached, c.trouble = false, err.Error()
		c.add("protocol", finding.Fail, err.Error(), "no file can be reached", "check that an SMB file service listens on this port")
		return false
	}
	switch {
	case g.Dialect >= 0x0311:
		c.add("protocol", finding.Pass, g.DialectName(), "", "")
	case g.Dialect >= 0x0300:
		c.add("protocol", finding.Warn, g.DialectName(), "the beginning of a connection is not protected against tampering", "allow SMB 3.1.1 on the server")
	default:
		c.add("protocol", finding.Fail, g.DialectName(), "no encryption is possible, and Bridge Span needs SMB 3", "allow SMB 3.1.1 on the server")
	}
	c.signing(g)
	encryption, outcome := g.Encryption, finding.Pass
	if encryption == "" {
		encryption, outcome = "not offered", finding.Warn
	}
	c.add("encryption", outcome, encryption, "contents cross the network in the clear", "allow encryption on the server")
	c.clock(g.ClockDifference)
	return true
}

// signing is about who can change messages on their way. Bridge Span signs by itself.
func (c *checker) signing(g smbadmin.Greeting) {
	if c.server.Unsigned {
		c.add("signing", finding.Warn, "Bridge Span does not ask this server for it", "whoever is between can change files and permissions on their way, and nobody notices", "require signed messages again in the server's settings")
		return
	}
	if !g.SigningRequired {
		c.add("signing", finding.Warn, "required by Bridge Span, not by the server", "other clients that do not ask for it can be misled by somebody on the network", "require signing on the server")
		return
	}
	c.add("signing", finding.Pass, "required", "", "")
}

func (c *checker) clock(difference time.Duration) {
	found := fmt.Sprintf("%+.1f s against ours", difference.Seconds())
	means, remedy := "times of changes cannot be compared, and the later change may lose", "set both machines to the same time service"
	switch d := difference.Abs(); {
	case d > clockFail:
		c.add("clock", finding.Fail, found, means, remedy)
	case d > clockWarn:
		c.add("clock", finding.Warn, found, means, remedy)
	default:
		c.add("clock", finding.Pass, found, "", "")
	}
}

func (c *checker) signIn(ctx context.Context) *Reach {
	r, err := c.service.reach(ctx, c.server)
	if err != nil && c.server.Can(model.HoldsBuckets) {
		c.add("sign-in", finding.Fail, blame(c.server, err).Error(), "its buckets cannot be replicated", "give its secret again with: bspan server edit "+c.server.Name+" --new-password")
		return nil
	}
	if err != nil && !c.server.Can(model.HasAccounts) {
		c.add("mover", finding.Fail, blame(c.server, err).Error(), "nothing can be looked at or carried there", "start the mover there; when it was made anew, give its certificate and secret: bspan server edit "+c.server.Name+" --certificate … --password-file …")
		return nil
	}
	if err != nil {
		c.add("sign-in", finding.Fail, fmt.Sprintf("%s: %v", c.server.Account, cause(err)), "Bridge Span cannot see its shares or permissions", "set its password again with: bspan server edit "+c.server.Name+" --account … --new-password")
		return nil
	}
	line := "sign-in"
	if c.server.Can(model.ShowsCertificate) {
		line = "mover"
	}
	c.add(line, finding.Pass, r.Greeting(), "", "")
	return r
}

func (c *checker) shares(ctx context.Context, r *Reach) {
	shares, err := r.shares(ctx)
	if err != nil {
		c.add("shares", finding.Fail, fmt.Sprint(cause(err)), "shares cannot be found by themselves", "give the account the right to list shares")
		return
	}
	if err := c.service.storeShares(ctx, c.server.Name, shares); err != nil {
		c.add("shares", finding.Warn, "listed, and could not be recorded", "what is shown may be old", "check again")
	}
	var disks []model.Share
	for _, h := range shares {
		if h.Kind == "disk" && !h.Hidden {
			disks = append(disks, h)
		}
	}
	what := "shares"
	switch {
	case c.server.Can(model.HoldsBuckets):
		what = "buckets"
	case !c.server.Can(model.HasAccounts):
		what = "folders"
	}
	c.add(what, finding.Pass, fmt.Sprintf("%d: %s", len(disks), namesOf(disks)), "", "")
	c.rights(ctx, r, disks)
	if c.server.Can(model.ShowsCertificate) {
		c.fileService(ctx, r, disks)
	}
}

// fileService checks that a mover and the file service on its host apply the same permissions.
func (c *checker) fileService(ctx context.Context, r *Reach, folders []model.Share) {
	var shared []model.Share
	for _, f := range folders {
		t, err := r.Tree(ctx, f.Name, "")
		if err != nil {
			continue // the rights line reports it
		}
		if t.Capabilities().Samba {
			shared = append(shared, f)
		}
		_ = t.Close()
	}
	switch {
	case len(shared) > 0 && c.server.Beside != "":
		c.add("file service", finding.Pass, fmt.Sprintf("%s has the same permissions through %s", namesOf(shared), c.server.Beside), "", "")
	case len(shared) > 0:
		c.add("file service", finding.Warn, fmt.Sprintf("%s shares permissions with Samba, and no file server is set beside this mover", namesOf(shared)), "its permissions name accounts that no account map covers", "set the file server of that host: bspan server edit "+c.server.Name+" --beside SERVER")
	case c.server.Beside != "":
		c.add("file service", finding.Warn, fmt.Sprintf("no folder shares permissions with %s", c.server.Beside), "people who use the folders through it meet other permissions than the set has", "start the mover with --samba NAME for each folder that "+c.server.Beside+" shares as well")
	}
}

func namesOf(shares []model.Share) string {
	var names []string
	for _, h := range shares {
		names = append(names, h.Name)
	}
	return strings.Join(names, ", ")
}

// rights tries what administration needs on every share, without changing
// anything: list the top folder, read its permissions, and be let in to write.
func (c *checker) rights(ctx context.Context, r *Reach, disks []model.Share) {
	var refused []string
	var least tree.Space
	var leastName string
	for _, h := range disks {
		space, err := tryShare(ctx, r, h.Name)
		if err != nil {
			refused = append(refused, fmt.Sprintf("%s (%v)", h.Name, err))
			continue
		}
		if leastName == "" || share(space) < share(least) {
			least, leastName = space, h.Name
		}
	}
	if len(refused) > 0 {
		c.add("rights", finding.Fail, fmt.Sprintf("refused on %d of %d shares: %s", len(refused), len(disks), strings.Join(refused, ", ")),
			"those shares cannot be verified, replicated or migrated", c.rightsRemedy())
	} else if len(disks) > 0 {
		c.add("rights", finding.Pass, "lists, reads permissions and may write on all of them", "", "")
	}
	if leastName != "" && least.Total < tree.Endless {
		c.space(leastName, least)
	}
}

func (c *checker) rightsRemedy() string {
	if c.server.Can(model.HoldsBuckets) {
		return keyRights(c.server)
	}
	if !c.server.Can(model.HasAccounts) {
		return "let the mover run as somebody who may do everything there"
	}
	return "make " + c.server.Account + " a member of the server's Administrators and let them into the share"
}

func tryShare(ctx context.Context, r *Reach, name string) (tree.Space, error) {
	t, err := r.Tree(ctx, name, "")
	if err != nil {
		return tree.Space{}, fmt.Errorf("not let in: %w", cause(err))
	}
	defer t.Close()
	for _, err := range t.List(ctx, ".", tree.Plain) {
		if err != nil {
			return tree.Space{}, fmt.Errorf("cannot list: %w", cause(err))
		}
		break
	}
	if _, err := t.Descriptor(ctx, "."); err != nil {
		return tree.Space{}, fmt.Errorf("cannot read permissions: %w", cause(err))
	}
	if err := MayWrite(ctx, t, "."); err != nil {
		return tree.Space{}, fmt.Errorf("may not write: %w", cause(err))
	}
	return t.Space(ctx)
}

func share(s tree.Space) float64 { return float64(s.Free) / float64(max(s.Total, 1)) }

func (c *checker) space(name string, s tree.Space) {
	found := fmt.Sprintf("%s free of %s (%.0f%%) under %s", humanize.IBytes(uint64(s.Free)), humanize.IBytes(uint64(s.Total)), 100*share(s), name)
	means, remedy := "people will soon not be able to save, and replication stops", "free space, or move a share to another volume"
	switch {
	case share(s) < 0.02:
		c.add("free space", finding.Fail, found, means, remedy)
	case share(s) < 0.10:
		c.add("free space", finding.Warn, found, means, remedy)
	default:
		c.add("free space", finding.Pass, found, "", "")
	}
}
