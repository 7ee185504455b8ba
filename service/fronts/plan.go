package fronts

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
	"bridgespan/service/steps"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// Add makes a front, or tells what that would take.
func (s *Service) Add(ctx context.Context, n model.NewFront) (model.FrontPlan, error) {
	c, p, err := s.plan(ctx, n)
	if err != nil {
		return p, err
	}
	p.Rehearsed = n.Rehearse
	if n.Rehearse {
		return p, nil
	}
	for _, f := range p.Checks {
		if f.Severity == finding.Fail {
			return p, &fault.Error{Kind: fault.Needed, Problem: f.Found, Remedy: f.Remedy}
		}
	}
	if n.CheckAs != nil && n.CheckAs.Account != "" && n.CheckAs.Password == "" {
		return p, noPassword(n.CheckAs.Account)
	}
	c.Plan = p
	if p, err = s.start(ctx, c); err != nil || n.CheckAs == nil || p.Front.Version == 0 {
		return p, err
	}
	// Not before, and not by the run: what a run is to do stands in the record of changes.
	p.Front, err = s.Edit(ctx, p.Front.Server, p.Front.Share, p.Front.Version, model.EditFront{CheckAs: n.CheckAs})
	return p, err
}

// Remove removes a front with all that it made and nothing else, or from Bridge Span only.
func (s *Service) Remove(ctx context.Context, server, share string, version int64, how model.RemoveFront) (model.FrontPlan, error) {
	f, err := s.db.Front(ctx, server, share)
	if err != nil {
		return model.FrontPlan{}, err
	}
	if f.Version != version {
		return model.FrontPlan{}, stale(f)
	}
	c := change{Action: removeFront, Forget: how.Forget, Front: f}
	c.Plan = model.FrontPlan{Front: f, Checks: []finding.Finding{}, Steps: steps.Planned(s.steps(&c)), Rehearsed: how.Rehearse}
	if how.Forget {
		if err := s.at(ctx, f, func(at moverfront.Client) error { _, err := at.Hello(ctx); return err }); err == nil {
			return c.Plan, fault.Field("forget", "remove the front without forget: its folder and share are removed as well", "the mover at %s answers", f.Server)
		}
		c.Plan.Checks = append(c.Plan.Checks, finding.New(finding.Warn, "stays", name(f), fmt.Sprintf("the mover at %s does not answer; the folder and the share %s stay on the host", f.Server, f.Share), "if the host comes back, people find the links as last written", "on the host, remove the folder of the front and its section of the configuration"))
	} else if len(f.Foreign) > 0 {
		c.Plan.Checks = append(c.Plan.Checks, finding.New(finding.Warn, "foreign", name(f), fmt.Sprintf("the folder of the front contains %d foreign items, such as %q", len(f.Foreign), f.Foreign[0]), "they stay, and the folder with them", "move them away on the host, if they are not needed"))
	}
	if how.Rehearse {
		return c.Plan, nil
	}
	return s.start(ctx, c)
}

// plan looks at all that a front needs.
func (s *Service) plan(ctx context.Context, n model.NewFront) (c change, p model.FrontPlan, err error) {
	f := model.Front{Server: n.Server, Share: n.Share, Namespace: n.Namespace, Branch: n.Branch, Comment: n.Comment, LeaveOutFailing: n.LeaveOutFailing, State: model.FrontNew}
	if err := moverfront.CheckShare(f.Share); err != nil {
		return c, p, fault.Field("share", "use letters, digits, hyphens and spaces, such as trust", "%v", err)
	}
	v, err := s.db.Server(ctx, f.Server)
	if err != nil {
		return c, p, err
	}
	if !v.Can(model.MayKeepFronts) {
		return c, p, fault.Field("server", "name a host where a mover runs beside a file service: bspand mover --fronts FOLDER --file-service FILE", "no mover runs at %s", v.Name)
	}
	f.Server, f.Site, f.Host = v.Name, v.Site, v.PeopleHost()
	if err := s.findBranch(ctx, &f); err != nil {
		return c, p, err
	}
	if _, err := s.db.Front(ctx, f.Server, f.Share); fault.KindOf(err) != fault.NotFound {
		if err == nil {
			err = fault.New(fault.Taken, "choose another name, or see it with: bspan front show "+name(f), "%s already has a front %s", f.Server, f.Share).At("share")
		}
		return c, p, err
	}
	if err := s.notTwice(ctx, v, f); err != nil {
		return c, p, err
	}
	k := checks{Front: f}
	if err := s.at(ctx, f, func(at moverfront.Client) error { return k.host(ctx, at) }); err != nil {
		k.add(finding.Fail, "mover", "the mover does not answer: "+err.Error(), "the front cannot be written", "check the server", finding.To(finding.CheckServer, f.Server))
	}
	if err := k.name(ctx); err != nil {
		return c, p, err
	}
	if err := s.contents(ctx, &k); err != nil {
		return c, p, err
	}
	c = change{Action: addFront, Front: f, Folder: k.folder, Entries: k.entries}
	return c, model.FrontPlan{Front: f, Folder: k.folder, Checks: k.list, Lines: k.lines, Steps: steps.Planned(s.steps(&c))}, nil
}

// notTwice returns an error when the same mover keeps the front already, under another name of its host.
func (s *Service) notTwice(ctx context.Context, v model.Server, f model.Front) error {
	fronts, err := s.db.Fronts(ctx, "")
	if err != nil {
		return err
	}
	for _, other := range fronts {
		host, err := s.db.Server(ctx, other.Server)
		if err != nil {
			return err
		}
		if host.Certificate == v.Certificate && namespace.Key(other.Share) == namespace.Key(f.Share) {
			return fault.New(fault.Taken, "choose another name, or use that front", "the mover at %s already has a front %s, as %s", v.Name, other.Share, name(other)).At("share")
		}
	}
	return nil
}

// checks gathers what was looked at for a front.
type checks struct {
	model.Front
	list    []finding.Finding
	lines   []string
	folder  string
	entries int
	around  []moverfront.Share // those of its host in which its folder is
}

// add adds a finding about the front, with what mends it at once, if anything does.
func (k *checks) add(severity finding.Severity, code, found, meaning, remedy string, action ...*finding.Action) {
	f := finding.New(severity, code, "", found, meaning, remedy)
	for _, a := range action {
		f = f.With(a)
	}
	k.list = append(k.list, f)
}

// host looks at the mover, its file service and the folder.
func (k *checks) host(ctx context.Context, at moverfront.Client) error {
	offer, folder, err := at.Offered(ctx)
	if errors.Is(err, tree.ErrUnsupported) {
		k.add(finding.Fail, "file-service", "the mover was started without fronts", "no file service would show the links", "start the mover with --fronts FOLDER and --file-service FILE")
		return nil
	}
	if err != nil {
		return err
	}
	k.folder, k.lines = folder, offer.Missing
	k.add(finding.Pass, "file-service", "the mover runs beside the file service "+offer.Service, "", "")
	switch {
	case len(offer.ByHand) > 0:
		k.add(finding.Fail, "configuration", "the configuration of the file service does not include the mover's file", "the share would not be offered", "add this line at the end of its configuration: "+strings.Join(offer.ByHand, "; "))
	case len(offer.Missing) > 0 && k.ID != 0:
		k.add(finding.Fail, "configuration", "missing in the configuration: "+strings.Join(offer.Missing, "; "), "the share is not offered as a front", "wait some minutes for the mover to write it; if it stays missing, let the mover write to "+offer.Include)
	case len(offer.Missing) > 0:
		k.add(finding.Pass, "configuration", fmt.Sprintf("the mover adds %d lines, in %s", len(offer.Missing), offer.Include), "", "")
	}
	k.shares(offer.Shares, folder)
	found, _, err := at.Look(ctx)
	if err != nil {
		return err
	}
	switch {
	case len(found.Foreign) > 0 && k.ID != 0:
		k.add(finding.Warn, "folder", fmt.Sprintf("%s contains %q, which Bridge Span did not create", folder, found.Foreign[0]), "people see it in the namespace, and a signpost of the same name cannot be written", "move it away on the host")
	case len(found.Foreign) > 0:
		k.add(finding.Fail, "folder", fmt.Sprintf("%s contains %q, which Bridge Span did not create", folder, found.Foreign[0]), "people would see it in the namespace", "choose another share, or move it away on the host")
	default:
		k.add(finding.Pass, "folder", folder+" has no foreign items", "", "")
	}
	return nil
}

// shares looks for shares in the way of the front's own.
func (k *checks) shares(shares []moverfront.Share, folder string) {
	for _, other := range shares {
		switch {
		case strings.EqualFold(other.Name, k.Share) && other.Path != folder:
			k.add(finding.Fail, "share", fmt.Sprintf("the file service already has a share %s, of %s", other.Name, other.Path), "people use it", "choose another name")
		case !strings.EqualFold(other.Name, k.Share) && holds(other.Path, folder):
			k.around = append(k.around, other)
			k.add(finding.Warn, "share", fmt.Sprintf("the folder %s is inside the share %s", folder, other.Name), "people see the front a second time there, and can change it if they have write access", "start the mover with --fronts outside of all shares")
		}
	}
}

// name looks at whether people's machines can find the host.
func (k *checks) name(ctx context.Context) error {
	if err := front.CheckHost("server", k.Host); err != nil {
		k.add(finding.Fail, "name", fmt.Sprintf("%q is not a host name", k.Host), "clients cannot find the front", "give the server a name for people", finding.To(finding.EditServer, k.Server))
		return nil
	}
	switch err := smbadmin.Find(ctx, k.Host); {
	case err == nil:
		k.add(finding.Pass, "name", "a file service answers at "+k.Host, "", "")
	case errors.Is(err, smbadmin.ErrUnknownName):
		k.add(finding.Fail, "name", "the name "+k.Host+" does not resolve on this host", "clients may fail to resolve it as well", "check the name for people, or the name service", finding.To(finding.EditServer, k.Server))
	default:
		k.add(finding.Fail, "listens", "no file service answers at "+k.Host+", port 445", "clients connect to this port", "start it, or check the name for people", finding.To(finding.EditServer, k.Server))
	}
	return ctx.Err()
}

// contents looks at what the front is to hold.
func (s *Service) contents(ctx context.Context, k *checks) error {
	n, err := s.naming.Namespace(ctx, k.Namespace)
	if err != nil {
		return err
	}
	entries, left, _, err := s.naming.Front(ctx, k.Namespace, k.Settings())
	if err != nil {
		return err
	}
	k.entries = len(entries)
	if n.Hiding {
		k.add(finding.Warn, "hiding", "/"+n.Name+" hides signposts without access, and a front cannot", "everybody with access to the front sees all names, and gets an access error at some", "show a branch only, or turn hiding off")
	}
	if len(left) > 0 {
		k.add(finding.Warn, "left-out", fmt.Sprintf("%d signposts cannot be shown, such as %s: %s", len(left), left[0].Path, left[0].Why), "they are missing in the front", "open one of their locations, or give their servers a name for people")
	}
	k.loop(entries)
	k.add(finding.Pass, "contents", fmt.Sprintf("%d folders and signposts are written", len(entries)), "", "")
	return nil
}

// loop looks for a signpost that leads back to the front: by its share, or around its folder.
func (k *checks) loop(entries []front.Entry) {
	for _, e := range entries {
		for _, place := range e.To {
			if k.leadsBack(place) {
				k.add(finding.Fail, "loop", fmt.Sprintf("/%s/%s leads to %s, and so to the front itself", k.Namespace, path.Join(k.Branch, e.Path), place), "people and search programs would go round endlessly", "remove that location, or close it")
				return
			}
		}
	}
}

func (k *checks) leadsBack(place string) bool {
	parts := strings.SplitN(place, `\`, 3) // SERVER, SHARE and perhaps a folder
	if !strings.EqualFold(parts[0], k.Host) {
		return false
	}
	if strings.EqualFold(parts[1], k.Share) {
		return true
	}
	below := strings.ReplaceAll(strings.Join(parts[2:], ""), `\`, "/")
	return slices.ContainsFunc(k.around, func(s moverfront.Share) bool {
		return strings.EqualFold(s.Name, parts[1]) && holds(path.Join(s.Path, below), k.folder)
	})
}

// holds reports whether a folder is another one, or around it.
func holds(folder, other string) bool {
	return strings.HasPrefix(other+"/", strings.TrimSuffix(folder, "/")+"/")
}
