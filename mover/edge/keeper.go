package edge

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/guard"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
)

// Settings say where the contents of an edge are.
type Settings struct {
	Bucket Bucket `json:"bucket"`
	// Refused are names of programs that are given no content of stubs.
	Refused []string `json:"refused,omitempty"`
	// Wait is how long a reader waits without any progress, in seconds; 0 is a minute.
	Wait int `json:"wait,omitempty"`
	// Whole: the folder has no stubs, and is to have none. Its files are uploaded only.
	Whole bool `json:"whole,omitempty"`
}

// Bucket is a bucket, or a folder in one, and the access key to open it with. The mover keeps it in memory alone.
type Bucket struct {
	Endpoint  string `json:"endpoint"`
	Plain     bool   `json:"plain,omitempty"`
	Region    string `json:"region"`
	Bucket    string `json:"bucket"`
	Prefix    string `json:"prefix,omitempty"`
	PathStyle bool   `json:"pathStyle,omitempty"`
	Key       string `json:"key"`
	Secret    string `json:"secret"`
	Authority string `json:"authority,omitempty"` // PEM; "" means those of the host
	Proxy     string `json:"proxy,omitempty"`     // HTTP proxy; "" means none
	// ProxyPassword is that of the user that the proxy names.
	ProxyPassword string `json:"proxyPassword,omitempty"`
	Seal          *Seal  `json:"seal,omitempty"` // of a folder whose files are sealed
}

// Seal opens sealed files.
type Seal struct {
	Key   string `json:"key"` // private, in the text form of age
	Names bool   `json:"names,omitempty"`
	// Secret is that of the access key. The one beside the key is wrong: a mover that does not know of sealing
	// cannot open the bucket, and gives nobody encrypted bytes for content.
	Secret string `json:"secret"`
}

// SealWith makes the bucket one whose files are sealed with a key.
func (b *Bucket) SealWith(key *seal.Key) {
	b.Seal = &Seal{Key: key.Identity(), Names: key.SealsNames(), Secret: b.Secret}
	b.Secret = "is in seal" // an empty one would read a public bucket
}

func (b *Bucket) open(ctx context.Context) (*bucket.Tree, error) {
	t := bucket.Target{Endpoint: b.Endpoint, Plain: b.Plain, Region: b.Region, Bucket: b.Bucket, Prefix: b.Prefix, PathStyle: b.PathStyle, Key: b.Key, Secret: b.Secret}
	if b.Seal != nil {
		key, err := seal.ParseKey(b.Seal.Key)
		if err != nil {
			return nil, fmt.Errorf("%w: the key of sealed files: %w", fs.ErrInvalid, err)
		}
		if b.Seal.Names {
			key = key.WithNames()
		}
		t.Seal, t.Secret = key, b.Seal.Secret
	}
	if b.Authority != "" {
		roots, err := bucket.Authority(b.Authority)
		if err != nil {
			return nil, err
		}
		t.Roots = roots
	}
	if b.Proxy != "" {
		proxy, err := bucket.ParseProxy(b.Proxy, b.ProxyPassword)
		if err != nil {
			return nil, fmt.Errorf("%w: the proxy: %w", fs.ErrInvalid, err)
		}
		t.Proxy = proxy
	}
	return bucket.Dial(ctx, t)
}

// NoProxy is the proxy of a keeper that connects to buckets directly, whatever their settings say.
const NoProxy = "none"

// through puts the proxy of this host into the settings of a bucket.
func (k *Keeper) through(b Bucket) Bucket {
	switch k.Proxy {
	case "":
	case NoProxy:
		b.Proxy, b.ProxyPassword = "", ""
	default:
		b.Proxy, b.ProxyPassword = k.Proxy, k.ProxyPassword
	}
	return b
}

// Keeper keeps the edges of a mover.
type Keeper struct {
	State string // file of what it keeps: which folders are edges
	// Folders are those that the mover serves, by their names.
	Folders map[string]string
	// Guard is the command that a guard is started with; nil starts none.
	Guard []string
	// Trigger is the access that fills stubs.
	Trigger Trigger
	// Proxy is the HTTP proxy of this host, or NoProxy; "" goes by the settings of each bucket. ProxyPassword is that of the user that
	// it names.
	Proxy, ProxyPassword string

	changes sync.Mutex // held while edges are made, changed or removed

	mu            sync.Mutex // of what follows
	listener      *Listener
	alive         io.Closer        // open for as long as the mover lives, for its guard
	socket        string           // of its guard
	edges         map[string]*kept // by the paths of their folders
	uploadTargets map[string]*uploadTarget
}

// kept is an edge that is kept.
type kept struct {
	Folder  string   `json:"folder"` // that the mover serves
	Sub     string   `json:"sub,omitempty"`
	Path    string   `json:"path"` // on this host
	Refused []string `json:"refused,omitempty"`
	Wait    int      `json:"wait,omitempty"`

	watched *Watched
}

// Open goes on to watch the folders that were edges when the mover ended. Their readers wait until the service tells
// where contents are.
func (k *Keeper) Open(ctx context.Context) error {
	list, err := readEdges(k.State)
	if err != nil || len(list) == 0 {
		return err
	}
	defer func() { // from now on we do that ourselves
		if err := EndGuards(ctx, filepath.Dir(k.State), k.socket); err != nil {
			slog.Error("the guard of another mover does not end", "error", err)
		}
	}()
	var failed []error
	for _, e := range list {
		if err := k.watch(ctx, e); err != nil {
			failed = append(failed, fmt.Errorf("edge %s: %w", path.Join(e.Folder, e.Sub), err))
		}
	}
	return errors.Join(failed...)
}

// readEdges reads which folders are edges.
func readEdges(state string) (list []*kept, err error) {
	text, err := os.ReadFile(state)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &list)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", state, err)
	}
	return list, nil
}

// Close ends watching. What is kept of the edges stays.
func (k *Keeper) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	l := k.listener
	if l == nil {
		return nil
	}
	k.listener, k.edges, k.uploadTargets = nil, nil, nil
	return l.Close()
}

// pathOf is where an edge is on this host, without links.
func (k *Keeper) pathOf(folder, sub string) (string, error) {
	top, ok := k.Folders[folder]
	if !ok {
		return "", fmt.Errorf("%w: the mover serves no folder %q", fs.ErrNotExist, folder)
	}
	if err := tree.CheckName("edge", path.Join(".", sub)); err != nil {
		return "", err
	}
	full, err := filepath.EvalSymlinks(filepath.Join(top, filepath.FromSlash(sub)))
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(top); err != nil || full != real && !strings.HasPrefix(full, real+"/") {
		return "", errors.Join(fmt.Errorf("%w: %s leads out of the folder", fs.ErrPermission, sub), err)
	}
	return full, nil
}

// watch begins to watch an edge.
func (k *Keeper) watch(ctx context.Context, e *kept) error {
	full, err := k.pathOf(e.Folder, e.Sub)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.listener == nil {
		l, err := Listen(k.Trigger)
		if err != nil {
			return err
		}
		k.listener = l
		guard.Go(func() {
			if err := l.Serve(context.WithoutCancel(ctx)); err != nil {
				slog.Error("stubs are not filled any more", "error", err)
			}
		})
	}
	e.Path = full
	e.watched = &Watched{Path: full, Edge: &Edge{}, Refused: e.Refused}
	e.watched.Edge.SetWait(time.Duration(e.Wait) * time.Second)
	if err := k.listener.Add(e.watched); err != nil {
		return err
	}
	if k.alive == nil && len(k.Guard) > 0 {
		var err error
		if k.alive, err = startGuard(k.listener, k.Guard, k.State, k.guardSocket()); err != nil {
			return err
		}
	}
	if k.edges == nil {
		k.edges = map[string]*kept{}
	}
	k.edges[full] = e
	return nil
}

// guardSocket names the socket of the keeper's guard. k.mu must be held.
func (k *Keeper) guardSocket() string {
	if k.socket == "" {
		k.socket = newGuardSocket()
	}
	return k.socket
}

// Set makes an edge of a folder, or changes one. From then on, files of the folder can be uploaded. It returns the error of the bucket when
// that cannot be opened; the edge stays as it was then.
func (k *Keeper) Set(ctx context.Context, folder, sub string, s Settings) error {
	full, err := k.pathOf(folder, sub)
	if err != nil {
		return err
	}
	b := k.through(s.Bucket)
	source, err := b.open(ctx)
	if err != nil {
		return err
	}
	to, err := newUploadTarget(ctx, source)
	if err != nil {
		return err
	}
	k.changes.Lock()
	defer k.changes.Unlock()
	k.mu.Lock()
	e := k.edges[full]
	if e == nil && s.Whole {
		k.setUploadTarget(full, to)
	}
	k.mu.Unlock()
	if e == nil && s.Whole {
		return nil
	}
	if e == nil {
		e = &kept{Folder: folder, Sub: sub, Refused: s.Refused, Wait: s.Wait}
		if err := k.watch(ctx, e); err != nil {
			return errors.Join(err, source.Close())
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	e.Refused, e.Wait = s.Refused, s.Wait
	k.listener.refuse(e.watched, s.Refused)
	e.watched.Edge.SetWait(time.Duration(s.Wait) * time.Second)
	e.watched.Edge.Use(source)
	k.setUploadTarget(full, to)
	return k.store()
}

// Remove ends an edge, and forgets the bucket of a folder. Its stubs stay stubs, which nobody can read any more.
func (k *Keeper) Remove(folder, sub string) error {
	full, err := k.pathOf(folder, sub)
	if err != nil {
		return err
	}
	k.changes.Lock()
	defer k.changes.Unlock()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.dropUploadTarget(full)
	e := k.edges[full]
	if e == nil {
		return nil
	}
	k.listener.Remove(e.watched)
	delete(k.edges, full)
	return k.store()
}

// store keeps which folders are edges. The secrets of their buckets are not among it.
func (k *Keeper) store() error {
	list := []*kept{}
	for _, e := range k.edges {
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b *kept) int { return strings.Compare(a.watched.Path, b.watched.Path) })
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	if err := os.WriteFile(k.State+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(k.State+".new", k.State)
}

// Status is how an edge is.
type Status struct {
	Edge    bool    `json:"edge"`
	Ready   bool    `json:"ready"`             // contents can be fetched
	Kernel  string  `json:"kernel,omitempty"`  // why stubs cannot be filled when they are used; "" when they can
	FillsOn Trigger `json:"fillsOn,omitempty"` // the trigger of its stubs, or of those it could have
	Counts  Counts  `json:"counts"`
	// What the mover has uploaded to the bucket since it was started: files and their bytes.
	Uploaded      int64 `json:"uploaded"`
	UploadedBytes int64 `json:"uploadedBytes"`
}

// Look tells how an edge is, or whether a folder could become one.
func (k *Keeper) Look(folder, sub string) (s Status, err error) {
	full, err := k.pathOf(folder, sub)
	if err != nil {
		return s, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if to := k.uploadTargets[full]; to != nil {
		s.Ready, s.Uploaded, s.UploadedBytes = true, to.files.Load(), to.bytes.Load()
	}
	if e := k.edges[full]; e != nil {
		s.Edge, s.FillsOn, s.Counts = true, e.watched.trigger, e.watched.Edge.Counts()
		return s, nil
	}
	if s.FillsOn, err = Supported(full, k.Trigger); err != nil {
		s.Kernel = err.Error()
	}
	return s, nil
}

// in is the edge that a path of this host is in, and its name there.
func (k *Keeper) in(full string) (*Edge, string) {
	k.mu.Lock()
	l := k.listener
	k.mu.Unlock()
	if l == nil {
		return nil, ""
	}
	w, name := l.at(full)
	if w == nil {
		return nil, ""
	}
	return w.Edge, name
}

// Fetcher fills the stubs of a folder that the mover serves.
func (k *Keeper) Fetcher(folder string) *Fetcher { return &Fetcher{k, k.Folders[folder]} }

// Fetcher follows [folder.Fetcher]: it asks the edge that a file is in.
type Fetcher struct {
	keeper *Keeper
	top    string
}

// errNoEdge: a stub is in no edge any more.
var errNoEdge = fmt.Errorf("%w: the folder is no edge of a cloud set any more", tree.ErrStub)

func (f *Fetcher) in(name string) (*Edge, string) {
	top, err := filepath.EvalSymlinks(f.top)
	if err != nil {
		return nil, ""
	}
	return f.keeper.in(filepath.Join(top, filepath.FromSlash(name)))
}

func (f *Fetcher) Holds(folder string) bool {
	e, _ := f.in(folder)
	return e != nil
}

func (f *Fetcher) Fill(ctx context.Context, file *os.File, name string, at, n int64) error {
	e, name := f.in(name)
	if e == nil {
		return errNoEdge
	}
	return e.Fill(ctx, file, name, at, n)
}

func (f *Fetcher) Offload(file *os.File, do func() error) error {
	full, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", file.Fd()))
	if err != nil {
		return err
	}
	e, _ := f.keeper.in(full)
	if e == nil {
		return errNoEdge
	}
	return e.Offload(file, do)
}
