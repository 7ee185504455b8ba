package sets

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"bridgespan/core/acl"
	"bridgespan/core/calendar"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/paths"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/tree"
)

// What a set has when nothing is said.
const (
	usualAtticDays = 60
	usualIntake    = 1 << 30
)

// Draft checks what a set is to be made of, and fills in what was not said. It
// changes nothing.
func (s *Base) Draft(ctx context.Context, n model.NewReplicaSet) (model.ReplicaSet, error) {
	set := model.ReplicaSet{Name: n.Name, Note: n.Note, Layout: cmp.Or(n.Layout, model.LayoutMesh), Calendar: cmp.Or(n.Calendar, "full"), Filter: n.Filter,
		Permissions: cmp.Or(n.Permissions, model.PermissionsCarry), AccountMap: n.AccountMap, AtticDays: cmp.Or(n.AtticDays, usualAtticDays), Retry: model.UsualRetry, Created: Now()}
	model.Take(&set.Retry, n.Retry)
	model.Take(&set.RemovalLimit, n.RemovalLimit)
	if err := namespace.CheckElement("name", set.Name); err != nil {
		return set, err
	}
	if err := CheckSettings(&set); err != nil {
		return set, err
	}
	if len(n.Replicas) < 2 {
		return set, fault.Field("replicas", "name at least two places", "one place alone cannot be kept the same")
	}
	for i, r := range n.Replicas {
		placed, err := s.Place(ctx, i, r)
		if err != nil {
			return set, err
		}
		set.Replicas = append(set.Replicas, placed)
	}
	if n.RemovalLimit == nil && set.IsCloudSet() {
		set.RemovalLimit = model.CloudRemovalLimit
	}
	if err := Apart(&set); err != nil {
		return set, err
	}
	if err := NameReplicas(&set); err != nil {
		return set, err
	}
	if err := chooseSeed(&set); err != nil {
		return set, err
	}
	if err := CheckPublish(n.Publish); err != nil {
		return set, err
	}
	if err := s.CheckEdges(ctx, &set, Field); err != nil {
		return set, err
	}
	if err := s.leadsToSeed(ctx, n.Publish, &set); err != nil {
		return set, err
	}
	if err := s.mapped(ctx, &set); err != nil {
		return set, err
	}
	return set, layLanes(&set, n.Lanes)
}

// leadsToSeed returns a fault unless people can be led to the seed, when a set is
// published.
func (s *Base) leadsToSeed(ctx context.Context, path string, set *model.ReplicaSet) error {
	if path == "" {
		return nil
	}
	seed := &set.Replicas[slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Seed })]
	if s.WithoutAccounts(ctx, seed.Server) {
		return fault.Field("publish", "make a file server the seed, or publish the others when they are filled and verified", "%s, the seed's, is a host where a mover runs: people cannot be led there", seed.Server)
	}
	return nil
}

func CheckPublish(path string) error {
	if path == "" {
		return nil
	}
	_, inside, err := namespace.Split("publish", path)
	if err == nil && inside == "" {
		err = fault.Field("publish", "write the whole path of a signpost, such as /trust/herbarium", "%q is a namespace, not a path within one", path)
	}
	return err
}

// Place finds the server and the share of a replica.
func (s *Base) Place(ctx context.Context, i int, n model.NewReplica) (model.Replica, error) {
	r := model.Replica{Name: n.Name, Share: n.Share, Sub: strings.Trim(n.Sub, "/"), Seed: n.Seed, IntakeQuota: cmp.Or(n.IntakeQuota, usualIntake), AtticQuota: n.AtticQuota, SweepMin: n.SweepMin, Edge: n.Edge, Rights: n.Rights, State: model.ReplicaNew}
	if err := CheckRights(Field(i, "rights"), n.Rights); err != nil {
		return r, err
	}
	if r.Sub != "" {
		if err := namespace.CheckPath(Field(i, "sub"), r.Sub); err != nil {
			return r, err
		}
		if top, _, _ := strings.Cut(r.Sub, "/"); tree.Reserved(top) {
			return r, fault.Field(Field(i, "sub"), "choose another folder", "%q is where Bridge Span keeps what is its own", top)
		}
	}
	target, err := s.Estate.TryTarget(ctx, Field(i, "server"), namespace.Target{Server: n.Server, Share: n.Share})
	if err != nil {
		return r, err
	}
	v, err := s.DB.Server(ctx, target.Server)
	r.Server, r.Share, r.Site, r.Swept = target.Server, target.Share, v.Site, v.Can(model.HoldsBuckets)
	if err == nil {
		err = CheckSweep(Field(i, "sweepMin"), &r)
	}
	if err == nil {
		r.Sealing, err = s.sealing(ctx, Field(i, "sealing"), &r, n.Sealing)
	}
	return r, err
}

// sealing is how the files of a replica are to be sealed.
func (s *Base) sealing(ctx context.Context, field string, r *model.Replica, asked *model.Sealing) (*model.Sealing, error) {
	if r.Swept {
		return s.Estate.CheckSealing(ctx, field, r.Target(), asked)
	}
	if asked != nil {
		return nil, fault.Field(field, "leave it out", "%s is a file server: only files in buckets are sealed", r.Server)
	}
	return nil, nil
}

// NameReplicas names the replicas that were given no name: as their servers,
// with the share where one server has several.
func NameReplicas(set *model.ReplicaSet) error {
	count := map[string]int{}
	for _, r := range set.Replicas {
		count[r.Server]++
	}
	taken := map[string]bool{}
	for i := range set.Replicas {
		r := &set.Replicas[i]
		if r.Name == "" {
			r.Name = r.Server
			if count[r.Server] > 1 {
				r.Name = strings.ReplaceAll(strings.Trim(r.Server+" "+r.Share+" "+r.Sub, " "), "/", " ")
			}
		}
		if err := namespace.CheckElement(Field(i, "name"), r.Name); err != nil {
			return err
		}
		if taken[namespace.Key(r.Name)] {
			return fault.Field(Field(i, "name"), "give each replica a name of its own", "two replicas are called %q", r.Name)
		}
		taken[namespace.Key(r.Name)] = true
	}
	return nil
}

// Apart returns a fault when one replica of a set lies in another.
func Apart(set *model.ReplicaSet) error {
	for i, a := range set.Replicas {
		for _, b := range set.Replicas[:i] {
			if a.Server == b.Server && a.Share == b.Share && Overlaps(a.Sub, b.Sub) {
				return fault.Field(Field(i, "sub"), "choose a folder that is not inside or around it", "%s is %s %s", a.Target(), relation(a.Sub, b.Sub), b.Target())
			}
		}
	}
	return nil
}

// Overlaps reports whether two folders of a share are one, or one is in the other.
func Overlaps(a, b string) bool { return relation(a, b) != "" }

func relation(a, b string) string { return paths.Relation(tree.Key(a, false), tree.Key(b, false)) }

// chooseSeed makes the first replica the seed, when none is.
func chooseSeed(set *model.ReplicaSet) error {
	seeds := 0
	for i, r := range set.Replicas {
		if r.Seed {
			if seeds++; seeds > 1 {
				return fault.Field(Field(i, "seed"), "choose one", "only one replica can win the first fill")
			}
		}
	}
	if seeds == 0 {
		set.Replicas[0].Seed = true
	}
	return nil
}

// layLanes lays the lanes of a layout; given are those with a calendar of their
// own, and all of a custom layout. Replicas are numbered here by their places.
func layLanes(set *model.ReplicaSet, given []model.NewLane) error {
	var ids []replica.ID
	for i := range set.Replicas {
		ids = append(ids, replica.ID(i))
	}
	lanes := Lay(set.Layout, ids)
	own := map[replica.Lane]string{}
	for i, g := range given {
		from, err := PlaceOf(set, fieldOf("lanes", i, "from"), g.From)
		if err != nil {
			return err
		}
		to, err := PlaceOf(set, fieldOf("lanes", i, "to"), g.To)
		if err != nil {
			return err
		}
		l := replica.Lane{From: replica.ID(from), To: replica.ID(to)}
		switch {
		case from == to:
			return fault.Field(fieldOf("lanes", i, "to"), "name another replica", "a lane cannot lead from %s to itself", g.From)
		case set.Layout != model.LayoutCustom && !slices.Contains(lanes, l):
			return fault.Field(fieldOf("lanes", i, "to"), "choose the layout custom, or leave it out", "no lane leads from %s to %s in a %s", g.From, g.To, set.Layout)
		case set.Layout == model.LayoutCustom && slices.Contains(lanes, l):
			return fault.Field(fieldOf("lanes", i, "to"), "leave one out", "the lane from %s to %s is there twice", g.From, g.To)
		case set.Layout == model.LayoutCustom:
			lanes = append(lanes, l)
		}
		if g.Calendar != "" {
			if _, err := calendar.Parse(fieldOf("lanes", i, "calendar"), g.Calendar); err != nil {
				return err
			}
		}
		own[l] = g.Calendar
	}
	for i, r := range set.Replicas {
		if set.Replicas[i].Seed {
			if left := replica.Unreached(replica.ID(i), ids, lanes); len(left) > 0 {
				return fault.Field("lanes", "add a lane that leads there", "no way leads from the seed %s to %s", r.Name, set.Replicas[left[0]].Name)
			}
		}
	}
	for _, l := range lanes {
		set.Lanes = append(set.Lanes, model.Lane{From: set.Replicas[l.From].Name, To: set.Replicas[l.To].Name, Calendar: own[l], State: model.LaneNew})
	}
	return nil
}

func fieldOf(list string, i int, name string) string {
	return strings.Replace(Field(i, name), "replicas", list, 1)
}

// Lay lays the lanes of a layout; those of a custom one are given.
func Lay(layout string, ids []replica.ID) []replica.Lane {
	switch layout {
	case model.LayoutMesh:
		return replica.Mesh(ids)
	case model.LayoutHub:
		return replica.Hub(ids[0], ids)
	case model.LayoutChain:
		return replica.Chain(ids)
	}
	return nil
}

func PlaceOf(set *model.ReplicaSet, field, name string) (int, error) {
	for i, r := range set.Replicas {
		if namespace.Key(r.Name) == namespace.Key(name) {
			return i, nil
		}
	}
	return 0, fault.Field(field, "choose one of "+NamesOf(set), "the set has no replica %q", name)
}

func NamesOf(set *model.ReplicaSet) string {
	var list []string
	for _, r := range set.Replicas {
		list = append(list, r.Name)
	}
	return strings.Join(list, ", ")
}

func FindReplica(set *model.ReplicaSet, name string) (*model.Replica, error) {
	for i := range set.Replicas {
		if namespace.Key(set.Replicas[i].Name) == namespace.Key(name) {
			return &set.Replicas[i], nil
		}
	}
	return nil, fault.New(fault.NotFound, "choose one of "+NamesOf(set), "the set %s has no replica %q", set.Name, name)
}

func FindLane(set *model.ReplicaSet, from, to string) (*model.Lane, error) {
	for i := range set.Lanes {
		l := &set.Lanes[i]
		if namespace.Key(l.From) == namespace.Key(from) && namespace.Key(l.To) == namespace.Key(to) {
			return l, nil
		}
	}
	return nil, fault.New(fault.NotFound, "see the lanes with: bspan replica show "+set.Name, "no lane leads from %q to %q in the set %s", from, to, set.Name)
}

// MissingFolders are the folders of a path that are not there, the outermost first.
func MissingFolders(ctx context.Context, t tree.Tree, name string) (missing []string, err error) {
	for ; name != "."; name = path.Dir(name) {
		e, err := t.Stat(ctx, name)
		switch {
		case err == nil && e.Kind != tree.Folder:
			return nil, fault.New(fault.Invalid, "name a folder", "%s is a file", name)
		case err == nil:
			slices.Reverse(missing)
			return missing, nil
		case !IsMissing(err):
			return nil, err
		}
		missing = append(missing, name)
	}
	slices.Reverse(missing)
	return missing, nil
}

// Permissions of a folder that is made, beside a descriptor in its text form.
const (
	RightsInherit = "inherit" // those that the folder above hands down
	RightsOfSeed  = "seed"    // those of the seed's folder
)

// CheckRights returns a fault unless rights are permissions that a folder can be
// made with.
func CheckRights(field, rights string) error {
	if rights == "" || rights == RightsInherit || rights == RightsOfSeed {
		return nil
	}
	d, err := acl.Parse(rights)
	if err != nil {
		return fault.Field(field, "write inherit, seed, or a descriptor such as O:BAG:BAD:P(A;OICI;FA;;;BA)", "%q: %v", rights, err)
	}
	if len(d.Parts().Entries()) == 0 {
		return fault.Field(field, "let somebody in, such as D:P(A;OICI;FA;;;BA)", "%q lets nobody in", rights)
	}
	return nil
}
