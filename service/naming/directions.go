package naming

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/front"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// Where gives directions for a full path such as /trust/herbarium/2024.
func (s *Service) Where(ctx context.Context, full string, who namespace.Traveller) (model.Directions, error) {
	name, _, err := namespace.Split("path", full)
	if err != nil {
		return model.Directions{}, err
	}
	snap, err := s.snapshot(ctx, name)
	if err != nil {
		return model.Directions{}, err
	}
	return snap.where(full, who)
}

// where gives directions for a path of the namespace.
func (snap *snapshot) where(full string, who namespace.Traveller) (model.Directions, error) {
	name, inside, err := namespace.Split("path", full)
	if err != nil {
		return model.Directions{}, err
	}
	if who.Site != "" {
		if who.Site, err = snap.site(who.Site); err != nil {
			return model.Directions{}, err
		}
	}
	place, ok := snap.tree.Resolve(inside)
	if !ok {
		return model.Directions{}, fault.New(fault.NotFound, "see what is there with: bspan namespace tree "+name, "nothing in the namespace is called %s", full).At("path")
	}
	d := model.Directions{Path: full, From: who.Site, As: who.Person, TTL: snap.ttl, Returns: snap.returns, Hiding: snap.hiding, ReadAt: snap.read, Directions: []namespace.Direction{}}
	if place.Signpost == nil {
		d.Kind = string(namespace.Folder)
		for _, child := range place.Children {
			d.Names = append(d.Names, child.Path[strings.LastIndex(child.Path, "/")+1:])
		}
		return d, nil
	}
	d.Kind, d.Signpost, d.Rest = string(namespace.Signpost), "/"+name+"/"+place.Signpost.Path, place.Rest
	if place.Signpost.TTL != 0 {
		d.TTL = place.Signpost.TTL
	}
	d.Directions = namespace.Order(place.Signpost.Locations, who, snap.network)
	return d, nil
}

// WhereNow gives directions from what the records hold at this moment, past
// everything that is remembered.
func (s *Service) WhereNow(ctx context.Context, full string, who namespace.Traveller) (model.Directions, error) {
	name, _, err := namespace.Split("path", full)
	if err != nil {
		return model.Directions{}, err
	}
	snap, err := s.load(ctx, name)
	if err != nil {
		return model.Directions{}, err
	}
	d, err := snap.where(full, who)
	d.Fresh = true
	return d, err
}

// Tree returns a whole namespace as last read, for a gateway.
func (s *Service) Tree(ctx context.Context, name string) (*namespace.Tree, error) {
	snap, err := s.snapshot(ctx, name)
	if err != nil {
		return nil, err
	}
	return snap.tree, nil
}

// Front are what a front of a namespace holds, and what it leaves out. As long as nothing has
// changed, it is read at the same time.
func (s *Service) Front(ctx context.Context, name string, settings front.Settings) (entries []front.Entry, left []front.LeftOut, read time.Time, err error) {
	snap, err := s.snapshot(ctx, name)
	if err != nil {
		return nil, nil, time.Time{}, err
	}
	if top, ok := snap.tree.Resolve(settings.Branch); !ok || top.Signpost != nil {
		return nil, nil, time.Time{}, fault.New(fault.NotFound, "give the front another branch: bspan front edit --branch FOLDER", "there is no folder /%s/%s any more", name, settings.Branch)
	}
	entries, left = front.Entries(snap.tree, snap.network, settings)
	return entries, left, snap.read, nil
}

// Through are the directions that a front gives for a full path. fresh reads past everything that
// is remembered.
func (s *Service) Through(ctx context.Context, full string, settings front.Settings, fresh bool) (model.Directions, error) {
	name, inside, err := namespace.Split("path", full)
	if err != nil {
		return model.Directions{}, err
	}
	read := s.snapshot
	if fresh {
		read = s.load
	}
	snap, err := read(ctx, name)
	if err != nil {
		return model.Directions{}, err
	}
	d, err := snap.where(full, namespace.Traveller{Site: settings.Site})
	if place, ok := snap.tree.Resolve(inside); err == nil && ok && place.Signpost != nil {
		d.Directions = front.Order(place.Signpost.Locations, snap.network, settings)
	}
	d.Fresh = fresh
	return d, err
}

// snapshot is one namespace, as read at one moment.
type snapshot struct {
	tree    *namespace.Tree
	network *namespace.Network
	sites   map[string]string // names by key
	ttl     int
	returns string
	hiding  bool
	read    time.Time
	// era, health and touch are those of the cache when it was read; mark is the
	// last change of health that is in it.
	era, health, touch uint64
	mark               int64
}

func (s *snapshot) site(name string) (string, error) {
	if known, ok := s.sites[namespace.Key(name)]; ok {
		return known, nil
	}
	return "", fault.Field("from", "list the sites with: bspan site list", "no site is called %q", name)
}

// cache holds a snapshot of each namespace that was asked for, so that
// directions do not wait for the database, and are still given without it.
type cache struct {
	mu        sync.Mutex
	snapshots map[string]*snapshot
	era       uint64 // grows when something changed
	health    uint64 // grows when locations were found otherwise
	touch     uint64 // grows when a single entry changed
	touched   []touched
	reading   sync.Mutex
}

// touched is an entry that changed by itself.
type touched struct {
	number     uint64
	name, path string
}

// mostTouched is how many changes of single entries are remembered before all is read anew.
const mostTouched = 256

// ForgetPath makes what changed at a full path be read again when it is next asked for. What is no
// entry by itself makes everything be read again.
func (s *Service) ForgetPath(full string) {
	name, inside, err := namespace.Split("path", full)
	if err != nil || inside == "" {
		s.Forget()
		return
	}
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	if len(s.cache.touched) == mostTouched {
		s.cache.era++
		s.cache.touched = nil
	}
	s.cache.touch++
	s.cache.touched = append(s.cache.touched, touched{s.cache.touch, name, inside})
}

// Forget makes everything be read again when it is next asked for.
func (s *Service) Forget() {
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	s.cache.era++
}

// ForgetHealth makes what was found of locations be read again when it is next
// asked for: of a large namespace that is much less than everything.
func (s *Service) ForgetHealth() {
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	s.cache.health++
}

// times are how far the cache was when something was read.
type times struct{ era, health, touch uint64 }

// known returns the snapshot of a namespace, the paths that changed by themselves since, and whether
// nothing did at all.
func (c *cache) known(name string) (snap *snapshot, now times, paths []string, current bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	snap, now = c.snapshots[name], times{c.era, c.health, c.touch}
	if snap == nil {
		return nil, now, nil, false
	}
	for _, t := range c.touched {
		if t.number > snap.touch && t.name == name && !slices.Contains(paths, t.path) {
			paths = append(paths, t.path)
		}
	}
	return snap, now, paths, snap.era == c.era && snap.health == c.health && len(paths) == 0
}

func (s *Service) snapshot(ctx context.Context, name string) (*snapshot, error) {
	if known, _, _, current := s.cache.known(name); current {
		return known, nil
	}
	// One reads, and whoever else asks meanwhile waits for it.
	s.cache.reading.Lock()
	defer s.cache.reading.Unlock()
	known, now, paths, current := s.cache.known(name)
	if current {
		return known, nil
	}
	fresh, err := s.renewed(ctx, name, known, now, paths)
	if fault.KindOf(err) == fault.Unavailable && known != nil {
		return known, nil // the database is away: what was last read still leads people
	}
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	if err != nil {
		delete(s.cache.snapshots, name)
		return nil, err
	}
	if s.cache.snapshots == nil {
		s.cache.snapshots = map[string]*snapshot{}
	}
	fresh.era, fresh.health, fresh.touch = now.era, now.health, now.touch
	s.cache.snapshots[name] = fresh
	return fresh, nil
}

// renewed is a snapshot as it is now: with what has changed, where that is little.
func (s *Service) renewed(ctx context.Context, name string, known *snapshot, now times, paths []string) (fresh *snapshot, err error) {
	if known == nil || known.era != now.era {
		return s.load(ctx, name)
	}
	fresh = known
	if known.health != now.health {
		fresh, err = s.withHealth(ctx, known)
	}
	for _, path := range paths {
		if err == nil {
			fresh, err = s.withEntry(ctx, name, fresh, path)
		}
		if err == nil && fresh == nil {
			return s.load(ctx, name)
		}
	}
	return fresh, err
}

// withEntry is a snapshot with an entry as it is now; nil when it was added, moved or removed.
func (s *Service) withEntry(ctx context.Context, name string, old *snapshot, path string) (*snapshot, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	fresh := *old
	fresh.read = time.Now().UTC()
	e, err := s.db.EntryAt(ctx, name, path)
	if fault.KindOf(err) == fault.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	next, ok := old.tree.WithEntry(e)
	if !ok {
		return nil, nil
	}
	fresh.tree = next
	return &fresh, nil
}

// withHealth is a snapshot with what was found of its locations since.
func (s *Service) withHealth(ctx context.Context, old *snapshot) (*snapshot, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	fresh := *old
	fresh.read = time.Now().UTC()
	var err error
	if fresh.mark, err = s.db.HealthMark(ctx); err != nil {
		return nil, err
	}
	found, err := s.db.HealthSince(ctx, old.mark)
	fresh.tree = old.tree.With(found)
	return &fresh, err
}

func (s *Service) load(ctx context.Context, name string) (*snapshot, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	now := time.Now().UTC()
	mark, err := s.db.HealthMark(ctx) // first: what is found meanwhile is read once more
	if err != nil {
		return nil, err
	}
	n, err := s.db.Namespace(ctx, name)
	if err != nil {
		return nil, err
	}
	entries, err := s.db.Entries(ctx, name, records.All)
	if err != nil {
		return nil, err
	}
	legs, err := s.db.Legs(ctx)
	if err != nil {
		return nil, err
	}
	sites, err := s.db.Sites(ctx, records.All)
	if err != nil {
		return nil, err
	}
	snap := &snapshot{tree: namespace.NewTree(n.Name, entries), network: namespace.NewNetwork(legs), sites: map[string]string{}, ttl: n.TTL, returns: n.Returns, hiding: n.Hiding, read: now, mark: mark}
	for _, site := range sites {
		snap.sites[namespace.Key(site.Name)] = site.Name
	}
	return snap, nil
}
